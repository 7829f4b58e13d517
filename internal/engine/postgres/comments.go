package postgres

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// comments reads the comments on everything that is dumped, and on the database.
func (r *catalogReader) comments(ctx context.Context) error {
	err := r.rows(ctx, `SELECT d.classoid::regclass::text, d.objoid, i.type, i.identity, d.description
		FROM pg_description d, pg_identify_object(d.classoid, d.objoid, d.objsubid) i
		WHERE d.objoid >= 16384 OR (d.classoid = 'pg_namespace'::regclass AND d.objoid = 'public'::regnamespace AND d.description <> 'standard public schema')`,
		func(rows pgx.Rows) error {
			var class, text string
			var oid uint32
			var kind, identity *string
			if err := rows.Scan(&class, &oid, &kind, &identity, &text); err != nil {
				return err
			}
			owner := key{class, oid}
			n := r.resolve(owner)
			if n == nil || kind == nil || identity == nil {
				return nil // on something that is not dumped: a member of an extension
			}
			o := engine.Object{Kind: "comment", Name: *kind + " " + *identity, Table: n.obj.Table, Section: engine.Finish,
				SQL: "COMMENT ON " + commentTarget(*kind, *identity) + " IS" + space(literal(text)) + ";\n"}
			r.also(rankComment, o, n.key).late = true
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

// commentTarget turns the server's own name for an object into what COMMENT ON
// wants.
func commentTarget(kind, identity string) string {
	switch kind {
	case "table column", "view column":
		return "COLUMN " + identity
	case "table constraint":
		return "CONSTRAINT " + identity
	case "domain constraint":
		return "CONSTRAINT " + strings.Replace(identity, " on ", " ON DOMAIN ", 1)
	}
	return strings.ToUpper(kind) + " " + identity
}
