package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"grainkeep/internal/engine"
)

// ownersRow is a row of owners.sql.
type ownersRow struct {
	OID                      uint32
	Class, Word, Name, Owner string
}

// owners reads who owns what. Sequences that belong to a column follow its table.
func (r *catalogReader) owners(ctx context.Context) error {
	return each(ctx, r, "owners", func(x *ownersRow) error {
		n := r.nodes[key{x.Class, x.OID}]
		if n == nil || n.obj.Kind == "shell type" || n.obj.Kind == "extension" {
			return nil
		}
		if x.Name == "" {
			return gone(n.obj.ID())
		}
		section, rank := engine.Owners, rankOwner
		if n.obj.Section == engine.Active {
			section, rank = engine.Active, n.rank
		}
		r.also(rank, engine.Object{Kind: "owner", Name: strings.ToLower(x.Word) + " " + x.Name, Table: n.obj.Table,
			Section: section,
			Roles:   []string{x.Owner}, SQL: "ALTER " + x.Word + " " + x.Name + " OWNER TO " + x.Owner + ";\n"}, n.key)
		return nil
	})
}

// grantsRow is a row of grants.sql.
type grantsRow struct {
	OID                                            uint32
	Class, Word, Name, Column, Owner, Former, What string
	Door                                           string // the schema that the grantor may not use any more
	Option                                         bool
	Grantee, Grantor                               *string
}

// grants reads the rights on everything, down to columns. Rights that an object
// has by itself are not written.
func (r *catalogReader) grants(ctx context.Context) error {
	type target struct {
		class, word, name, column, owner, former string
		oid                                      uint32
	}
	found := holdings[target]{rights: map[target][]right{}}
	err := each(ctx, r, "grants", func(x *grantsRow) error {
		t := target{class: x.Class, word: x.Word, name: x.Name, column: x.Column, owner: x.Owner, former: x.Former,
			oid: x.OID}
		found.add(t, right{what: x.What, option: x.Option, door: x.Door}, x.Grantee, x.Grantor)
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

// defaultPrivilegesRow is a row of default_privileges.sql.
type defaultPrivilegesRow struct {
	TKind, TSchema, TOwner, GWhat string
	GOption                       bool
	Grantee                       *string
}

// defaultGrants reads the rights that objects made later will have. They come after
// everything is made.
func (r *catalogReader) defaultGrants(ctx context.Context) error {
	words := map[string]string{"r": "TABLES", "S": "SEQUENCES", "f": "ROUTINES", "T": "TYPES", "n": "SCHEMAS",
		"L": "LARGE OBJECTS"}
	type target struct{ kind, schema, owner string }
	found := holdings[target]{rights: map[target][]right{}}
	err := each(ctx, r, "default_privileges", func(x *defaultPrivilegesRow) error {
		var t target
		var g right
		t.kind, t.schema, t.owner, g.what, g.option = x.TKind, x.TSchema, x.TOwner, x.GWhat, x.GOption
		found.add(t, g, x.Grantee, &t.owner)
		return nil
	})
	for _, t := range found.order {
		head := "ALTER DEFAULT PRIVILEGES FOR ROLE " + t.owner
		o := engine.Object{Kind: "default privileges", Name: strings.ToLower(words[t.kind]) + " of " + t.owner,
			Section: engine.Owners, Roles: named(t.owner, found.rights[t])}
		if t.schema != "" {
			head += " IN SCHEMA " + t.schema
			o.Name += " in " + t.schema
		} else {
			o.SQL = fmt.Sprintf("%s REVOKE ALL ON %s FROM PUBLIC;\n%s REVOKE ALL ON %s FROM %s;\n", head,
				words[t.kind], head, words[t.kind], t.owner)
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
	door                   string // a schema that the grantor needs for it and may not use any more
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
				if g.door != "" {
					sql = fmt.Sprintf("GRANT USAGE ON SCHEMA %s TO %s;\n%s;\nREVOKE USAGE ON SCHEMA %s FROM %s", g.door,
						g.grantor, sql, g.door, g.grantor)
				}
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
