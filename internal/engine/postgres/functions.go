package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// functions reads functions, procedures and window functions; those that a range
// type makes for itself are its own. One whose body is parsed when it is made can take
// part in a circle: its outline has a body that is a text, which is not.
func (r *catalogReader) functions(ctx context.Context) error {
	parsed := "NULL::text"
	if r.version >= 140000 {
		parsed = "pg_get_function_sqlbody(p.oid)"
	}
	return r.rows(ctx, `SELECT p.oid, p.prokind::text, (pg_identify_object('pg_proc'::regclass, p.oid, 0)).identity, pg_get_functiondef(p.oid), `+parsed+`
		FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
		WHERE p.prokind IN ('f', 'p', 'w') AND `+ours+` AND `+notMember("pg_proc", "p.oid")+`
		AND NOT EXISTS (SELECT FROM pg_depend x WHERE x.classid = 'pg_proc'::regclass AND x.objid = p.oid AND x.deptype = 'i')`, func(rows pgx.Rows) error {
		var oid uint32
		var kind string
		var name, def, body *string
		if err := rows.Scan(&oid, &kind, &name, &def, &body); err != nil {
			return err
		}
		if name == nil {
			return gone("a function")
		}
		sql, err := define("function", *name, def)
		if err != nil {
			return err
		}
		word := "function"
		if kind == "p" {
			word = "procedure"
		}
		sql = strings.TrimSuffix(sql, "\n")
		n := r.add("pg_proc", oid, rankFunction, engine.Object{Kind: word, Name: *name, Section: engine.Schema, SQL: sql + ";\n"})
		if body != nil {
			n.stub = &engine.Object{Kind: word + " outline", Name: *name, Section: engine.Schema, SQL: strings.TrimSuffix(sql, *body) + "AS '';\n"}
		}
		return nil
	})
}

func (r *catalogReader) aggregates(ctx context.Context) error {
	function := func(column string) string {
		return "CASE WHEN a." + column + "::oid <> 0 THEN a." + column + "::text ELSE '' END"
	}
	modes := `CASE %[1]s WHEN 'r' THEN 'READ_ONLY' WHEN 's' THEN 'SHAREABLE' WHEN 'w' THEN 'READ_WRITE' END`
	return r.rows(ctx, `SELECT p.oid, (pg_identify_object('pg_proc'::regclass, p.oid, 0)).identity, format('%I.%I', n.nspname, p.proname), pg_get_function_arguments(p.oid),
		a.aggkind::text, p.proparallel::text, `+function("aggtransfn")+`, format_type(a.aggtranstype, NULL), a.aggtransspace,
		`+function("aggfinalfn")+`, a.aggfinalextra, `+fmt.Sprintf(modes, "a.aggfinalmodify")+`, `+function("aggcombinefn")+`, `+function("aggserialfn")+`, `+function("aggdeserialfn")+`,
		coalesce(quote_literal(a.agginitval), ''), `+function("aggmtransfn")+`, `+function("aggminvtransfn")+`,
		CASE WHEN a.aggmtranstype <> 0 THEN format_type(a.aggmtranstype, NULL) ELSE '' END, a.aggmtransspace, `+function("aggmfinalfn")+`, a.aggmfinalextra,
		`+fmt.Sprintf(modes, "a.aggmfinalmodify")+`, coalesce(quote_literal(a.aggminitval), ''),
		coalesce((SELECT format('OPERATOR(%I.%s)', sn.nspname, so.oprname) FROM pg_operator so JOIN pg_namespace sn ON sn.oid = so.oprnamespace WHERE so.oid = a.aggsortop), '')
		FROM pg_aggregate a JOIN pg_proc p ON p.oid = a.aggfnoid JOIN pg_namespace n ON n.oid = p.pronamespace
		WHERE `+ours+` AND `+notMember("pg_proc", "p.oid"), func(rows pgx.Rows) error {
		var oid uint32
		var identity *string
		var name, args, kind, parallel string
		var trans, transType, final, finalMode, combine, serial, deserial, start, mtrans, minv, mtype, mfinal, mfinalMode, mstart, sort string
		var space, mspace int32
		var extra, mextra bool
		if err := rows.Scan(&oid, &identity, &name, &args, &kind, &parallel, &trans, &transType, &space, &final, &extra, &finalMode,
			&combine, &serial, &deserial, &start, &mtrans, &minv, &mtype, &mspace, &mfinal, &mextra, &mfinalMode, &mstart, &sort); err != nil {
			return err
		}
		id, err := define("aggregate", name, identity)
		if err != nil {
			return err
		}
		if args == "" {
			args = "*"
		}
		o := options{}
		phase := func(prefix, trans, typ string, space int32, final string, extra bool, mode, start string) {
			o.add(prefix+"SFUNC", trans)
			o.add(prefix+"STYPE", typ)
			if space != 0 {
				o.add(prefix+"SSPACE", fmt.Sprint(space))
			}
			o.add(prefix+"FINALFUNC", final)
			if extra {
				o = append(o, prefix+"FINALFUNC_EXTRA")
			}
			if trans != "" {
				o.add(prefix+"FINALFUNC_MODIFY", mode)
			}
			o.add(prefix+"INITCOND", start)
		}
		phase("", trans, transType, space, final, extra, finalMode, start)
		o.add("COMBINEFUNC", combine)
		o.add("SERIALFUNC", serial)
		o.add("DESERIALFUNC", deserial)
		phase("M", mtrans, mtype, mspace, mfinal, mextra, mfinalMode, mstart)
		o.add("MINVFUNC", minv)
		o.add("SORTOP", sort)
		o.add("PARALLEL", map[string]string{"s": "SAFE", "r": "RESTRICTED"}[parallel])
		if kind == "h" {
			o = append(o, "HYPOTHETICAL")
		}
		r.add("pg_proc", oid, rankOperator, engine.Object{Kind: "aggregate", Name: id, Section: engine.Schema,
			SQL: "CREATE AGGREGATE " + name + "(" + args + ") (" + o.String() + ");\n"})
		return nil
	})
}

// simple reads a kind of object that the server can describe in one query: OID,
// name, and the SQL that makes it.
type simple struct {
	class, kind string
	rank        int
	section     engine.Section
	rule        bool
	query       string
}

func (r *catalogReader) simple(ctx context.Context, s simple) error {
	return r.rows(ctx, s.query, func(rows pgx.Rows) error {
		var oid uint32
		var name string
		var sql *string
		if err := rows.Scan(&oid, &name, &sql); err != nil {
			return err
		}
		if name == "" {
			return gone("a " + s.kind)
		}
		def, err := define(s.kind, name, sql)
		if err != nil {
			return err
		}
		section := s.section
		if section == "" {
			section = engine.Schema
		}
		r.add(s.class, oid, s.rank, engine.Object{Kind: s.kind, Name: name, Section: section, SQL: def + ";\n", Rule: s.rule}).late = section == engine.Finish
		return nil
	})
}
