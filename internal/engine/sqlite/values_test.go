package sqlite

import (
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
)

// TestColumnsOf: the library reads a definition as somebody wrote it, whatever that refers to.
func TestColumnsOf(t *testing.T) {
	t.Parallel()
	got := columnsOf("CREATE TABLE \"odd t\" (id INTEGER PRIMARY KEY, -- a, comment (\n\"a \"\"b\" VARCHAR(20) NOT NULL DEFAULT '(,', paid, day DATE REFERENCES x, " +
		"twice AS (id * 2));\n")
	require.Equal(t, []engine.Column{{Name: "id", Type: "INTEGER", Class: engine.Integer, Key: 1}, {Name: `a "b`, Type: "VARCHAR(20)", Class: engine.Texts,
		NotNull: true}, {Name: "paid", Class: engine.Binary}, {Name: "day", Type: "DATE", Class: engine.Date}}, got)
	for _, more := range []string{"CREATE TABLE (;", "PRAGMA temp_store_directory = '/'", "CREATE TABLE x AS WITH RECURSIVE n(i) AS (SELECT 1 UNION " +
		"ALL SELECT i FROM n) SELECT i FROM n", "CREATE TABLE x (a DEFAULT (SELECT 1))", "ATTACH 'x' AS y"} {
		require.Nil(t, columnsOf(more), more)
	}
	require.Len(t, columnsOf("CREATE TABLE x (a PRIMARY KEY, b UNIQUE CHECK (length(b) > 1)); DROP TABLE x"), 2)
}
