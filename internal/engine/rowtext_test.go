package engine

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var (
	copiedText = RowText{Copied: true, Quote: '"'}
	escaped    = RowText{Backslash: true, Quote: '`'}
	quoted     = RowText{Quote: '"'}
)

func ignore([]byte) error { return nil }

// TestRowText: rows of each form come apart into what their servers mean by them, and go together again; whatever is around
// them stays as it is.
func TestRowText(t *testing.T) {
	t.Parallel()
	shown := func(values []Value) string {
		var list []string
		for _, v := range values {
			list = append(list, string("0nxbe"[v.Kind])+":"+string(v.Data))
		}
		return strings.Join(list, " ")
	}
	for _, c := range []struct {
		of         RowText
		file, want string
	}{
		{copiedText, "SET a = 'COPY';\nCOPY public.x (a, b) FROM stdin;\n1\t\\N\ta\\tb\\\\\n\\.\nSET b;\n", "x:1 0: x:a\tb\\"},
		{copiedText, "-- of one table\nCOPY public.\"x\ny;\n\"(a,b) FROM STDIN (FORMAT text);\n1\t2\n\\.\n", "x:1 x:2"},
		{escaped, "INSERT INTO `x` (`a\n VALUES\n`) VALUES\n(-1.5e3,'it\\'s (1), \\Z\\\\',x'00ff',NULL,_utf8mb4'é'),\n('');\n",
			"n:-1.5e3 x:it's (1), \x1a\\ b:\x00\xff 0: x:é | x:"},
		{quoted, "BEGIN;\nINSERT INTO x(a) VALUES\n('o''k',X'00ff',-9e999,'a'||char(9,10)||'''b\\',CAST(X'41' AS TEXT),3.0/(1<<1));\nCOMMIT;\n",
			"x:o'k b:\x00\xff n:-9e999 x:a\t\n'b\\ x:A n:1.5e+00"},
	} {
		var rows []string
		var again strings.Builder
		cutter := c.of.Cutter()
		require.NoError(t, c.of.EachRow(strings.NewReader(c.file), func(row, end []byte) error {
			values, err := cutter.Cut(nil, row)
			require.NoError(t, err)
			rows = append(rows, shown(values))
			back := c.of.AppendRow(nil, values)
			same, err := c.of.Cutter().Cut(nil, back)
			require.NoError(t, err)
			require.Equal(t, shown(values), shown(same), "%s", back)
			require.NotContains(t, string(back), "\n")
			again.Write(append(row, end...))
			return nil
		}, func(line []byte) error {
			again.Write(line)
			return nil
		}))
		require.Equal(t, c.want, strings.Join(rows, " | "))
		require.Equal(t, c.file, again.String())
	}
	for _, wrong := range []string{"INSERT INTO `x` (`a`) VALUES\n(1),\n", "INSERT INTO `x` (`a`) VALUES\n1;\n", "REPLACE INTO x VALUES\n(1);\n",
		"INSERT INTO `x\n VALUES\n"} {
		require.Error(t, escaped.EachRow(strings.NewReader(wrong), func(row, _ []byte) error { return nil }, ignore))
	}
	for text, says := range map[string]string{"COPY x FROM stdin;\n1\n": "no end",
		"COPY x (a) FROM stdin;\n1\n\\.\nCOPY pg_temp.grainkeep_long FROM stdin;\n1\n\\.\n": "32 MiB"} {
		require.ErrorContains(t, copiedText.EachRow(strings.NewReader(text), func(row, _ []byte) error { return nil }, ignore), says)
	}
}

// TestRowChange: statements of changes come apart into columns and values, and go together again as they were.
func TestRowChange(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		of         RowText
		table, sql string
		want       RowChange
	}{
		{copiedText, `public."b(o"`, `INSERT INTO public."b(o" ("id", "a ""b") OVERRIDING SYSTEM VALUE VALUES ('1',E'x\\\n'), (NULL,'')`,
			RowChange{Inserts: true, Columns: []string{"id", `a "b`}, Rows: [][]Value{{{Text, []byte("1")}, {Text, []byte("x\\\n")}},
				{{}, {Text, []byte{}}}}}},
		{copiedText, "public.b", `UPDATE ONLY public.b SET "a" = 'x AND "c" = 1', "d" = NULL WHERE "id" = '2' AND "k" = 'o''k'`,
			RowChange{Set: []Named{{Column: "a", Value: Value{Text, []byte(`x AND "c" = 1`)}}, {Column: "d"}},
				Where: []Named{{Column: "id", Value: Value{Text, []byte("2")}}, {Column: "k", Value: Value{Text, []byte("o'k")}}}}},
		{escaped, "`b`", "UPDATE `b` SET `a` = JSON_SET(`a`, '$.x', 1), `t` = `t` WHERE `n` = convert(x'41' USING latin1) COLLATE " +
			"latin1_bin AND convert(`m` USING binary) = x'ff'", RowChange{
			Set: []Named{{Column: "a", Value: Value{Expression, []byte("JSON_SET(`a`, '$.x', 1)")}},
				{Column: "t", Value: Value{Expression, []byte("`t`")}}},
			Where: []Named{{Column: "n", Value: Value{Bytes, []byte("A")}, Before: "convert(", After: " USING latin1) COLLATE latin1_bin"},
				{Column: "m", Value: Value{Bytes, []byte{255}}, Before: "binary"}}}},
		{escaped, "`b`", "DELETE FROM `b` WHERE `id` = -1", RowChange{Where: []Named{{Column: "id", Value: Value{Number, []byte("-1")}}}}},
	} {
		got, err := c.of.Cutter().Change([]byte(c.sql), c.table)
		require.NoError(t, err, c.sql)
		require.Equal(t, c.want, got, c.sql)
		require.Equal(t, c.sql, string(c.of.AppendChange(nil, []byte(c.sql), c.table, got)))
		for end := range len(c.sql) - 1 { // no part of it is taken for the whole, but where a number goes on
			_, _ = c.of.Cutter().Change([]byte(c.sql[:end]), c.table)
		}
	}
	_, err := copiedText.Cutter().Change([]byte("TRUNCATE public.b"), "public.b")
	require.Error(t, err)
}

// FuzzRowText: no text of rows, and no row, makes it panic or read beyond itself.
func FuzzRowText(f *testing.F) {
	f.Add([]byte("COPY x (a) FROM stdin;\n1\\t\t\\N\n\\.\n"))
	f.Add([]byte("INSERT INTO x(a) VALUES\n('a'||char(9),1.0*(1<<62),CAST(X'41' AS TEXT)),\n(E'\\'');\n"))
	f.Add([]byte("UPDATE ONLY x SET \"a\" = E'\\\\' WHERE \"b\" = convert(x'41' USING latin1) AND `c` = 1"))
	f.Fuzz(func(t *testing.T, text []byte) {
		for _, of := range []RowText{copiedText, escaped, quoted} {
			cutter := of.Cutter()
			_ = of.EachRow(strings.NewReader(string(text)), func(row, _ []byte) error {
				values, err := cutter.Cut(nil, row)
				_ = of.AppendRow(nil, values)
				return err
			}, ignore)
			if x, err := cutter.Change(text, "x"); err == nil {
				_ = of.AppendChange(nil, text, "x", x)
			}
			_, _, _ = cutter.Valued(text)
		}
	})
}
