package test

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// since says how the scripts of test data read on a server that lacks something.
// GRAINKEEP_POSTGRES names another server's programs, to try that by hand.
var since = []struct {
	version   int
	what, old string
}{
	{15, " UNIQUE NULLS NOT DISTINCT", ""},
	{15, "WITH (security_invoker = true)", ""},
	{15, "stored (id, n) WHERE (id > 5)", "stored"},
	{15, "TABLES IN SCHEMA freight, TABLE paid", "TABLE paid"},
	{15, "GRANT SET ON PARAMETER work_mem TO crew", "SELECT 1"},
	{14, ", binary, streaming", ""},
	{14, "ALTER x SET COMPRESSION pglz, ", ""},
	{14, ", multirange_type_name = draughts", ""},
	{14, " ds draughts,", " ds draught[],"},
	{14, "BEGIN ATOMIC SELECT 1; END", "LANGUAGE sql AS 'SELECT 1'"},
	{14, "BEGIN ATOMIC SELECT ping(); END", "LANGUAGE sql AS 'SELECT 1'"},
	{14, "BEGIN ATOMIC SELECT pong(); END", "LANGUAGE sql AS 'SELECT 1'"},
	{14, "BEGIN ATOMIC SELECT a, b[1]; END", "AS 'SELECT 1, NULL::text'"},
	{14, "'{[1,2),[3,4)}'", `'{"[1,2)","[3,4)"}'`},
	{14, "ON id, (n * 2) FROM", "ON id, n FROM"},
	{13, "ALTER STATISTICS freight.dep SET STATISTICS 33;", ""},
	{13, ", publish_via_partition_root", ""},
	{13, "CREATE TRIGGER own BEFORE INSERT ON sailing_2026_a", "CREATE TRIGGER own AFTER INSERT ON sailing_2026_a"},
	{13, " WITH (FORCE)", ""},
}

// adapted rewrites a script for the server at hand.
func adapted(t *testing.T, s *testserver.Postgres, script string) string {
	t.Helper()
	v := version(t, s)
	for _, x := range since {
		if v < x.version {
			script = strings.ReplaceAll(script, x.what, x.old)
		}
	}
	if v < 13 {
		script = regexp.MustCompile(`([a-z.]+)::regcollation`).ReplaceAllString(script,
			"(SELECT collname FROM pg_collation WHERE oid = $1)")
	}
	return script
}

// testdata reads a script of test data.
func testdata(t *testing.T, s *testserver.Postgres, name string) string {
	t.Helper()
	script, err := os.ReadFile("testdata/" + name)
	require.NoError(t, err)
	return adapted(t, s, string(script))
}
