package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// types reads every type that a table or another type does not bring along.
func (r *catalogReader) types(ctx context.Context) error {
	for _, step := range []func(context.Context) error{r.enums, r.domains, r.composites, r.ranges, r.baseTypes} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// made notes a type and its array type. Where functions need the type and it needs
// them, its name can be given first.
func (r *catalogReader) made(oid, array uint32, kind, name, sql string) *node {
	r.alias[key{"pg_type", array}] = key{"pg_type", oid}
	return r.add("pg_type", oid, rankType, engine.Object{Kind: kind, Name: name, Section: engine.Schema, SQL: sql})
}

func (n *node) withShell() {
	n.stub = &engine.Object{Kind: "shell type", Name: n.obj.Name, Section: engine.Schema, SQL: "CREATE TYPE " + n.obj.Name + ";\n"}
}

func (r *catalogReader) enums(ctx context.Context) error {
	return r.rows(ctx, `SELECT t.oid, t.typarray, format('%I.%I', n.nspname, t.typname),
		(SELECT coalesce(string_agg(quote_literal(e.enumlabel), ', ' ORDER BY e.enumsortorder), '') FROM pg_enum e WHERE e.enumtypid = t.oid)
		FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace
		WHERE t.typtype = 'e' AND `+ours+` AND `+notMember("pg_type", "t.oid"), func(rows pgx.Rows) error {
		var oid, array uint32
		var name, labels string
		if err := rows.Scan(&oid, &array, &name, &labels); err != nil {
			return err
		}
		r.made(oid, array, "enum type", name, "CREATE TYPE "+name+" AS ENUM ("+labels+");\n")
		return nil
	})
}

// collationOf is SQL for a collation's name.
func collationOf(oid string) string {
	return `(SELECT format('%I.%I', cn.nspname, co.collname) FROM pg_collation co JOIN pg_namespace cn ON cn.oid = co.collnamespace WHERE co.oid = ` + oid + `)`
}

func (r *catalogReader) domains(ctx context.Context) error {
	return r.rows(ctx, `SELECT t.oid, t.typarray, format('%I.%I', n.nspname, t.typname), format_type(t.typbasetype, t.typtypmod),
		CASE WHEN t.typcollation <> b.typcollation AND t.typcollation <> 0 THEN ' COLLATE ' || `+collationOf("t.typcollation")+` ELSE '' END
		|| coalesce(' DEFAULT ' || coalesce(pg_get_expr(t.typdefaultbin, 0), quote_literal(t.typdefault)), '')
		|| CASE WHEN t.typnotnull THEN coalesce((SELECT format(' CONSTRAINT %I', k.conname) FROM pg_constraint k WHERE k.contype = 'n' AND k.contypid = t.oid), '') || ' NOT NULL' ELSE '' END
		FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace JOIN pg_type b ON b.oid = t.typbasetype
		WHERE t.typtype = 'd' AND `+ours+` AND `+notMember("pg_type", "t.oid"), func(rows pgx.Rows) error {
		var oid, array uint32
		var name, base string
		var rest *string
		if err := rows.Scan(&oid, &array, &name, &base, &rest); err != nil {
			return err
		}
		def, err := define("domain", name, rest)
		if err != nil {
			return err
		}
		r.made(oid, array, "domain", name, "CREATE DOMAIN "+name+" AS "+base+def+";\n")
		return nil
	})
}

func (r *catalogReader) composites(ctx context.Context) error {
	return r.rows(ctx, `SELECT t.oid, t.typarray, c.oid, format('%I.%I', n.nspname, t.typname),
		coalesce((SELECT string_agg(format('%I %s', a.attname, format_type(a.atttypid, a.atttypmod)) ||
				CASE WHEN a.attcollation <> b.typcollation AND a.attcollation <> 0 THEN ' COLLATE ' || `+collationOf("a.attcollation")+` ELSE '' END, ', ' ORDER BY a.attnum)
			FROM pg_attribute a JOIN pg_type b ON b.oid = a.atttypid WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped), '')
		FROM pg_type t JOIN pg_class c ON c.oid = t.typrelid JOIN pg_namespace n ON n.oid = t.typnamespace
		WHERE c.relkind = 'c' AND `+ours+` AND `+notMember("pg_type", "t.oid"), func(rows pgx.Rows) error {
		var oid, array, class uint32
		var name, columns string
		if err := rows.Scan(&oid, &array, &class, &name, &columns); err != nil {
			return err
		}
		r.alias[key{"pg_class", class}] = key{"pg_type", oid}
		r.made(oid, array, "composite type", name, "CREATE TYPE "+name+" AS ("+columns+");\n")
		return nil
	})
}

func (r *catalogReader) ranges(ctx context.Context) error {
	multi, multiName := "0::oid", "''"
	if r.version >= 140000 {
		multi, multiName = "g.rngmultitypid", "(SELECT format('%I.%I', mn.nspname, m.typname) FROM pg_type m JOIN pg_namespace mn ON mn.oid = m.typnamespace WHERE m.oid = g.rngmultitypid)"
	}
	return r.rows(ctx, `SELECT t.oid, t.typarray, `+multi+`, coalesce((SELECT m.typarray FROM pg_type m WHERE m.oid = `+multi+`), 0),
		format('%I.%I', n.nspname, t.typname), format_type(g.rngsubtype, NULL), format('%I.%I', onsp.nspname, o.opcname),
		CASE WHEN g.rngcollation <> 0 THEN `+collationOf("g.rngcollation")+` ELSE '' END,
		CASE WHEN g.rngcanonical::oid <> 0 THEN g.rngcanonical::text ELSE '' END,
		CASE WHEN g.rngsubdiff::oid <> 0 THEN g.rngsubdiff::text ELSE '' END, `+multiName+`
		FROM pg_range g JOIN pg_type t ON t.oid = g.rngtypid JOIN pg_namespace n ON n.oid = t.typnamespace
		JOIN pg_opclass o ON o.oid = g.rngsubopc JOIN pg_namespace onsp ON onsp.oid = o.opcnamespace
		WHERE `+ours+` AND `+notMember("pg_type", "t.oid"), func(rows pgx.Rows) error {
		var oid, array, multi, multiArray uint32
		var name, sub, class, collation, canonical, diff, multiName string
		if err := rows.Scan(&oid, &array, &multi, &multiArray, &name, &sub, &class, &collation, &canonical, &diff, &multiName); err != nil {
			return err
		}
		o := options{}
		o.add("SUBTYPE", sub)
		o.add("SUBTYPE_OPCLASS", class)
		o.add("COLLATION", collation)
		o.add("CANONICAL", canonical)
		o.add("SUBTYPE_DIFF", diff)
		o.add("MULTIRANGE_TYPE_NAME", multiName)
		n := r.made(oid, array, "range type", name, "CREATE TYPE "+name+" AS RANGE ("+o.String()+");\n")
		if canonical != "" {
			n.withShell()
		}
		r.alias[key{"pg_type", multi}], r.alias[key{"pg_type", multiArray}] = n.key, n.key
		return nil
	})
}

// baseTypes reads the types that functions make, and shells that nobody filled.
func (r *catalogReader) baseTypes(ctx context.Context) error {
	subscript := "''"
	if r.version >= 140000 {
		subscript = "CASE WHEN t.typsubscript::oid <> 0 THEN t.typsubscript::text ELSE '' END"
	}
	function := func(column string) string {
		return "CASE WHEN t." + column + "::oid <> 0 THEN t." + column + "::text ELSE '' END"
	}
	return r.rows(ctx, `SELECT t.oid, t.typarray, t.typisdefined, format('%I.%I', n.nspname, t.typname),
		`+function("typinput")+`, `+function("typoutput")+`, `+function("typreceive")+`, `+function("typsend")+`, `+function("typmodin")+`, `+function("typmodout")+`,
		`+function("typanalyze")+`, `+subscript+`, t.typlen, t.typbyval, t.typalign::text, t.typstorage::text, t.typcategory::text, t.typispreferred,
		coalesce(quote_literal(t.typdefault), ''), CASE WHEN t.typelem <> 0 THEN format_type(t.typelem, NULL) ELSE '' END, t.typdelim::text, t.typcollation <> 0
		FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace
		WHERE (t.typtype = 'b' AND NOT EXISTS (SELECT FROM pg_type e WHERE e.typarray = t.oid) OR t.typtype = 'p' AND NOT t.typisdefined)
		AND `+ours+` AND `+notMember("pg_type", "t.oid"), func(rows pgx.Rows) error {
		var oid, array uint32
		var defined, byValue, preferred, collatable bool
		var name, in, out, receive, send, modIn, modOut, analyze, subscript, align, storage, category, def, elem, delim string
		var length int16
		if err := rows.Scan(&oid, &array, &defined, &name, &in, &out, &receive, &send, &modIn, &modOut, &analyze, &subscript,
			&length, &byValue, &align, &storage, &category, &preferred, &def, &elem, &delim, &collatable); err != nil {
			return err
		}
		if !defined {
			r.made(oid, array, "shell type", name, "CREATE TYPE "+name+";\n")
			return nil
		}
		o := options{}
		for _, f := range [][2]string{{"INPUT", in}, {"OUTPUT", out}, {"RECEIVE", receive}, {"SEND", send}, {"TYPMOD_IN", modIn},
			{"TYPMOD_OUT", modOut}, {"ANALYZE", analyze}, {"SUBSCRIPT", subscript}} {
			o.add(f[0], f[1])
		}
		if length < 0 {
			o.add("INTERNALLENGTH", "VARIABLE")
		} else {
			o.add("INTERNALLENGTH", fmt.Sprint(length))
		}
		if byValue {
			o = append(o, "PASSEDBYVALUE")
		}
		o.add("ALIGNMENT", map[string]string{"c": "char", "s": "int2", "i": "int4", "d": "double"}[align])
		o.add("STORAGE", map[string]string{"p": "plain", "e": "external", "x": "extended", "m": "main"}[storage])
		o.add("CATEGORY", literal(category))
		if preferred {
			o.add("PREFERRED", "true")
		}
		o.add("DEFAULT", def)
		o.add("ELEMENT", elem)
		o.add("DELIMITER", literal(delim))
		if collatable {
			o.add("COLLATABLE", "true")
		}
		r.made(oid, array, "base type", name, "CREATE TYPE "+name+" ("+o.String()+");\n").withShell()
		return nil
	})
}

// options is a list of settings in a definition; empty ones are left out.
type options []string

func (o *options) add(name, value string) {
	if value != "" && value != "-" {
		*o = append(*o, name+" = "+value)
	}
}

func (o options) String() string { return strings.Join(o, ", ") }
