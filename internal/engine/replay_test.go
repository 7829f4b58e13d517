package engine

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestReplayJoinsInserts: rows that follow each other go as one statement, and no others; each statement is counted.
func TestReplayJoinsInserts(t *testing.T) {
	const text = "SET x;\n" +
		"-- transaction 1\nBEGIN;\nINSERT INTO \"t VALUES (\" (\"a\"\"b\") VALUES (1); -- rows: 1\nCOMMIT;\n" +
		"-- transaction 2\nBEGIN;\nINSERT INTO \"t VALUES (\" (\"a\"\"b\") VALUES (2), (3); -- rows: 2\n" +
		"INSERT INTO \"t VALUES (\" (\"c\") VALUES (4); -- rows: 1\nCOMMIT;\n" +
		"-- transaction 3\nBEGIN;\nUPDATE u SET a = ' VALUES (5)'; -- rows: 1\n" +
		"INSERT INTO \"t VALUES (\" (\"c\") VALUES (5); -- rows: 1\nSET CONSTRAINTS ALL DEFERRED;\n" +
		"INSERT INTO \"t VALUES (\" (\"c\") VALUES (6); -- rows: 1\nCOMMIT;\n"
	replay := func(lacking int) (sent []string, touched Touched, err error) {
		touched, err = ReplayBatches(strings.NewReader(text), Which{}, func(int64) {}, Batches{
			Head: func([]byte) error { return nil },
			Send: func(sql []byte) (rows []int64, err error) {
				for _, s := range bytes.Split(sql, []byte(";")) {
					sent = append(sent, string(s))
				}
				rows = []int64{0, 3, 1, 1, 1, 0, 1, 0}
				if lacking >= 0 {
					rows[lacking]--
				}
				return rows, nil
			}})
		return sent, touched, err
	}
	sent, touched, err := replay(-1)
	require.NoError(t, err)
	require.Equal(t, []string{"BEGIN", `INSERT INTO "t VALUES (" ("a""b") VALUES (1), (2), (3)`,
		`INSERT INTO "t VALUES (" ("c") VALUES (4)`, "UPDATE u SET a = ' VALUES (5)'", `INSERT INTO "t VALUES (" ("c") VALUES (5)`,
		"SET CONSTRAINTS ALL DEFERRED", `INSERT INTO "t VALUES (" ("c") VALUES (6)`, "COMMIT"}, sent)
	require.Equal(t, Touched{Inserted: 6, Updated: 1}, touched)
	_, _, err = replay(1)
	require.ErrorContains(t, err, "transaction 1: 3 rows were to change, and there are 2")
}

// TestReplayGoesBack: where statements for many rows do not do, since rows are in each other's way, they go one by one.
func TestReplayGoesBack(t *testing.T) {
	const text = "SET x;\n-- transaction 1\nBEGIN;\nDELETE a; -- rows: 1\nDELETE b; -- rows: 1\nCOMMIT;\n"
	for _, did := range []bool{true, false} {
		var sent []string
		touched, err := ReplayBatches(strings.NewReader(text), Which{}, func(int64) {}, Batches{
			Head:  func([]byte) error { return nil },
			Merge: func([]Statement) []Statement { return []Statement{{[]byte("DELETE a, b"), 2, 1}} },
			Send: func(sql []byte) ([]int64, error) {
				sent = append(sent, string(sql))
				if strings.HasSuffix(string(sql), "DELETE a, b") && !did {
					return []int64{0, 1}, nil
				}
				return map[bool][]int64{true: {0, 2}, false: {1, 1}}[did], nil
			}})
		require.NoError(t, err)
		require.Equal(t, Touched{Removed: 2}, touched)
		want := []string{"BEGIN", "BEGIN", "SAVEPOINT grainkeep_batch;DELETE a, b"}
		if !did {
			want = append(want, "ROLLBACK TO SAVEPOINT grainkeep_batch", "DELETE a;DELETE b")
		}
		require.Equal(t, append(want, "COMMIT"), sent)
	}
}
