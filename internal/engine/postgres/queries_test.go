package postgres

import (
	"io/fs"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestQueriesOfEveryVersion: each file becomes a query of its own for each version; what
// differs, differs.
func TestQueriesOfEveryVersion(t *testing.T) {
	files, err := fs.Glob(queryFiles, "queries/*.sql")
	require.NoError(t, err)
	require.Greater(t, len(files), 50)
	flags := map[string]string{"connection": "s.subconninfo", "of": "SELECT 1, 2, 3", "table": "'t'", "publication": "'p'"}
	differ := map[string]bool{}
	for _, f := range files {
		name := strings.TrimSuffix(strings.TrimPrefix(f, "queries/"), ".sql")
		last := ""
		for version := 12; version <= 18; version++ {
			sql, err := query(version*10000+3, name, flags)
			require.NoError(t, err, f)
			require.NotContains(t, sql, "{{", f)
			require.NotContains(t, sql, "<no value>", f)
			require.Contains(t, sql, "SELECT", f)
			require.Regexp(t, `^[ -~\n\t]*$`, sql, "it is sent in any encoding: %s", f)
			differ[name] = differ[name] || last != "" && last != sql
			last = sql
		}
	}
	for _, name := range []string{"collations", "publications", "subscriptions", "ranges", "base_types", "functions",
		"statistics", "tables", "witness", "columns", "facts", "memberships"} {
		require.True(t, differ[name], name)
	}
	require.False(t, differ["views"])
	old, err := query(140000, "subscriptions", flags)
	require.NoError(t, err)
	require.Contains(t, old, "WHEN s.substream THEN")
	now, err := query(160000, "subscriptions", flags)
	require.NoError(t, err)
	require.Contains(t, now, "CASE s.substream WHEN 't'")
}
