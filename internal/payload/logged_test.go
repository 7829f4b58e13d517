package payload

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/manifest"
	"grainkeep/internal/rows"
	"grainkeep/internal/store/folder"
)

// TestStreamsOfALog hands random transactions of many tables on: each group's files hold just its own changes, in
// order, each transaction whole; of a group that was lost nothing counts; and the fingerprint is that of the rows that
// are there.
func TestStreamsOfALog(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 8))
	ctx := context.Background()
	disk, err := folder.Open(t.TempDir())
	require.NoError(t, err)
	s := &SQL{Catalog: &engine.Catalog{Header: "SET x;\n"}, files: blob.NewSet(disk, nil), Compression: blob.Zstd}
	var tables []*engine.Table
	for i := range 12 {
		tables = append(tables, &engine.Table{ID: fmt.Sprintf("t%02d", i), Name: fmt.Sprintf("t%02d", i)})
	}
	groups := newTies()
	groups.tie("t00", "t01")
	groups.tie("t02", "t03")
	l := s.newLogged(ctx, tables, groups, "SET y;\n")
	there := map[string]map[string]bool{} // rows of each table
	said := map[string]*strings.Builder{} // what was handed on of each group
	base := manifest.Table{Sum: rows.Fingerprint{}.String()}
	for n := range 400 {
		touched := map[string]bool{}
		for range 1 + r.IntN(6) {
			table := tables[r.IntN(len(tables))]
			group := groups.group(table.ID)
			if n > 200 && table == tables[3] {
				continue
			}
			if said[group] == nil {
				said[group] = &strings.Builder{}
			}
			if !touched[group] {
				fmt.Fprintf(said[group], "-- %d\n", l.out.Transactions+1)
			}
			touched[group] = true
			if there[table.ID] == nil {
				there[table.ID] = map[string]bool{}
			}
			row := fmt.Sprintf("%d-%d %s", n, r.IntN(1e9), strings.Repeat("x", r.IntN(60_000)))
			if there[table.ID][row] {
				continue
			}
			there[table.ID][row] = true
			l.Row([]byte(row), false)
			line := string(engine.AppendRows([]byte("INSERT INTO "+table.ID+" "+row), 1))
			said[group].WriteString(line)
			require.NoError(t, l.Change(table, []byte(line), engine.Touched{Inserted: 1}))
		}
		require.NoError(t, l.Commit(engine.Commit{Time: time.Unix(int64(n), 0), Position: fmt.Sprint(n), ID: "x"}))
		if n == 200 {
			l.Lose(tables[3], "its structure was changed")
		}
	}
	log, err := l.finish(nil)
	require.NoError(t, err)
	require.Greater(t, log.Transactions, int64(380))
	require.Contains(t, groups.why("t02"), "it changes together with t03")
	require.Len(t, log.Streams, 9, "of ten groups one was lost")
	many := 0
	for _, c := range log.Streams {
		var got strings.Builder
		many += len(c.Files)
		for _, path := range c.Files {
			text := textOf(t, disk, s.files, path)
			require.True(t, strings.HasPrefix(text, loggedHead(s.Catalog)+"SET y;\n-- transaction "), "%.80q", text)
			require.NoError(t, engine.ReadChanges(strings.NewReader(text), func(x engine.ChangeLine) error {
				if x.Begins {
					fmt.Fprintf(&got, "-- %d\n", x.Transaction)
				}
				if x.Rows >= 0 {
					got.Write(engine.AppendRows(bytes.Clone(x.SQL), x.Rows))
				}
				return nil
			}))
		}
		require.Equal(t, said[groups.group(c.Tables[0])].String(), got.String(), c.Tables)
		for _, id := range c.Tables {
			var sum rows.Fingerprint
			for row := range there[id] {
				sum.AddRow([]byte(row))
			}
			now := l.of[id].told[id].of(base)
			require.Equal(t, sum.String(), now.Sum)
			require.EqualValues(t, len(there[id]), now.Rows)
		}
	}
	require.Greater(t, many, len(log.Streams), "some were ended for others")
}

// textOf reads a file of a set back.
func textOf(t *testing.T, disk *folder.Store, files *blob.Set, path string) string {
	for _, i := range files.Files() {
		if i.Path != path {
			continue
		}
		f, err := disk.Open(context.Background(), path, 0, -1)
		require.NoError(t, err)
		source, err := blob.Open(f, blob.Zstd, blob.Bounds{Stored: i.Stored, Raw: i.Raw})
		require.NoError(t, err)
		defer source.Close()
		text, err := io.ReadAll(source)
		require.NoError(t, err)
		return string(text)
	}
	require.Fail(t, "there is no such file", path)
	return ""
}

// TestWhatIsSearched: a key is found where it names a row, and not in other values.
func TestWhatIsSearched(t *testing.T) {
	for _, x := range []struct {
		key, sql string
		found    bool
	}{
		{"4", "UPDATE t SET a = 4 WHERE id = 14", false}, {"14", "UPDATE t SET a = 4 WHERE id = 14", true},
		{"14", "DELETE FROM t WHERE id = '14' AND k = 'x'", true}, {"4", "DELETE FROM t WHERE id = '14' AND k = 4", true},
		{"4", "INSERT INTO t (id, a) VALUES (14,4), (5,4)", false}, {"5", "INSERT INTO t (id, a) VALUES (14,4), (5,4)", true},
	} {
		require.Equal(t, x.found, Search{Key: x.key}.means([]byte(x.sql)), "%s in %s", x.key, x.sql)
	}
	require.Equal(t, "t", engine.TableOf([]byte("DELETE FROM ONLY t WHERE x"), []string{"tt", "t"}))
	require.Empty(t, engine.TableOf([]byte("UPDATE ttt SET x"), []string{"tt", "t"}))
}
