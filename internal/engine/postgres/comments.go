package postgres

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// comments reads the comments on everything that is dumped, and on the database.
func (r *catalogReader) comments(ctx context.Context) error {
	err := r.rows(ctx, `SELECT d.classoid::regclass::text, d.objoid, i.type, i.identity, d.description,
			coalesce((SELECT conrelid FROM pg_constraint WHERE d.classoid = 'pg_constraint'::regclass AND oid = d.objoid),
				(SELECT tgrelid FROM pg_trigger WHERE d.classoid = 'pg_trigger'::regclass AND oid = d.objoid), 0)
		FROM pg_description d, pg_identify_object(d.classoid, d.objoid, d.objsubid) i
		WHERE d.objoid >= 16384 OR (d.classoid = 'pg_namespace'::regclass AND d.objoid = to_regnamespace('public') AND d.description <> 'standard public schema')`,
		func(rows pgx.Rows) error {
			var class, text string
			var oid, table uint32
			var kind, identity *string
			if err := rows.Scan(&class, &oid, &kind, &identity, &text, &table); err != nil {
				return err
			}
			owner := key{class, oid}
			n := r.resolve(owner)
			if n == nil && table != 0 { // a constraint or trigger that came from a parent
				n = r.nodes[key{"pg_class", table}]
			}
			if n == nil {
				return nil // on something that is not dumped: a member of an extension
			}
			if kind == nil || identity == nil {
				return gone(n.obj.ID())
			}
			section, rank := engine.Finish, rankComment
			if n.obj.Section == engine.Active {
				section, rank = engine.Active, n.rank
			}
			o := engine.Object{Kind: "comment", Name: *kind + " " + *identity, Table: n.obj.Table, Section: section,
				SQL: "COMMENT ON " + sqlTarget(*kind, *identity) + " IS" + space(literal(text)) + ";\n"}
			r.also(rank, o, n.key).late = section == engine.Finish
			return nil
		})
	if err != nil {
		return err
	}
	return r.rows(ctx, `SELECT shobj_description(oid, 'pg_database') FROM pg_database
		WHERE datname = current_database() AND shobj_description(oid, 'pg_database') IS NOT NULL`, func(rows pgx.Rows) error {
		var text string
		if err := rows.Scan(&text); err != nil {
			return err
		}
		r.also(rankComment, engine.Object{Kind: "comment", Name: "database", Section: engine.Finish,
			SQL: "DO $do$BEGIN EXECUTE format('COMMENT ON DATABASE %I IS %L', current_database()," + space(literal(text)) + "); END$do$;\n"})
		return nil
	})
}

func space(s string) string { return " " + strings.TrimPrefix(s, " ") }

// sqlTarget turns the server's own name for an object into what COMMENT ON and the
// like want.
func sqlTarget(kind, identity string) string {
	switch kind {
	case "table column", "view column", "materialized view column", "foreign table column", "composite type column", "partitioned table column":
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
		return "TRANSFORM " + strings.Replace(strings.Replace(identity, "for ", "FOR ", 1), " on language ", " LANGUAGE ", 1)
	}
	return strings.ToUpper(kind) + " " + identity
}

// labels reads security labels. The target must know their provider.
func (r *catalogReader) labels(ctx context.Context) error {
	return r.rows(ctx, `SELECT s.classoid::regclass::text, s.objoid, i.type, i.identity, quote_ident(s.provider), s.label
		FROM pg_seclabel s, pg_identify_object(s.classoid, s.objoid, s.objsubid) i ORDER BY 3, 4, 5`, func(rows pgx.Rows) error {
		var k key
		var kind, identity *string
		var provider, label string
		if err := rows.Scan(&k.class, &k.oid, &kind, &identity, &provider, &label); err != nil {
			return err
		}
		if kind == nil || identity == nil {
			return nil
		}
		o := engine.Object{Kind: "security label", Name: provider + " on " + *kind + " " + *identity, Section: engine.Finish, Rule: true,
			SQL: "SECURITY LABEL FOR " + provider + " ON " + sqlTarget(*kind, *identity) + " IS" + space(literal(label)) + ";\n"}
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
