package postgres

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

func TestGrantsComeInAnOrderThatWorks(t *testing.T) {
	require.Equal(t, `GRANT SELECT ON TABLE t TO a WITH GRANT OPTION;
GRANT INSERT, SELECT ON TABLE t TO owner;
SET SESSION AUTHORIZATION a;
GRANT SELECT ON TABLE t TO b WITH GRANT OPTION;
RESET SESSION AUTHORIZATION;
SET SESSION AUTHORIZATION b;
GRANT SELECT ON TABLE t TO c;
RESET SESSION AUTHORIZATION;
`, grantSQL("TABLE t", "", "owner", []right{
		{"c", "SELECT", "b", "", false}, {"b", "SELECT", "a", "", true}, {"a", "SELECT", "owner", "", true},
		{"owner", "INSERT", "owner", "", false}, {"owner", "SELECT", "owner", "", false},
	}))
	require.Equal(t, "GRANT SELECT (x), UPDATE (x) ON TABLE t TO PUBLIC;\n",
		grantSQL("TABLE t", " (x)", "owner", []right{{"PUBLIC", "SELECT", "owner", "", false}, {"PUBLIC", "UPDATE",
			"owner", "", false}}))
	orphan := grantSQL("TABLE t", "", "owner", []right{{"c", "SELECT", "gone", "galley", false}})
	require.True(t, strings.HasPrefix(orphan, "GRANT USAGE ON SCHEMA galley TO gone;\n") &&
		strings.HasSuffix(orphan, "REVOKE USAGE ON SCHEMA galley FROM gone;\n"), orphan)
	require.Contains(t, orphan, "AUTHORIZATION gone", "a grantor without the option is still tried, not looped on")
}

func TestMissingRoles(t *testing.T) {
	s, _ := fresh(t, "roles", "")
	tgt := &target{s: s}
	missing, err := tgt.Missing(context.Background(), []string{`"Odd ""Role"`, "harbourmaster", "nobody_1",
		"pg_monitor"})
	require.NoError(t, err)
	require.Equal(t, []string{`"Odd ""Role"`, "nobody_1"}, missing)
}

func TestOrder(t *testing.T) {
	r := &catalogReader{nodes: map[key]*node{}, alias: map[key]key{}}
	k := func(oid uint32) key { return key{"pg_class", oid} }
	add := func(oid uint32, rank int, kind string, section engine.Section, late bool, needs ...key) {
		n := r.add("pg_class", oid, rank, engine.Object{Kind: kind, Name: kind, Section: section, SQL: kind}, needs...)
		n.late = late
	}
	add(1, rankSchema, "schema", engine.Schema, false)
	add(2, rankTable, "table", engine.Schema, false, k(1), k(5))
	add(3, rankView, "view", engine.Finish, true, k(2))
	add(4, rankFunction, "function of a view", engine.Schema, false, k(3))
	add(5, rankFunction, "function of the table", engine.Schema, false, k(1), k(6))
	add(6, rankView, "view that the table needs", engine.Finish, true, k(1))
	add(7, rankKey, "key", engine.Keys, false, k(2))
	r.alias[key{"pg_type", 9}] = k(3)
	r.also(rankComment, engine.Object{Kind: "comment", Name: "on the view", Section: engine.Finish, SQL: "c"},
		key{"pg_type", 9})
	list, err := r.order()
	require.NoError(t, err)
	var got []string
	for _, o := range list {
		got = append(got, string(o.Section)+" "+o.Kind)
	}
	require.Equal(t, []string{"10-schema schema", "10-schema view that the table needs",
		"10-schema function of the table", "10-schema table",
		"30-keys key", "50-finish view", "50-finish function of a view", "50-finish comment"}, got)
	require.Equal(t, []string{"function of the table function of the table", "schema schema"}, list[3].Needs)

	r.nodes[k(1)].needs = []key{k(2)}
	_, err = r.order()
	require.True(t, fault.HasCode(err, "cannot-carry"))
	require.Contains(t, err.Error(), "→", "the circle is named")
}

func TestSmallSQL(t *testing.T) {
	require.Equal(t, `'it''s'`, literal("it's"))
	require.Equal(t, ` E'a\\b'`, literal(`a\b`))
	require.Equal(t, "CONSTRAINT c ON DOMAIN public.d", sqlTarget("domain constraint", "c on public.d"))
	require.Equal(t, "COLUMN s.t.c", sqlTarget("view column", "s.t.c"))
	require.Equal(t,
		" TEMPLATE template0 ENCODING 'UTF8' LC_COLLATE 'C' LC_CTYPE 'C' LOCALE_PROVIDER icu ICU_LOCALE 'de-AT'",
		CreateOptions(map[string]string{"encoding": "UTF8", "collate": "C", "ctype": "C", "provider": "i",
			"locale": "de-AT"}))
	require.Equal(t, "COPY s.t (a, b) TO STDOUT", handle{table: "s.t", columns: "a, b"}.copySQL(engine.Part{}))
	require.Equal(t, "COPY (SELECT a FROM ONLY s.t WHERE ctid >= '(0,0)' AND ctid < '(7,0)') TO STDOUT",
		handle{table: "s.t", columns: "a"}.copySQL(engine.Part{To: 7}))
	require.Equal(t, "COPY (SELECT a FROM ONLY s.t WHERE ctid >= '(7,0)') TO STDOUT", handle{table: "s.t",
		columns: "a"}.copySQL(engine.Part{From: 7}))
	require.Contains(t, noTimeouts("17.2 (Debian)"), "transaction_timeout")
	require.NotContains(t, noTimeouts("13.9"), "idle_session_timeout")
	for _, p := range []engine.Purpose{engine.ForDump, engine.ForChanges, engine.ForDrill, engine.ForRestore} {
		sql, err := driver{}.Grants(engine.Location{User: `odd "user`}, p, []string{"a b"})
		require.NoError(t, err)
		require.Contains(t, sql, `CREATE ROLE "odd ""user" LOGIN`)
		require.NotContains(t, sql, "SUPERUSER")
	}
	_, err := driver{}.Grants(engine.Location{}, "fun", nil)
	require.Equal(t, fault.Usage, fault.Of(err).Class)
}

func TestSnapshotsThatBeginBehindTheirEnd(t *testing.T) {
	for text, want := range map[string]string{"4600:4599:": "4600:4600:", "7:9:7,8": "7:9:7,8", "5:5:": "5:5:"} {
		require.Equal(t, want, validSnapshot(text))
	}
}
