package sqlite

import (
	"context"
	"math"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	lib "modernc.org/sqlite/lib"
)

// TestRealsToTheLastBit loads numbers with this program's library and with the
// stock shell, whose older releases round decimals differently.
func TestRealsToTheLastBit(t *testing.T) {
	values := []float64{0, 1, -1, 0.1, 12.34, 1e15, 1e16, 123456789012345680, 1e22, 1e23, 1e300, -1e-300,
		math.MaxFloat64, math.SmallestNonzeroFloat64,
		2.2250738585072014e-308, 2.225073858507201e-308, math.Inf(1), math.Inf(-1), 9007199254740993,
		0.30000000000000004, 5e-324 * 3, math.Pi, 1.0 / 3}
	r := rand.New(rand.NewPCG(7, 7))
	for range 3000 {
		values = append(values, float64(r.IntN(1e7))/100, math.Float64frombits(r.Uint64()), r.NormFloat64(),
			float64(r.Int64()))
	}
	var sql strings.Builder
	sql.WriteString("CREATE TABLE t (id INTEGER PRIMARY KEY, v);\nBEGIN;\n")
	plainForms := 0
	for i, v := range values {
		if math.IsNaN(v) {
			values[i] = 1
			v = 1
		}
		text := string(appendReal(nil, v))
		if !strings.Contains(text, "<<") {
			plainForms++
		}
		sql.WriteString("INSERT INTO t(v) VALUES(" + text + ");\n")
	}
	sql.WriteString("COMMIT;\n")
	require.Greater(t, plainForms, 3000, "prices and the like stay readable")

	own := filepath.Join(t.TempDir(), "own.db")
	c, err := openConn(own, lib.SQLITE_OPEN_READWRITE|lib.SQLITE_OPEN_CREATE, time.Second)
	require.NoError(t, err)
	require.NoError(t, c.exec(context.Background(), sql.String()))
	require.NoError(t, c.close())
	stock := filepath.Join(t.TempDir(), "stock.db")
	cmd := exec.Command("sqlite3", "-bail", stock)
	cmd.Stdin = strings.NewReader(sql.String())
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)

	for _, path := range []string{own, stock} {
		c, err := openConn(path, lib.SQLITE_OPEN_READONLY, time.Second)
		require.NoError(t, err)
		i := 0
		err = c.each(context.Background(), "SELECT v FROM t ORDER BY id", func(s *stmt) error {
			if math.Float64bits(values[i]) != math.Float64bits(s.real(0)) {
				require.Fail(t, "another number", "%v as %s came back as %v in %s", values[i], appendReal(nil,
					values[i]), s.real(0), path)
			}
			i++
			return nil
		})
		require.NoError(t, err)
		require.Len(t, values, i)
		require.NoError(t, c.close())
	}
}

func TestTextForms(t *testing.T) {
	for in, want := range map[string]string{
		"":             `''`,
		"it's":         `'it''s'`,
		"'":            `''''`,
		"a\nb\r\n":     `'a'||char(10)||'b'||char(13,10)`,
		"\t":           `char(9)`,
		"é 日本 ⚓":       `'é 日本 ⚓'`,
		"a\x00b":       `CAST(X'610062' AS TEXT)`,
		"bad\xff":      `CAST(X'626164ff' AS TEXT)`,
		"del\x7f":      `'del'||char(127)`,
		"\x01it's\x02": `char(1)||'it''s'||char(2)`,
	} {
		require.Equal(t, want, string(appendText(nil, []byte(in))))
	}
	long := strings.Repeat("line\n", maxPieces)
	require.True(t, strings.HasPrefix(string(appendText(nil, []byte(long))), "CAST(X'"), "too deep an expression")
}
