package postgres

import (
	"context"
	"fmt"
	"strings"

	"grainkeep/internal/engine"
)

// operatorName is SQL for OPERATOR(schema.op) of an operator's OID.
func operatorName(oid string) string {
	return `(SELECT format('OPERATOR(%I.%s)', xn.nspname, xo.oprname) FROM pg_operator xo JOIN pg_namespace xn ON
		xn.oid = xo.oprnamespace WHERE xo.oid = ` + oid + `)`
}

// optional is SQL that gives "name = value, " or nothing.
func optional(name, value, unless string) string {
	return fmt.Sprintf("CASE WHEN %s THEN '' ELSE %s || %s END", unless, literal(", "+name+" = "), value)
}

// operators reads operators, their families and classes, casts, conversions,
// collations, languages, transforms and access methods. An operator that was only
// named as another's commutator or negator comes back with that other one.
func (r *catalogReader) operators(ctx context.Context) error {
	list := []simple{
		{class: "pg_am", kind: "access method", rank: rankFunction, query: "access_methods"},
		{class: "pg_language", kind: "language", rank: rankFunction, query: "languages"},
		{class: "pg_collation", kind: "collation", rank: rankType, query: "collations"},
		{class: "pg_conversion", kind: "conversion", rank: rankOperator, query: "conversions"},
		{class: "pg_operator", kind: "operator", rank: rankOperator, query: "operators"},
		{class: "pg_opfamily", kind: "operator family", rank: rankFamily, query: "operator_families"},
		{class: "pg_cast", kind: "cast", rank: rankOperator, query: "casts"},
		{class: "pg_transform", kind: "transform", rank: rankOperator, query: "transforms"},
	}
	for _, s := range list {
		if err := r.simple(ctx, s); err != nil {
			return err
		}
	}
	return r.operatorClasses(ctx)
}

// operatorMembersRow is a row of operator_members.sql.
type operatorMembersRow struct {
	MClass, OnClass, MSql, Family string
	MOID, OnOID                   uint32
	Added                         bool // by somebody, wherever it was added to
}

// operatorClassesRow is a row of operator_classes.sql.
type operatorClassesRow struct {
	OID, Family             uint32
	Name, Head, Storage, In string
}

// operatorClasses reads classes, and what was added to a family later. A member
// stands in the catalogs by itself, and hangs on one or the other.
func (r *catalogReader) operatorClasses(ctx context.Context) error {
	type member struct {
		key
		sql string
	}
	members := map[key][]member{} // by class or family
	families := map[key]string{}
	err := each(ctx, r, "operator_members", func(x *operatorMembersRow) error {
		var m member
		var on key
		m.class, m.oid, on.class, on.oid, m.sql = x.MClass, x.MOID, x.OnClass, x.OnOID, x.MSql
		if on.class == "pg_opfamily" && r.nodes[on] == nil { // the server's own family, or an extension's
			if !x.Added {
				return nil
			}
			families[on] = x.Family
		} else if on.class == "pg_opfamily" {
			families[on] = x.Family
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
	err = each(ctx, r, "operator_classes", func(x *operatorClassesRow) error {
		n := r.add("pg_opclass", x.OID, rankClass, engine.Object{Kind: "operator class", Name: x.Name,
			Section: engine.Schema}, key{"pg_opfamily", x.Family})
		body := list(n.key, n)
		if x.Storage != "" && body != "" {
			body += ", "
		}
		body += x.Storage
		if body == "" {
			body = "STORAGE " + x.In // the grammar wants one entry; this one says nothing new
		}
		n.obj.SQL = x.Head + body + ";\n"
		return nil
	})
	if err != nil {
		return err
	}
	for k, family := range families {
		n := r.add("+members", k.oid, rankClass, engine.Object{Kind: "operator family members", Name: family,
			Section: engine.Schema}, k)
		n.obj.SQL = "ALTER OPERATOR FAMILY " + family + " ADD " + list(k, n) + ";\n"
	}
	return nil
}
