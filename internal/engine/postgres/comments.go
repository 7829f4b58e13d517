package postgres

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// commentsRow is a row of comments.sql.
type commentsRow struct {
	Class, Text    string
	OID            uint32
	Table, Domain  uint32 // of a constraint or a trigger
	Kind, Identity *string
	Ours           bool // not what an extension said of its own when it was made
}

// comments reads the comments on everything that is dumped, and on the database.
func (r *catalogReader) comments(ctx context.Context) error {
	err := each(ctx, r, "comments", func(x *commentsRow) error {
		owner := key{x.Class, x.OID}
		n := r.resolve(owner)
		if n == nil && x.Table != 0 { // a constraint or trigger that came from a parent
			owner = key{"pg_class", x.Table}
			n = r.nodes[owner]
		}
		if n == nil && x.Domain != 0 { // the constraint that it takes no NULL
			owner = key{"pg_type", x.Domain}
			n = r.nodes[owner]
		}
		if n == nil && x.Ours { // on something of an extension's
			n = r.needed(owner)
		}
		if n == nil {
			return nil
		}
		if x.Kind == nil || x.Identity == nil {
			return gone(n.obj.ID())
		}
		section, rank := engine.Finish, rankComment
		if n.obj.Section == engine.Active {
			section, rank = engine.Active, n.rank
		}
		o := engine.Object{Kind: "comment", Name: *x.Kind + " " + *x.Identity, Table: n.obj.Table, Section: section,
			SQL: "COMMENT ON " + sqlTarget(*x.Kind, *x.Identity) + " IS" + space(literal(x.Text)) + ";\n"}
		o.Rule = n.class == "pg_extension" && owner.class != "pg_extension" // another version may lack it
		r.also(rank, o, n.key).late = section == engine.Finish
		return nil
	})
	if err != nil {
		return err
	}
	return r.rows(ctx, `SELECT shobj_description(oid, 'pg_database') FROM pg_database
		WHERE datname = current_database() AND shobj_description(oid, 'pg_database') IS NOT
			NULL`, func(rows pgx.Rows) error {
		var text string
		if err := rows.Scan(&text); err != nil {
			return err
		}
		r.also(rankComment, engine.Object{Kind: "comment", Name: "database", Section: engine.Finish,
			SQL: "DO $do$BEGIN EXECUTE format('COMMENT ON DATABASE %I IS %L', current_database()," +
				space(literal(text)) + "); END$do$;\n"})
		return nil
	})
}

func space(s string) string { return " " + strings.TrimPrefix(s, " ") }

// sqlTarget turns the server's own name for an object into what COMMENT ON and the
// like want.
func sqlTarget(kind, identity string) string {
	switch kind {
	case "table column", "view column", "materialized view column", "foreign table column", "composite type column",
		"partitioned table column":
		return "COLUMN " + identity
	case "table constraint":
		return "CONSTRAINT " + identity
	case "domain constraint":
		return "CONSTRAINT " + strings.Replace(identity, " on ", " ON DOMAIN ", 1)
	case "aggregate":
		return "ROUTINE " + identity // AGGREGATE would want a star in the place of no arguments
	case "foreign-data wrapper":
		return "FOREIGN DATA WRAPPER " + identity
	case "statistics object":
		return "STATISTICS " + identity
	case "partitioned table":
		return "TABLE " + identity
	case "partitioned index":
		return "INDEX " + identity
	case "transform":
		return "TRANSFORM " + strings.Replace(strings.Replace(identity, "for ", "FOR ", 1), " on language ",
			" LANGUAGE ", 1)
	}
	return strings.ToUpper(kind) + " " + identity
}

// securityLabelsRow is a row of security_labels.sql.
type securityLabelsRow struct {
	KClass, Provider, Label string
	KOID                    uint32
	Kind, Identity          *string
}

// labels reads security labels. The target must know their provider.
func (r *catalogReader) labels(ctx context.Context) error {
	return each(ctx, r, "security_labels", func(x *securityLabelsRow) error {
		var k key
		k.class, k.oid = x.KClass, x.KOID
		if x.Kind == nil || x.Identity == nil {
			return nil
		}
		o := engine.Object{Kind: "security label", Name: x.Provider + " on " + *x.Kind + " " + *x.Identity,
			Section: engine.Finish, Rule: true,
			SQL: "SECURITY LABEL FOR " + x.Provider + " ON " + sqlTarget(*x.Kind, *x.Identity) + " IS" +
				space(literal(x.Label)) + ";\n"}
		var needs []key
		if n := r.resolve(k); n != nil {
			o.Table = n.obj.Table
			needs = append(needs, n.key)
		} else if k.class != "pg_largeobject" {
			return nil
		}
		r.also(rankComment, o, needs...).late = true
		return nil
	})
}
