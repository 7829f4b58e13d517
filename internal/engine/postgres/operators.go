package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// operatorName is SQL for OPERATOR(schema.op) of an operator's OID.
func operatorName(oid string) string {
	return `(SELECT format('OPERATOR(%I.%s)', xn.nspname, xo.oprname) FROM pg_operator xo JOIN pg_namespace xn ON xn.oid = xo.oprnamespace WHERE xo.oid = ` + oid + `)`
}

// optional is SQL that gives "name = value, " or nothing.
func optional(name, value, unless string) string {
	return fmt.Sprintf("CASE WHEN %s THEN '' ELSE %s || %s END", unless, literal(", "+name+" = "), value)
}

// operators reads operators, their families and classes, casts, conversions,
// collations, languages, transforms and access methods. An operator that was only
// named as another's commutator or negator comes back with that other one.
func (r *catalogReader) operators(ctx context.Context) error {
	locale, rules := "''", "''"
	switch {
	case r.version >= 170000:
		locale, rules = "co.colllocale", "co.collicurules"
	case r.version >= 160000:
		locale, rules = "co.colliculocale", "co.collicurules"
	case r.version >= 150000:
		locale = "co.colliculocale"
	default: // before, one of the two is the locale of either provider
		locale = "CASE WHEN co.collprovider = 'i' THEN co.collcollate::text END"
	}
	list := []simple{
		{class: "pg_am", kind: "access method", rank: rankFunction, query: `SELECT a.oid, quote_ident(a.amname),
			format('CREATE ACCESS METHOD %I TYPE %s HANDLER %s', a.amname, CASE a.amtype WHEN 't' THEN 'TABLE' ELSE 'INDEX' END, a.amhandler)
			FROM pg_am a WHERE a.oid >= 16384 AND ` + notMember("pg_am", "a.oid")},
		{class: "pg_language", kind: "language", rank: rankFunction, query: `SELECT l.oid, quote_ident(l.lanname), format('CREATE%s LANGUAGE %I HANDLER %s', CASE WHEN l.lanpltrusted THEN ' TRUSTED' ELSE '' END, l.lanname, l.lanplcallfoid::regproc)
			|| CASE WHEN l.laninline <> 0 THEN ' INLINE ' || l.laninline::regproc::text ELSE '' END || CASE WHEN l.lanvalidator <> 0 THEN ' VALIDATOR ' || l.lanvalidator::regproc::text ELSE '' END
			FROM pg_language l WHERE l.oid >= 16384 AND l.lanplcallfoid <> 0 AND ` + notMember("pg_language", "l.oid")},
		{class: "pg_collation", kind: "collation", rank: rankType, query: `SELECT co.oid, format('%I.%I', n.nspname, co.collname), format('CREATE COLLATION %I.%I (PROVIDER = %s', n.nspname, co.collname,
				CASE co.collprovider WHEN 'i' THEN 'icu' WHEN 'b' THEN 'builtin' ELSE 'libc' END)
			|| CASE WHEN co.collprovider = 'c' THEN format(', LC_COLLATE = %L, LC_CTYPE = %L', co.collcollate::text, co.collctype::text) ELSE format(', LOCALE = %L', ` + locale + `) END
			|| CASE WHEN co.collisdeterministic THEN '' ELSE ', DETERMINISTIC = false' END
			|| CASE WHEN ` + rules + ` <> '' THEN format(', RULES = %L', ` + rules + `) ELSE '' END || ')'
			FROM pg_collation co JOIN pg_namespace n ON n.oid = co.collnamespace WHERE ` + ours + ` AND ` + notMember("pg_collation", "co.oid")},
		{class: "pg_conversion", kind: "conversion", rank: rankOperator, query: `SELECT c.oid, format('%I.%I', n.nspname, c.conname), format('CREATE%s CONVERSION %I.%I FOR %L TO %L FROM %s', CASE WHEN c.condefault THEN ' DEFAULT' ELSE '' END,
				n.nspname, c.conname, pg_encoding_to_char(c.conforencoding), pg_encoding_to_char(c.contoencoding), c.conproc)
			FROM pg_conversion c JOIN pg_namespace n ON n.oid = c.connamespace WHERE ` + ours + ` AND ` + notMember("pg_conversion", "c.oid")},
		{class: "pg_operator", kind: "operator", rank: rankOperator, query: `SELECT o.oid, coalesce((pg_identify_object('pg_operator'::regclass, o.oid, 0)).identity, ''), format('CREATE OPERATOR %I.%s (FUNCTION = %s', n.nspname, o.oprname, o.oprcode)
			|| ` + optional("LEFTARG", "format_type(o.oprleft, NULL)", "o.oprleft = 0") + ` || ` + optional("RIGHTARG", "format_type(o.oprright, NULL)", "o.oprright = 0") + `
			|| ` + optional("COMMUTATOR", operatorName("o.oprcom"), "o.oprcom = 0") + ` || ` + optional("NEGATOR", operatorName("o.oprnegate"), "o.oprnegate = 0") + `
			|| ` + optional("RESTRICT", "o.oprrest::text", "o.oprrest::oid = 0") + ` || ` + optional("JOIN", "o.oprjoin::text", "o.oprjoin::oid = 0") + `
			|| CASE WHEN o.oprcanhash THEN ', HASHES' ELSE '' END || CASE WHEN o.oprcanmerge THEN ', MERGES' ELSE '' END || ')'
			FROM pg_operator o JOIN pg_namespace n ON n.oid = o.oprnamespace WHERE o.oprcode::oid <> 0 AND ` + ours + ` AND ` + notMember("pg_operator", "o.oid")},
		{class: "pg_opfamily", kind: "operator family", rank: rankFamily, query: `SELECT f.oid, format('%I.%I USING %I', n.nspname, f.opfname, a.amname), format('CREATE OPERATOR FAMILY %I.%I USING %I', n.nspname, f.opfname, a.amname)
			FROM pg_opfamily f JOIN pg_namespace n ON n.oid = f.opfnamespace JOIN pg_am a ON a.oid = f.opfmethod WHERE ` + ours + ` AND ` + notMember("pg_opfamily", "f.oid")},
		{class: "pg_cast", kind: "cast", rank: rankOperator, query: `SELECT c.oid, format('(%s AS %s)', format_type(c.castsource, NULL), format_type(c.casttarget, NULL)), format('CREATE CAST (%s AS %s) ', format_type(c.castsource, NULL), format_type(c.casttarget, NULL))
			|| CASE c.castmethod WHEN 'f' THEN 'WITH FUNCTION ' || c.castfunc::regprocedure::text WHEN 'i' THEN 'WITH INOUT' ELSE 'WITHOUT FUNCTION' END
			|| CASE c.castcontext WHEN 'a' THEN ' AS ASSIGNMENT' WHEN 'i' THEN ' AS IMPLICIT' ELSE '' END
			FROM pg_cast c WHERE c.oid >= 16384 AND ` + notMember("pg_cast", "c.oid") + ` AND NOT EXISTS (SELECT FROM pg_depend x WHERE x.classid = 'pg_cast'::regclass AND x.objid = c.oid AND x.deptype = 'i')`},
		{class: "pg_transform", kind: "transform", rank: rankOperator, query: `SELECT t.oid, format('for %s language %I', format_type(t.trftype, NULL), l.lanname), format('CREATE TRANSFORM FOR %s LANGUAGE %I (', format_type(t.trftype, NULL), l.lanname)
			|| concat_ws(', ', CASE WHEN t.trffromsql::oid <> 0 THEN 'FROM SQL WITH FUNCTION ' || t.trffromsql::regprocedure::text END, CASE WHEN t.trftosql::oid <> 0 THEN 'TO SQL WITH FUNCTION ' || t.trftosql::regprocedure::text END) || ')'
			FROM pg_transform t JOIN pg_language l ON l.oid = t.trflang WHERE t.oid >= 16384 AND ` + notMember("pg_transform", "t.oid")},
	}
	for _, s := range list {
		if err := r.simple(ctx, s); err != nil {
			return err
		}
	}
	return r.operatorClasses(ctx)
}

// operatorClasses reads classes, and what was added to a family later. A member
// stands in the catalogs by itself, and hangs on one or the other.
func (r *catalogReader) operatorClasses(ctx context.Context) error {
	type member struct {
		key
		sql string
	}
	members := map[key][]member{} // by class or family
	err := r.rows(ctx, `SELECT 'pg_amop', m.oid, d.refclassid::regclass::text, d.refobjid, format('OPERATOR %s %s (%s, %s)', m.amopstrategy, (SELECT format('%I.%s', xn.nspname, xo.oprname) FROM pg_operator xo JOIN pg_namespace xn ON xn.oid = xo.oprnamespace WHERE xo.oid = m.amopopr),
				format_type(m.amoplefttype, NULL), format_type(m.amoprighttype, NULL))
			|| CASE WHEN m.amoppurpose = 'o' THEN ' FOR ORDER BY ' || (SELECT format('%I.%I', fn.nspname, f.opfname) FROM pg_opfamily f JOIN pg_namespace fn ON fn.oid = f.opfnamespace WHERE f.oid = m.amopsortfamily) ELSE '' END
		FROM pg_amop m JOIN pg_depend d ON d.classid = 'pg_amop'::regclass AND d.objid = m.oid AND d.refclassid IN ('pg_opclass'::regclass, 'pg_opfamily'::regclass) AND d.deptype IN ('a', 'i')
		UNION ALL SELECT 'pg_amproc', m.oid, d.refclassid::regclass::text, d.refobjid, format('FUNCTION %s (%s, %s) %s', m.amprocnum, format_type(m.amproclefttype, NULL), format_type(m.amprocrighttype, NULL), m.amproc::regprocedure)
		FROM pg_amproc m JOIN pg_depend d ON d.classid = 'pg_amproc'::regclass AND d.objid = m.oid AND d.refclassid IN ('pg_opclass'::regclass, 'pg_opfamily'::regclass) AND d.deptype IN ('a', 'i')
		ORDER BY 1 DESC, 5`, func(rows pgx.Rows) error {
		var m member
		var on key
		if err := rows.Scan(&m.class, &m.oid, &on.class, &on.oid, &m.sql); err != nil {
			return err
		}
		members[on] = append(members[on], m)
		return nil
	})
	if err != nil {
		return err
	}
	list := func(k key, to *node) string {
		var parts []string
		for _, m := range members[k] {
			parts = append(parts, m.sql)
			r.alias[m.key] = to.key
		}
		return strings.Join(parts, ", ")
	}
	err = r.rows(ctx, `SELECT c.oid, c.opcfamily, format('%I.%I USING %I', n.nspname, c.opcname, a.amname), format('CREATE OPERATOR CLASS %I.%I%s FOR TYPE %s USING %I FAMILY %s AS ', n.nspname, c.opcname,
			CASE WHEN c.opcdefault THEN ' DEFAULT' ELSE '' END, format_type(c.opcintype, NULL), a.amname, (SELECT format('%I.%I', fn.nspname, f.opfname) FROM pg_opfamily f JOIN pg_namespace fn ON fn.oid = f.opfnamespace WHERE f.oid = c.opcfamily)),
		CASE WHEN c.opckeytype <> 0 THEN 'STORAGE ' || format_type(c.opckeytype, NULL) ELSE '' END, format_type(c.opcintype, NULL)
		FROM pg_opclass c JOIN pg_namespace n ON n.oid = c.opcnamespace JOIN pg_am a ON a.oid = c.opcmethod
		WHERE `+ours+` AND `+notMember("pg_opclass", "c.oid"), func(rows pgx.Rows) error {
		var oid, family uint32
		var name, head, storage, in string
		if err := rows.Scan(&oid, &family, &name, &head, &storage, &in); err != nil {
			return err
		}
		n := r.add("pg_opclass", oid, rankClass, engine.Object{Kind: "operator class", Name: name, Section: engine.Schema}, key{"pg_opfamily", family})
		body := list(n.key, n)
		if storage != "" && body != "" {
			body += ", "
		}
		body += storage
		if body == "" {
			body = "STORAGE " + in // the grammar wants one entry; this one says nothing new
		}
		n.obj.SQL = head + body + ";\n"
		return nil
	})
	if err != nil {
		return err
	}
	for k := range members {
		if f := r.nodes[k]; f != nil && k.class == "pg_opfamily" {
			n := r.add("+members", k.oid, rankClass, engine.Object{Kind: "operator family members", Name: f.obj.Name, Section: engine.Schema}, k)
			n.obj.SQL = "ALTER OPERATOR FAMILY " + f.obj.Name + " ADD " + list(k, n) + ";\n"
		}
	}
	return nil
}
