package ask

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
	"grainkeep/internal/manifest"
)

// TestSeen: only conditions that every row of an answer meets are seen; whatever may let others in is left to SQLite.
func TestSeen(t *testing.T) {
	t.Parallel()
	for sql, want := range map[string]string{
		"SELECT a FROM x WHERE a = 1 AND b <> 'o''k' ORDER BY a": "[a=1 b<>o'k]", "select * from \"x\" y where y.a >= -1 and f(a) = 2": "[]",
		"SELECT a FROM x WHERE a = 1 AND (b = 2 OR c = 3) AND c < 5 LIMIT 2": "[a=1 c<5]", "SELECT a FROM x WHERE a = 1 OR b = 2": "[]",
		"SELECT a FROM x WHERE NOT a = 1": "[]", "SELECT a FROM x WHERE a BETWEEN 1 AND 2": "[]", "SELECT a FROM x, y WHERE a = 1": "[]",
		"SELECT a FROM x WHERE a = 1 UNION SELECT a FROM x": "[]", "SELECT a FROM x WHERE a = 'x' COLLATE NOCASE AND b = 7": "[b=7]",
		"SELECT count(*) FILTER (WHERE a = 1) FROM x WHERE b = 1": "[]", "SELECT a FROM x -- WHERE a = 1": "[]", "SELECT a FROM x WHERE 'a' = 1": "[]",
	} {
		said := []string{}
		for _, f := range seen(sql) {
			for _, c := range f.conds {
				said = append(said, c.column+c.operator+c.with.String())
			}
		}
		require.Equal(t, want, fmt.Sprint(said), sql)
	}
	require.Equal(t, []string{"SELECT ';' AS a", "SELECT 2 -- ;\n"}, append(Questions("SELECT ';' AS a;;\nSELECT 2 -- ;\n")[:1], "SELECT 2 -- ;\n"))
}

// TestCells: values mean what they mean to their servers.
func TestCells(t *testing.T) {
	t.Parallel()
	postgres, mysql := engine.RowText{Copied: true, Quote: '"'}, engine.RowText{Backslash: true, Quote: '`'}
	for _, c := range []struct {
		of   engine.RowText
		col  engine.Column
		v    engine.Value
		want string
	}{
		{postgres, engine.Column{Class: engine.Boolean}, engine.Value{Kind: engine.Text, Data: []byte("t")}, "1 1"},
		{postgres, engine.Column{Class: engine.Binary}, engine.Value{Kind: engine.Text, Data: []byte(`\x00ff`)}, "4 x'00ff'"},
		{postgres, engine.Column{Class: engine.Date}, engine.Value{Kind: engine.Text, Data: []byte("2026-03-14 02:30:00.5+00")}, "3 2026-03-14 02:30:00.5"},
		{postgres, engine.Column{Class: engine.Decimal}, engine.Value{Kind: engine.Text, Data: []byte("-0.05")}, "2 -0.05"},
		{postgres, engine.Column{Class: engine.Decimal}, engine.Value{Kind: engine.Text, Data: []byte("NaN")}, "3 NaN"},
		{postgres, engine.Column{Class: engine.Integer}, engine.Value{Kind: engine.Text, Data: []byte("-9223372036854775808")}, "1 -9223372036854775808"},
		{mysql, engine.Column{Class: engine.Integer}, engine.Value{Kind: engine.Number, Data: []byte("18446744073709551615")}, "2 1.8446744073709552e+19"},
		{mysql, engine.Column{Class: engine.Texts, Charset: "latin1"}, engine.Value{Kind: engine.Text, Data: []byte("J\xf8rn")}, "3 Jørn"},
		{mysql, engine.Column{Class: engine.Texts, Charset: "utf16"}, engine.Value{Kind: engine.Bytes, Data: []byte("\x00J\x00\xf8")}, "3 Jø"},
		{mysql, engine.Column{Class: engine.Texts, Charset: "utf8mb4"}, engine.Value{Kind: engine.Text, Data: []byte("\xff")}, "4 x'ff'"},
		{mysql, engine.Column{Class: engine.Texts}, engine.Value{}, "0 "},
	} {
		got := cell(c.of, &c.col, c.v)
		require.Equal(t, c.want, fmt.Sprintf("%d %s", got.Kind, got))
	}
}

// TestSpans: the spans of each engine's dumps are read, and texts that compare by a collation are not taken for bytes.
func TestSpans(t *testing.T) {
	t.Parallel()
	columns := []string{"id", "k"}
	for _, c := range []struct {
		of         engine.RowText
		class      engine.Class
		sql, want  string
		understood bool
	}{
		{engine.RowText{Copied: true, Quote: '"'}, engine.Texts, `("id", k COLLATE "C") > ('5', E'a\\b') AND (id) <= ('9')`,
			`("id", "k") > (?, ?) AND ("id") <= (?) [5 a\b 9]`, true},
		{engine.RowText{Quote: '"'}, engine.Texts, "(id,k)>(1,+CAST(X'41' AS TEXT)) AND (id,k)<=(2,'b')", `("id", "k") > (?, ?) AND ("id", "k") <= (?, ?) [1 A 2 b]`, true},
		{engine.RowText{Backslash: true, Quote: '`'}, engine.Integer, "`id` >= 1 AND (`id` > 1 OR `id` = 1 AND (`k` > 2)) AND `id` <= 9",
			`("id") >= (?) AND (("id") > (?) OR ("id") = (?) AND (("k") > (?))) AND ("id") <= (?) [1 1 1 2 9]`, true},
		{engine.RowText{Backslash: true, Quote: '`'}, engine.Texts, "`k` > convert(x'41' USING utf8mb4) COLLATE utf8mb4_bin", `("k") > (?) [A]`, true},
		{engine.RowText{Backslash: true, Quote: '`'}, engine.Texts, "`k` > convert(x'41' USING utf8mb4) COLLATE utf8mb4_general_ci", "", false},
		{engine.RowText{Quote: '"'}, engine.Integer, "id>1; DROP TABLE x", "", false},
	} {
		x := &table{Table: manifest.Table{Columns: columns}, defined: []engine.Column{{Class: engine.Integer}, {Class: c.class, Charset: "utf8mb4"}}}
		p := &spans{s: &Session{text: c.of}, t: x, rest: c.sql}
		got, err := p.either()
		require.Equal(t, c.understood, err == nil && p.rest == "", "%s: %v, %q", c.sql, err, p.rest)
		if c.understood {
			list := []string{}
			for _, w := range p.with {
				list = append(list, w.String())
			}
			require.Equal(t, c.want, got+" "+fmt.Sprint(list))
		}
	}
}
