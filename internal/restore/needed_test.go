package restore

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
)

func object(kind, name, table string, needs ...string) manifest.ObjectEntry {
	return manifest.ObjectEntry{Object: engine.Object{Kind: kind, Name: name, Table: table, Needs: needs}}
}

func TestNeeded(t *testing.T) {
	all := []manifest.ObjectEntry{
		object("schema", "s", ""),
		object("type", "s.mood", "", "schema s"),
		object("function", "s.next", "", "schema s"),
		object("function", "s.of_b", "", "table s.b"),
		object("sequence", "s.a_id", "", "schema s"),
		object("table", "s.a", "s.a", "type s.mood", "sequence s.a_id", "function s.next"),
		object("table", "s.b", "s.b", "schema s"),
		object("primary key", "a_pk", "s.a", "table s.a"),
		object("foreign key", "a_b", "s.a", "table s.a", "table s.b"),
		object("check", "uses b", "s.a", "table s.a", "function s.of_b"),
		object("trigger", "a_t", "s.a", "table s.a", "function s.next"),
		object("view", "s.v", "", "table s.a"),
		object("sequence value", "s.a_id", "", "sequence s.a_id"),
		object("comment", "type s.mood", "", "type s.mood"),
		object("comment", "table s.b", "s.b", "table s.b"),
		object("owner", "table s.a", "s.a", "table s.a"),
	}
	ids := func(list []manifest.ObjectEntry) (names []string) {
		for _, o := range list {
			names = append(names, o.ID())
		}
		return names
	}
	require.Equal(t, []string{"schema s", "type s.mood", "function s.next", "sequence s.a_id", "table s.a",
		"primary key a_pk", "trigger a_t",
		"sequence value s.a_id", "comment type s.mood", "owner table s.a"},
		ids(Needed(all, map[string]bool{"s.a": true})))
	both := ids(Needed(all, map[string]bool{"s.a": true, "s.b": true}))
	require.Contains(t, both, "foreign key a_b")
	require.Contains(t, both, "check uses b")
	require.NotContains(t, both, "view s.v", "a view belongs to no table")

	circle := []manifest.ObjectEntry{object("table", "x", "x", "function f"), object("function", "f", "", "table x")}
	require.Len(t, Needed(circle, map[string]bool{"x": true}), 2)
}

func TestPickTables(t *testing.T) {
	m := &manifest.Manifest{Payload: manifest.Payload{SQL: &manifest.SQL{Tables: []manifest.Table{{ID: `s."A b"`,
		Schema: "s", Name: "A b"}, {ID: "s.t", Schema: "s", Name: "t"}, {ID: "z.t", Schema: "z", Name: "t"}}}}}
	for _, name := range []string{`s."A b"`, "A b", "s.A b"} {
		got, err := PickTables(m, []string{name, "z.t"})
		require.NoError(t, err)
		require.Equal(t, map[string]bool{`s."A b"`: true, "z.t": true}, got)
	}
	_, err := PickTables(m, []string{"t"})
	require.True(t, fault.HasCode(err, "table-ambiguous"))
	require.Contains(t, fault.Of(err).Do, "s.t z.t")
	_, err = PickTables(m, []string{"a b"})
	require.True(t, fault.HasCode(err, "table-absent"), "names are literal")
}

func TestPickPartitionedTables(t *testing.T) {
	m := &manifest.Manifest{Payload: manifest.Payload{SQL: &manifest.SQL{Tables: []manifest.Table{{ID: "a.t",
		Schema: "a", Name: "t"}, {ID: "b.t", Schema: "b", Name: "t"}, {ID: "a.only", Schema: "a", Name: "only"},
		{ID: "a.p1", Schema: "a", Name: "p1", Tree: "a.p"}, {ID: "a.p2", Schema: "a", Name: "p2", Tree: "a.p"},
		{ID: "a.h1", Schema: "a", Name: "h1", Tree: "a.h", Through: "a.h"}, {ID: "a.h2", Schema: "a", Name: "h2",
			Tree: "a.h", Through: "a.h"}}}}}
	pick := func(names ...string) string {
		wanted, err := PickTables(m, names)
		if err != nil {
			return err.Error()
		}
		return strings.Join(slices.Sorted(maps.Keys(wanted)), " ")
	}
	require.Equal(t, `the dump has no table "gone"`, pick("only", "gone"))
	require.Equal(t, "a.p a.p1 a.p2", pick("a.p"), "a partitioned table is its partitions")
	require.Equal(t, "a.p1", pick("p1"))
	require.Equal(t, "a.h a.h1 a.h2", pick("h1"), "rows that may land elsewhere take the whole tree")
}
