package demo

import (
	"context"
	"crypto/sha256"
	"fmt"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestDataIsAlwaysTheSame(t *testing.T) {
	rows, sum := 0, int64(0)
	h := sha256.New()
	for _, d := range Databases(1) {
		for _, table := range d.Tables {
			for _, r := range table.Rows {
				require.Len(t, r, len(table.Columns), table.Name)
				fmt.Fprintf(h, "%s %#v\n", table.Name, r)
				if table.Name == "posting" {
					sum += r[3].(int64)
				}
				rows++
			}
		}
	}
	require.InDelta(t, 60000, rows, 7000)
	require.Zero(t, sum, "the ledger sums to zero")
	require.Equal(t, "9e988c4cbf17", fmt.Sprintf("%x", h.Sum(nil))[:12], "the same on every machine")
}

func TestEveryEngineHasTheSameTables(t *testing.T) {
	create := regexp.MustCompile(`CREATE TABLE (?:freight\.)?(\w+)`)
	for _, d := range Databases(1) {
		var want []string
		for _, table := range d.Tables {
			want = append(want, table.Name)
		}
		for _, e := range []string{"sqlite", "postgres", "mysql"} {
			before, _, err := d.Schema(e)
			require.NoError(t, err)
			var got []string
			for _, m := range create.FindAllStringSubmatch(before, -1) {
				got = append(got, m[1])
			}
			require.Equal(t, want, got, "%s for %s", d.Name, e)
		}
	}
}

func TestSQLiteFilesHoldWhatTheyShould(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, LoadSQLite(context.Background(), dir, 1))
	for file, query := range map[string]string{
		"bookings.db": `SELECT (SELECT sum(amount) FROM posting) = 0 AND (SELECT count(*) FROM
			pragma_foreign_key_check) = 0
			AND (SELECT count(*) FROM passenger WHERE note LIKE '%' || char(10) || '%') > 0 AND (SELECT count(*)
				FROM passenger WHERE phone IS NULL) > 0`,
		"cargo.db": `SELECT (SELECT count(*) FROM item_search WHERE item_search MATCH 'piano') > 0 AND (SELECT
			max(length(image)) FROM seal_scan) > 2000`,
		"roster.db": `SELECT count(DISTINCT typeof(value)) = 5 FROM setting`,
	} {
		db, err := OpenSQLite(filepath.Join(dir, file))
		require.NoError(t, err)
		var good bool
		require.NoError(t, db.QueryRow(query).Scan(&good))
		require.True(t, good, file)
		require.NoError(t, db.Close())
	}
}
