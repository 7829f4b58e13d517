package postgres

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// extensions reads them as extensions: what they made comes back with them. Only
// the rows of their configuration tables are dumped.
func (r *catalogReader) extensions(ctx context.Context) error {
	procedural := false // plpgsql, which every new database has
	err := r.rows(ctx, `SELECT e.oid, quote_ident(e.extname), format('CREATE EXTENSION %I WITH SCHEMA %I VERSION %L', e.extname, n.nspname, e.extversion)
		FROM pg_extension e JOIN pg_namespace n ON n.oid = e.extnamespace`, func(rows pgx.Rows) error {
		var oid uint32
		var name, sql string
		if err := rows.Scan(&oid, &name, &sql); err != nil {
			return err
		}
		sql += ";\n"
		if name == "plpgsql" {
			procedural, sql = true, ""
		}
		r.add("pg_extension", oid, rankExtension, engine.Object{Kind: "extension", Name: name, Section: engine.Schema, SQL: sql})
		return nil
	})
	if err != nil {
		return err
	}
	if !procedural {
		r.also(rankSchema, engine.Object{Kind: "absence", Name: "plpgsql", Section: engine.Schema, SQL: "DROP EXTENSION IF EXISTS plpgsql;\n"})
	}
	return r.rows(ctx, `SELECT classid::regclass::text, objid, refobjid FROM pg_depend WHERE refclassid = 'pg_extension'::regclass AND deptype = 'e'`, func(rows pgx.Rows) error {
		var k key
		var extension uint32
		if err := rows.Scan(&k.class, &k.oid, &extension); err != nil {
			return err
		}
		r.member[k] = key{"pg_extension", extension}
		return nil
	})
}

// configuration lists the configuration tables of extensions, each with the
// condition that tells the rows which are not the extension's own.
func (r *catalogReader) configuration(ctx context.Context) (map[uint32]string, error) {
	conditions := map[uint32]string{}
	err := r.rows(ctx, `SELECT t.oid, coalesce(e.extcondition[t.n], '') FROM pg_extension e, unnest(e.extconfig) WITH ORDINALITY t(oid, n)
		JOIN pg_class c ON c.oid = t.oid WHERE c.relkind IN ('r', 'p')`, func(rows pgx.Rows) error {
		var oid uint32
		var condition string
		if err := rows.Scan(&oid, &condition); err != nil {
			return err
		}
		condition = strings.TrimSpace(condition)
		if len(condition) > 6 && strings.EqualFold(condition[:6], "WHERE ") {
			condition = condition[6:]
		}
		conditions[oid] = condition
		return nil
	})
	return conditions, err
}

// leans reads what was told to go with an extension (DEPENDS ON EXTENSION).
func (r *catalogReader) leans(ctx context.Context) error {
	return r.rows(ctx, `SELECT d.classid::regclass::text, d.objid, d.refobjid, i.type, i.identity, quote_ident(e.extname), coalesce(t.tgrelid, 0)
		FROM pg_depend d JOIN pg_extension e ON e.oid = d.refobjid LEFT JOIN pg_trigger t ON d.classid = 'pg_trigger'::regclass AND t.oid = d.objid,
		pg_identify_object(d.classid, d.objid, d.objsubid) i
		WHERE i.identity IS NOT NULL AND d.refclassid = 'pg_extension'::regclass AND d.deptype = 'x'`, func(rows pgx.Rows) error {
		var k key
		var extension, table uint32
		var kind, identity, name string
		if err := rows.Scan(&k.class, &k.oid, &extension, &kind, &identity, &name, &table); err != nil {
			return err
		}
		if n := r.resolve(k); n != nil {
			r.also(rankComment, engine.Object{Kind: "dependence", Name: kind + " " + identity + " on " + name, Table: n.obj.Table, Section: engine.Finish,
				SQL: "ALTER " + sqlTarget(kind, identity) + " DEPENDS ON EXTENSION " + name + ";\n"}, n.key, key{"pg_extension", extension}).late = true
		}
		return nil
	})
}
