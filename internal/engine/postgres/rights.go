package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// owned are the kinds of objects that have an owner of their own: class, OID, what
// ALTER calls it, its name, its owner.
const owned = `
	SELECT 'pg_namespace', n.oid, 'SCHEMA', quote_ident(n.nspname), n.nspowner FROM pg_namespace n
		WHERE NOT (n.nspname = 'public' AND (n.nspowner = 10 OR n.nspowner::regrole::text = 'pg_database_owner'))
	UNION ALL SELECT 'pg_type', t.oid, CASE t.typtype WHEN 'd' THEN 'DOMAIN' ELSE 'TYPE' END, format('%I.%I', n.nspname, t.typname), t.typowner
		FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace WHERE t.typisdefined AND OURS
	UNION ALL SELECT 'pg_proc', p.oid, CASE p.prokind WHEN 'p' THEN 'PROCEDURE' WHEN 'a' THEN 'ROUTINE' ELSE 'FUNCTION' END,
		coalesce((pg_identify_object('pg_proc'::regclass, p.oid, 0)).identity, ''), p.proowner FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE OURS
	UNION ALL SELECT 'pg_class', c.oid, CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'S' THEN 'SEQUENCE' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'f' THEN 'FOREIGN TABLE' ELSE 'TABLE' END,
		format('%I.%I', n.nspname, c.relname), c.relowner
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p', 'f', 'v', 'm', 'S') AND c.relpersistence <> 't' AND OURS
		AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND c.relkind = 'S'
			AND d.refclassid = 'pg_class'::regclass AND d.deptype IN ('a', 'i'))
	UNION ALL SELECT 'pg_operator', o.oid, 'OPERATOR', coalesce((pg_identify_object('pg_operator'::regclass, o.oid, 0)).identity, ''), o.oprowner FROM pg_operator o WHERE o.oid >= 16384
	UNION ALL SELECT 'pg_opclass', o.oid, 'OPERATOR CLASS', coalesce((pg_identify_object('pg_opclass'::regclass, o.oid, 0)).identity, ''), o.opcowner FROM pg_opclass o WHERE o.oid >= 16384
	UNION ALL SELECT 'pg_opfamily', o.oid, 'OPERATOR FAMILY', coalesce((pg_identify_object('pg_opfamily'::regclass, o.oid, 0)).identity, ''), o.opfowner FROM pg_opfamily o WHERE o.oid >= 16384
	UNION ALL SELECT 'pg_collation', o.oid, 'COLLATION', format('%I.%I', n.nspname, o.collname), o.collowner FROM pg_collation o JOIN pg_namespace n ON n.oid = o.collnamespace WHERE OURS
	UNION ALL SELECT 'pg_conversion', o.oid, 'CONVERSION', format('%I.%I', n.nspname, o.conname), o.conowner FROM pg_conversion o JOIN pg_namespace n ON n.oid = o.connamespace WHERE OURS
	UNION ALL SELECT 'pg_statistic_ext', o.oid, 'STATISTICS', format('%I.%I', n.nspname, o.stxname), o.stxowner FROM pg_statistic_ext o JOIN pg_namespace n ON n.oid = o.stxnamespace WHERE OURS
	UNION ALL SELECT 'pg_ts_dict', o.oid, 'TEXT SEARCH DICTIONARY', format('%I.%I', n.nspname, o.dictname), o.dictowner FROM pg_ts_dict o JOIN pg_namespace n ON n.oid = o.dictnamespace WHERE OURS
	UNION ALL SELECT 'pg_ts_config', o.oid, 'TEXT SEARCH CONFIGURATION', format('%I.%I', n.nspname, o.cfgname), o.cfgowner FROM pg_ts_config o JOIN pg_namespace n ON n.oid = o.cfgnamespace WHERE OURS
	UNION ALL SELECT 'pg_language', o.oid, 'LANGUAGE', quote_ident(o.lanname), o.lanowner FROM pg_language o
	UNION ALL SELECT 'pg_foreign_data_wrapper', o.oid, 'FOREIGN DATA WRAPPER', quote_ident(o.fdwname), o.fdwowner FROM pg_foreign_data_wrapper o
	UNION ALL SELECT 'pg_foreign_server', o.oid, 'SERVER', quote_ident(o.srvname), o.srvowner FROM pg_foreign_server o
	UNION ALL SELECT 'pg_event_trigger', o.oid, 'EVENT TRIGGER', quote_ident(o.evtname), o.evtowner FROM pg_event_trigger o
	UNION ALL SELECT 'pg_publication', o.oid, 'PUBLICATION', quote_ident(o.pubname), o.pubowner FROM pg_publication o
	UNION ALL SELECT 'pg_subscription', o.oid, 'SUBSCRIPTION', quote_ident(o.subname), o.subowner FROM pg_subscription o`

// owners reads who owns what. Sequences that belong to a column follow its table.
func (r *catalogReader) owners(ctx context.Context) error {
	sql := "SELECT class, oid, word, name, owner::regrole::text FROM (" + strings.ReplaceAll(owned, "OURS", ours) + ") o(class, oid, word, name, owner)"
	return r.rows(ctx, sql, func(rows pgx.Rows) error {
		var class, word, name, owner string
		var oid uint32
		if err := rows.Scan(&class, &oid, &word, &name, &owner); err != nil {
			return err
		}
		n := r.nodes[key{class, oid}]
		if n == nil || n.obj.Kind == "shell type" || n.obj.Kind == "extension" {
			return nil
		}
		if name == "" {
			return gone(n.obj.ID())
		}
		section, rank := engine.Owners, rankOwner
		if n.obj.Section == engine.Active {
			section, rank = engine.Active, n.rank
		}
		r.also(rank, engine.Object{Kind: "owner", Name: strings.ToLower(word) + " " + name, Table: n.obj.Table, Section: section,
			Roles: []string{owner}, SQL: "ALTER " + word + " " + name + " OWNER TO " + owner + ";\n"}, n.key)
		return nil
	})
}

// granted are the kinds of objects that carry rights: class, OID, column number,
// what GRANT calls it, its name, the column's, the rights, the owner. Objects of the
// server and of extensions count where an administrator changed their rights.
const granted = `
	SELECT 'pg_namespace', n.oid, 0, 'SCHEMA', quote_ident(n.nspname), '', n.nspacl, n.nspowner, n.nspname FROM pg_namespace n
	UNION ALL SELECT 'pg_type', t.oid, 0, 'TYPE', format('%I.%I', n.nspname, t.typname), '', t.typacl, t.typowner, n.nspname
		FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace
	UNION ALL SELECT 'pg_proc', p.oid, 0, CASE p.prokind WHEN 'p' THEN 'PROCEDURE' WHEN 'a' THEN 'ROUTINE' ELSE 'FUNCTION' END,
		coalesce((pg_identify_object('pg_proc'::regclass, p.oid, 0)).identity, ''), '', p.proacl, p.proowner, n.nspname FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE p.proacl IS NOT NULL
	UNION ALL SELECT 'pg_class', c.oid, 0, CASE c.relkind WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END, format('%I.%I', n.nspname, c.relname), '', c.relacl, c.relowner, n.nspname
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relpersistence <> 't'
	UNION ALL SELECT 'pg_class', c.oid, a.attnum, 'TABLE', format('%I.%I', n.nspname, c.relname), quote_ident(a.attname), a.attacl, c.relowner, n.nspname
		FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE a.attacl IS NOT NULL AND NOT a.attisdropped AND c.relpersistence <> 't'
	UNION ALL SELECT 'pg_language', o.oid, 0, 'LANGUAGE', quote_ident(o.lanname), '', o.lanacl, o.lanowner, '' FROM pg_language o
	UNION ALL SELECT 'pg_foreign_data_wrapper', o.oid, 0, 'FOREIGN DATA WRAPPER', quote_ident(o.fdwname), '', o.fdwacl, o.fdwowner, '' FROM pg_foreign_data_wrapper o
	UNION ALL SELECT 'pg_foreign_server', o.oid, 0, 'FOREIGN SERVER', quote_ident(o.srvname), '', o.srvacl, o.srvowner, '' FROM pg_foreign_server o
	UNION ALL SELECT 'pg_largeobject', o.oid, 0, 'LARGE OBJECT', o.oid::text, '', o.lomacl, o.lomowner, '' FROM pg_largeobject_metadata o`

// changedStandard finds changed rights in information_schema, whose first rights the
// server does not record: the schema and its views are there for everybody.
const changedStandard = `(SELECT string_agg(f.grantee || f.privilege_type, ',') FROM aclexplode(o.acl) f WHERE f.grantee <> o.owner)
	IS DISTINCT FROM CASE WHEN o.num > 0 THEN NULL WHEN o.class = 'pg_class' THEN '0SELECT' WHEN o.class = 'pg_namespace' THEN '0USAGE' END`

// grants reads the rights on everything, down to columns. Rights that an object
// has by itself are not written.
func (r *catalogReader) grants(ctx context.Context) error {
	type target struct {
		class, word, name, column, owner, former string
		oid                                      uint32
	}
	found := holdings[target]{rights: map[target][]right{}}
	err := r.rows(ctx, `SELECT o.class, o.oid, o.word, o.name, o.col, o.owner::regrole::text,
			coalesce((SELECT string_agg(DISTINCT f.grantee::regrole::text, ', ') FROM aclexplode(i.initprivs) f WHERE f.grantee <> 0 AND f.grantee <> o.owner), ''),
			coalesce(x.privilege_type, ''), coalesce(x.is_grantable, false),
			CASE x.grantee WHEN 0 THEN 'PUBLIC' ELSE x.grantee::regrole::text END, x.grantor::regrole::text
		FROM (`+granted+`) o(class, oid, num, word, name, col, acl, owner, schema)
		LEFT JOIN pg_init_privs i ON i.classoid = o.class::regclass AND i.objoid = o.oid AND i.objsubid = o.num
		LEFT JOIN LATERAL aclexplode(o.acl) x ON true
		WHERE o.acl IS NOT NULL AND o.acl IS DISTINCT FROM i.initprivs AND o.schema NOT IN ('pg_toast', 'grainkeep_scratch') AND o.schema !~ '^pg_(temp|toast_temp)_'
		AND (o.schema <> 'information_schema' OR `+changedStandard+`)
		ORDER BY 1, 2, 5, x.grantee, x.grantor, x.is_grantable, x.privilege_type`, func(rows pgx.Rows) error {
		var t target
		var g right
		var grantee, grantor *string
		if err := rows.Scan(&t.class, &t.oid, &t.word, &t.name, &t.column, &t.owner, &t.former, &g.what, &g.option, &grantee, &grantor); err != nil {
			return err
		}
		found.add(t, g, grantee, grantor)
		return nil
	})
	if err != nil {
		return err
	}
	for _, t := range found.order {
		k := key{t.class, t.oid}
		o := engine.Object{Kind: "grants", Name: strings.ToLower(t.word) + " " + t.name, Section: engine.Owners}
		var needs []key
		if n := r.resolve(k); n != nil {
			o.Table = n.obj.Table
			needs = append(needs, n.key)
		} else if n = r.needed(k); n != nil || t.oid < 16384 {
			o.Rule = true // an object of an extension or the server: another version may lack it
			if n != nil {
				needs = append(needs, n.key)
			}
		} else if t.class != "pg_largeobject" {
			continue
		}
		if t.name == "" {
			return gone(fmt.Sprintf("the %s with the OID %d", strings.ToLower(t.word), t.oid))
		}
		on, columns := t.word+" "+t.name, ""
		if t.column == "" {
			o.SQL = fmt.Sprintf("REVOKE ALL ON %s FROM PUBLIC;\nREVOKE ALL ON %s FROM %s;\n", on, on, t.owner)
			if t.former != "" {
				o.SQL += fmt.Sprintf("REVOKE ALL ON %s FROM %s;\n", on, t.former)
			}
		} else {
			columns = " (" + t.column + ")"
			o.Name += "." + t.column
		}
		o.SQL += grantSQL(on, columns, t.owner, found.rights[t])
		o.Roles = named(t.owner, found.rights[t])
		r.also(rankGrant, o, needs...)
	}
	return nil
}

// defaultGrants reads the rights that objects made later will have. They come after
// everything is made.
func (r *catalogReader) defaultGrants(ctx context.Context) error {
	words := map[string]string{"r": "TABLES", "S": "SEQUENCES", "f": "ROUTINES", "T": "TYPES", "n": "SCHEMAS", "L": "LARGE OBJECTS"}
	type target struct{ kind, schema, owner string }
	found := holdings[target]{rights: map[target][]right{}}
	err := r.rows(ctx, `SELECT d.defaclobjtype::text, coalesce(quote_ident(n.nspname), ''), d.defaclrole::regrole::text, coalesce(x.privilege_type, ''), coalesce(x.is_grantable, false),
			CASE x.grantee WHEN 0 THEN 'PUBLIC' ELSE x.grantee::regrole::text END
		FROM pg_default_acl d LEFT JOIN pg_namespace n ON n.oid = d.defaclnamespace LEFT JOIN LATERAL aclexplode(d.defaclacl) x ON true
		ORDER BY 1, 2, 3, x.grantee, x.is_grantable, x.privilege_type`, func(rows pgx.Rows) error {
		var t target
		var g right
		var grantee *string
		if err := rows.Scan(&t.kind, &t.schema, &t.owner, &g.what, &g.option, &grantee); err != nil {
			return err
		}
		found.add(t, g, grantee, &t.owner)
		return nil
	})
	for _, t := range found.order {
		head := "ALTER DEFAULT PRIVILEGES FOR ROLE " + t.owner
		o := engine.Object{Kind: "default privileges", Name: strings.ToLower(words[t.kind]) + " of " + t.owner, Section: engine.Owners, Roles: named(t.owner, found.rights[t])}
		if t.schema != "" {
			head += " IN SCHEMA " + t.schema
			o.Name += " in " + t.schema
		} else {
			o.SQL = fmt.Sprintf("%s REVOKE ALL ON %s FROM PUBLIC;\n%s REVOKE ALL ON %s FROM %s;\n", head, words[t.kind], head, words[t.kind], t.owner)
		}
		for _, line := range strings.SplitAfter(grantSQL(words[t.kind], "", t.owner, found.rights[t]), ";\n") {
			if line != "" {
				o.SQL += head + " " + line
			}
		}
		r.also(rankDefaultGrant, o)
	}
	return err
}

// holdings are the rights on some things, in the order in which those came.
type holdings[T comparable] struct {
	order  []T
	rights map[T][]right
}

// add notes a right; without a grantee, just that the thing's list is empty.
func (h *holdings[T]) add(t T, g right, grantee, grantor *string) {
	if _, seen := h.rights[t]; !seen {
		h.order = append(h.order, t)
		h.rights[t] = nil
	}
	if grantee != nil {
		g.grantee, g.grantor = *grantee, *grantor
		h.rights[t] = append(h.rights[t], g)
	}
}

// named are the roles that rights name.
func named(owner string, rights []right) []string {
	list := []string{owner}
	for _, g := range rights {
		for _, role := range []string{g.grantee, g.grantor} {
			if role != "PUBLIC" && !slices.Contains(list, role) {
				list = append(list, role)
			}
		}
	}
	return list
}

// right is one entry of an access list.
type right struct {
	grantee, what, grantor string
	option                 bool
}

// grantSQL writes the rights on an object. Who grants by a grant option must have
// got it before.
func grantSQL(on, columns, owner string, rights []right) string {
	var b strings.Builder
	able := map[string]bool{owner: true}
	for len(rights) > 0 {
		var later []right
		next := map[string]bool{}
		for i := 0; i < len(rights); {
			g, n := rights[i], 1
			what := g.what + columns
			for i+n < len(rights) && sameBut(rights[i+n], g) {
				what += ", " + rights[i+n].what + columns
				n++
			}
			if !able[g.grantor] && len(later)+n < len(rights) {
				later = append(later, rights[i:i+n]...)
				i += n
				continue
			}
			sql := "GRANT " + what + " ON " + on + " TO " + g.grantee
			if g.option {
				sql += " WITH GRANT OPTION"
				next[g.grantee] = true
			}
			if g.grantor != owner {
				sql = "SET SESSION AUTHORIZATION " + g.grantor + ";\n" + sql + ";\nRESET SESSION AUTHORIZATION"
			}
			b.WriteString(sql + ";\n")
			i += n
		}
		for r := range next {
			able[r] = true
		}
		rights = later
	}
	return b.String()
}

func sameBut(a, b right) bool {
	return a.grantee == b.grantee && a.grantor == b.grantor && a.option == b.option
}
