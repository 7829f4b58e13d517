package postgres

import (
	"context"
	"fmt"
	"strings"

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
	n.stub = &engine.Object{Kind: "shell type", Name: n.obj.Name, Section: engine.Schema, SQL: "CREATE TYPE " +
		n.obj.Name + ";\n"}
}

// enumsRow is a row of enums.sql.
type enumsRow struct {
	OID, Array   uint32
	Name, Labels string
}

func (r *catalogReader) enums(ctx context.Context) error {
	return each(ctx, r, "enums", func(x *enumsRow) error {
		r.made(x.OID, x.Array, "enum type", x.Name, "CREATE TYPE "+x.Name+" AS ENUM ("+x.Labels+");\n")
		return nil
	})
}

// collationOf is SQL for a collation's name.
func collationOf(oid string) string {
	return `(SELECT format('%I.%I', cn.nspname, co.collname) FROM pg_collation co JOIN pg_namespace cn ON cn.oid =
		co.collnamespace WHERE co.oid = ` + oid + `)`
}

// domainsRow is a row of domains.sql.
type domainsRow struct {
	OID, Array uint32
	Name, Base string
	Rest       *string
}

func (r *catalogReader) domains(ctx context.Context) error {
	return each(ctx, r, "domains", func(x *domainsRow) error {
		def, err := define("domain", x.Name, x.Rest)
		if err != nil {
			return err
		}
		r.made(x.OID, x.Array, "domain", x.Name, "CREATE DOMAIN "+x.Name+" AS "+x.Base+def+";\n")
		return nil
	})
}

// compositesRow is a row of composites.sql.
type compositesRow struct {
	OID, Array, Class uint32
	Name, Columns     string
}

func (r *catalogReader) composites(ctx context.Context) error {
	return each(ctx, r, "composites", func(x *compositesRow) error {
		r.alias[key{"pg_class", x.Class}] = key{"pg_type", x.OID}
		r.made(x.OID, x.Array, "composite type", x.Name, "CREATE TYPE "+x.Name+" AS ("+x.Columns+");\n")
		return nil
	})
}

// rangesRow is a row of ranges.sql.
type rangesRow struct {
	OID, Array, Multi, MultiArray                           uint32
	Name, Sub, Class, Collation, Canonical, Diff, MultiName string
}

func (r *catalogReader) ranges(ctx context.Context) error {
	return each(ctx, r, "ranges", func(x *rangesRow) error {
		o := options{}
		o.add("SUBTYPE", x.Sub)
		o.add("SUBTYPE_OPCLASS", x.Class)
		o.add("COLLATION", x.Collation)
		o.add("CANONICAL", x.Canonical)
		o.add("SUBTYPE_DIFF", x.Diff)
		o.add("MULTIRANGE_TYPE_NAME", x.MultiName)
		n := r.made(x.OID, x.Array, "range type", x.Name, "CREATE TYPE "+x.Name+" AS RANGE ("+o.String()+");\n")
		if x.Canonical != "" {
			n.withShell()
		}
		r.alias[key{"pg_type", x.Multi}], r.alias[key{"pg_type", x.MultiArray}] = n.key, n.key
		return nil
	})
}

// baseTypesRow is a row of base_types.sql.
type baseTypesRow struct {
	OID, Array                                                                                                  uint32
	Defined, ByValue, Preferred, Collatable                                                                     bool
	Name, In, Out, Receive, Send, ModIn, ModOut, Analyze, Subscript, Align, Storage, Category, Def, Elem, Delim string
	Length                                                                                                      int16
}

// baseTypes reads the types that functions make, and shells that nobody filled.
func (r *catalogReader) baseTypes(ctx context.Context) error {
	return each(ctx, r, "base_types", func(x *baseTypesRow) error {
		if !x.Defined {
			r.made(x.OID, x.Array, "shell type", x.Name, "CREATE TYPE "+x.Name+";\n")
			return nil
		}
		o := options{}
		for _, f := range [][2]string{{"INPUT", x.In}, {"OUTPUT", x.Out}, {"RECEIVE", x.Receive}, {"SEND", x.Send},
			{"TYPMOD_IN", x.ModIn},
			{"TYPMOD_OUT", x.ModOut}, {"ANALYZE", x.Analyze}, {"SUBSCRIPT", x.Subscript}} {
			o.add(f[0], f[1])
		}
		if x.Length < 0 {
			o.add("INTERNALLENGTH", "VARIABLE")
		} else {
			o.add("INTERNALLENGTH", fmt.Sprint(x.Length))
		}
		if x.ByValue {
			o = append(o, "PASSEDBYVALUE")
		}
		o.add("ALIGNMENT", map[string]string{"c": "char", "s": "int2", "i": "int4", "d": "double"}[x.Align])
		o.add("STORAGE", map[string]string{"p": "plain", "e": "external", "x": "extended", "m": "main"}[x.Storage])
		o.add("CATEGORY", literal(x.Category))
		if x.Preferred {
			o.add("PREFERRED", "true")
		}
		o.add("DEFAULT", x.Def)
		o.add("ELEMENT", x.Elem)
		o.add("DELIMITER", literal(x.Delim))
		if x.Collatable {
			o.add("COLLATABLE", "true")
		}
		r.made(x.OID, x.Array, "base type", x.Name, "CREATE TYPE "+x.Name+" ("+o.String()+");\n").withShell()
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
