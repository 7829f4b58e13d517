package postgres

import (
	"context"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

// extensionsRow is a row of extensions.sql.
type extensionsRow struct {
	OID       uint32
	Name, Sql string
}

// versioned is the end of a statement that makes an extension in a version.
var versioned = pattern.Of(` VERSION '(?:[^']|'')*';\n$`)

// extensionMembersRow is a row of extension_members.sql.
type extensionMembersRow struct {
	KClass          string
	KOID, Extension uint32
}

// extensions reads them as extensions: what they made comes back with them. Only
// the rows of their configuration tables are dumped.
func (r *catalogReader) extensions(ctx context.Context) error {
	procedural := false // plpgsql, which every new database has
	err := each(ctx, r, "extensions", func(x *extensionsRow) error {
		x.Sql += ";\n"
		if x.Name == "plpgsql" {
			procedural, x.Sql = true, ""
		}
		newest := versioned().ReplaceAllString(x.Sql, ";\n")
		if newest == x.Sql {
			newest = ""
		}
		r.add("pg_extension", x.OID, rankExtension, engine.Object{Kind: "extension", Name: x.Name,
			Section: engine.Schema, SQL: x.Sql, Otherwise: newest})
		return nil
	})
	if err != nil {
		return err
	}
	if !procedural {
		r.also(rankSchema, engine.Object{Kind: "absence", Name: "plpgsql", Section: engine.Schema,
			SQL: "DROP EXTENSION IF EXISTS plpgsql;\n"})
	}
	return each(ctx, r, "extension_members", func(x *extensionMembersRow) error {
		var k key
		k.class, k.oid = x.KClass, x.KOID
		r.member[k] = key{"pg_extension", x.Extension}
		return nil
	})
}

// extensionConfigurationRow is a row of extension_configuration.sql.
type extensionConfigurationRow struct {
	OID             uint32
	Condition, Name string
	Sequence        bool
	Triggers        bool
}

// configuration lists the configuration tables of extensions, each with the
// condition that tells the rows which are not the extension's own.
func (r *catalogReader) configuration(ctx context.Context) (map[uint32]string, error) {
	conditions := map[uint32]string{}
	err := each(ctx, r, "extension_configuration", func(x *extensionConfigurationRow) error {
		x.Condition = strings.TrimSpace(x.Condition)
		if len(x.Condition) > 6 && strings.EqualFold(x.Condition[:6], "WHERE ") {
			x.Condition = x.Condition[6:]
		}
		if x.Sequence { // its value goes with those rows
			r.seqs = append(r.seqs, sequence{OID: x.OID, Name: x.Name})
			return nil
		}
		conditions[x.OID] = x.Condition
		if x.Triggers { // and keys: its rows come in any order, and as they are
			self := r.member[key{"pg_class", x.OID}]
			r.also(rankColumnOption, engine.Object{Kind: "triggers off", Name: x.Name, Section: engine.Schema,
				Rule: true,
				SQL:  "ALTER TABLE " + r.only(x.OID) + x.Name + " DISABLE TRIGGER ALL;\n"}, self)
			r.also(rankReference, engine.Object{Kind: "triggers on", Name: x.Name, Section: engine.Finish, Rule: true,
				SQL: "ALTER TABLE " + r.only(x.OID) + x.Name + " ENABLE TRIGGER ALL;\n"}, self).late = true
		}
		return nil
	})
	return conditions, err
}

// extensionDictionariesRow is a row of extension_dictionaries.sql.
type extensionDictionariesRow struct {
	Extension     uint32
	Name, Options string
}

// dictionaries are those of extensions that were told something else since.
func (r *catalogReader) dictionaries(ctx context.Context) error {
	return each(ctx, r, "extension_dictionaries", func(x *extensionDictionariesRow) error {
		r.also(rankFamily, engine.Object{Kind: "dictionary options", Name: x.Name, Section: engine.Schema,
			SQL: "ALTER TEXT SEARCH DICTIONARY " + x.Name + " (" + x.Options + ");\n"}, key{"pg_extension",
			x.Extension})
		return nil
	})
}

// extensionDependencesRow is a row of extension_dependences.sql.
type extensionDependencesRow struct {
	KClass, Kind, Identity, Name string
	KOID, Extension, Table       uint32
}

// leans reads what was told to go with an extension (DEPENDS ON EXTENSION).
func (r *catalogReader) leans(ctx context.Context) error {
	return each(ctx, r, "extension_dependences", func(x *extensionDependencesRow) error {
		var k key
		k.class, k.oid = x.KClass, x.KOID
		if n := r.resolve(k); n != nil {
			r.also(rankComment, engine.Object{Kind: "dependence", Name: x.Kind + " " + x.Identity + " on " + x.Name,
				Table: n.obj.Table, Section: engine.Finish,
				SQL: "ALTER " + sqlTarget(x.Kind, x.Identity) + " DEPENDS ON EXTENSION " + x.Name + ";\n"}, n.key,
				key{"pg_extension", x.Extension}).late = true
		}
		return nil
	})
}

// onExtensions marks what hangs on things of extensions: should the extension turn out to
// make it by itself, the restore goes on without.
func (r *catalogReader) onExtensions() {
	for _, n := range r.nodes {
		if n.class != "pg_trigger" && n.class != "pg_rewrite" && n.class != "pg_policy" && n.class != "pg_constraint" &&
			n.rank != rankIndex {
			continue
		}
		for _, k := range n.needs {
			if (k.class == "pg_class" || k.class == "pg_type") && r.resolve(k) == nil && r.member[k] != (key{}) {
				n.obj.Rule = true
			}
		}
	}
}
