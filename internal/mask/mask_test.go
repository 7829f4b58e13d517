package mask

import (
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
	_ "grainkeep/internal/engine/mysql"
	_ "grainkeep/internal/engine/postgres"
)

var testKey = []byte("the key of Tern & Skerry's tests")

func guests() []Table {
	return []Table{{ID: "public.guest", Schema: "public", Name: "guest", Columns: []string{"id", "mail", "card", "born", "name", "note"},
		Create: "CREATE TABLE public.guest (\n    id integer NOT NULL,\n    mail text,\n    card character varying(19),\n    born date,\n" +
			"    name character varying(8) NOT NULL,\n    note jsonb\n);\n"}}
}

func chosen(t *testing.T, rules ...Rule) *Set {
	t.Helper()
	s, err := New(rules, testKey)
	require.NoError(t, err)
	require.NoError(t, s.Choose("postgres", guests()))
	return s
}

const guestHead = "COPY public.guest (id, mail, card, born, name, note) FROM stdin;\n"

// lines gives the rows that come out, cut into fields.
func lines(t *testing.T, s *Set, rows string) (list [][]string) {
	t.Helper()
	r := s.Rows("public.guest", strings.NewReader(guestHead+rows+"\\.\n"))
	out, err := io.ReadAll(r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	text, is := strings.CutPrefix(string(out), guestHead)
	require.True(t, is)
	for l := range strings.SplitSeq(strings.TrimSuffix(text, "\\.\n"), "\n") {
		if l != "" {
			list = append(list, strings.Split(l, "\t"))
		}
	}
	return list
}

// TestMasks: each mask does what it says, to each row, and says the same of the same value.
func TestMasks(t *testing.T) {
	t.Parallel()
	s := chosen(t, Rule{Pattern: "guest.id", How: Hash}, Rule{Pattern: "*.mail", How: MadeUp}, Rule{Pattern: "guest.card", How: MadeUp},
		Rule{Pattern: "public.guest.born", How: MadeUp}, Rule{Pattern: "guest.name", How: Hash}, Rule{Pattern: "guest.note", How: Empty})
	const row = "4711\tInga.Skerry@ternskerry.example\t4111 1111 1111 1111\t1984-02-29\tInga\t{}\n"
	got := lines(t, s, row+row+"4712\t\\N\t\\N\tinfinity\ta\\tb\t\\N\n")
	require.Equal(t, got[0], got[1], "equal values stay equal")
	require.Len(t, got, 3)
	one := got[0]
	require.Regexp(t, `^[1-9]\d{3}$`, one[0])
	require.NotEqual(t, "4711", one[0])
	require.NotEqual(t, one[0], got[2][0])
	require.Regexp(t, `^[A-Z][a-z]{3}\.[A-Z][a-z]{5}@[a-z]{10}\.invalid$`, one[1])
	require.Regexp(t, `^\d{4} \d{4} \d{4} \d{4}$`, one[2])
	require.True(t, luhn([]byte(one[2])))
	require.NotEqual(t, "4111 1111 1111 1111", one[2])
	require.Regexp(t, `^198[345]-\d\d-\d\d$`, one[3])
	require.Regexp(t, `^[0-9a-f]{8}$`, one[4])
	require.Equal(t, []string{`\N`, `\N`, "infinity"}, got[2][1:4])
	require.Equal(t, `\N`, one[5])
	require.Len(t, s.Masked(), 6)
	require.Empty(t, s.Looks())

	other, err := New([]Rule{{Pattern: "guest.name", How: Hash}}, []byte("another key of as many bytes"))
	require.NoError(t, err)
	require.NoError(t, other.Choose("postgres", guests()))
	require.NotEqual(t, one[4], lines(t, other, row)[0][4], "the key decides")
}

// TestShuffle: the values of a column are the same ones, in other rows; those of other columns stay.
func TestShuffle(t *testing.T) {
	t.Parallel()
	var rows strings.Builder
	for i := range 2 * heldRows {
		fmt.Fprintf(&rows, "%d\t\\N\t\\N\t\\N\tname%d\t\\N\n", i, i)
	}
	got := lines(t, chosen(t, Rule{Pattern: "guest.name", How: Shuffle}), rows.String())
	seen, moved := map[string]bool{}, 0
	for i, r := range got {
		require.Equal(t, fmt.Sprint(i), r[0])
		if seen[r[4]] = true; r[4] != fmt.Sprint("name", i) {
			moved++
		}
	}
	require.Len(t, seen, 2*heldRows)
	require.Greater(t, moved, heldRows)
}

// TestIntegersStayDifferent: the hash of integers is a permutation of those with as many digits, within the type.
func TestIntegersStayDifferent(t *testing.T) {
	t.Parallel()
	s := chosen(t)
	f := s.integer(engine.Column{Class: engine.Integer, Limit: 16})
	for _, span := range [][2]int{{0, 9}, {10, 99}, {1000, 9999}, {10000, 32767}} {
		seen := map[string]bool{}
		for n := span[0]; n <= span[1]; n++ {
			made := string(f(engine.Value{Data: fmt.Append(nil, n)}).Data)
			var m int
			_, err := fmt.Sscan(made, &m)
			require.NoError(t, err)
			require.True(t, m >= span[0] && m <= span[1], "%d became %d", n, m)
			seen[made] = true
		}
		require.Len(t, seen, span[1]-span[0]+1)
	}
	for _, n := range []string{"9223372036854775807", "-5", "18446744073709551615"} {
		require.Len(t, s.integer(engine.Column{})(engine.Value{Data: []byte(n)}).Data, len(n))
	}
}

// TestMasksOfChanges: what the log tells is masked like the rows, so that it finds them.
func TestMasksOfChanges(t *testing.T) {
	t.Parallel()
	s := chosen(t, Rule{Pattern: "guest.id", How: Hash}, Rule{Pattern: "guest.name", How: Fixed, Value: "o'k"})
	id := lines(t, s, "4711\t\\N\t\\N\t\\N\tInga\t\\N\n")[0][0]
	const head = "SET a;\n-- transaction 1\nBEGIN;\n"
	r := s.Changes([]string{"public.guest"}, strings.NewReader(head+
		`UPDATE ONLY public.guest SET "name" = 'Inga', "note" = NULL WHERE "id" = '4711'; -- rows: 1`+"\nCOMMIT;\n"))
	out, err := io.ReadAll(r)
	require.NoError(t, err)
	require.Equal(t, head+`UPDATE ONLY public.guest SET "name" = 'o''k', "note" = NULL WHERE "id" = '`+id+"'; -- rows: 1\nCOMMIT;\n",
		string(out))
	r = s.Changes([]string{"public.guest"}, strings.NewReader(head+
		`DELETE FROM ONLY public.guest WHERE "name" = 'Inga'; -- rows: 1`+"\nCOMMIT;\n"))
	_, err = io.ReadAll(r)
	require.ErrorContains(t, err, "they could not be found")
	require.ErrorContains(t, r.Close(), "they could not be found")

	gone := "DELETE FROM ONLY public.guest WHERE (id) <= ('name'); -- rows: 3\n"
	_, err = io.ReadAll(chosen(t, Rule{Pattern: "guest.name", How: Empty}).Removals("public.guest", strings.NewReader(gone)))
	require.NoError(t, err, "a text is no name")
	_, err = io.ReadAll(s.Removals("public.guest", strings.NewReader(gone)))
	require.ErrorContains(t, err, "by the column public.guest.id")
}

// TestMasksRefused: what cannot be done is said before a row passes.
func TestMasksRefused(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		says  string
		rules []Rule
	}{
		{"matches no column", []Rule{{Pattern: "guest.nme", How: Empty}}},
		{"say different things", []Rule{{Pattern: "guest.n*", How: Empty}, {Pattern: "*.name", How: Hash}}},
		{`cannot have the mask "hash"`, []Rule{{Pattern: "guest.note", How: Hash}}},
		{`"many" is no number`, []Rule{{Pattern: "guest.id", How: Fixed, Value: "many"}}},
		{"it takes 8", []Rule{{Pattern: "guest.name", How: Fixed, Value: "much too long"}}},
	} {
		s, err := New(c.rules, testKey)
		require.NoError(t, err)
		require.ErrorContains(t, s.Choose("postgres", guests()), c.says)
	}
	_, err := New([]Rule{{Pattern: "guest.name", How: Hash}}, []byte("short"))
	require.ErrorContains(t, err, "needs a key")
}

// TestLooks: columns without a mask are named by what they are called and what they hold; "clear" silences that.
func TestLooks(t *testing.T) {
	t.Parallel()
	s := chosen(t, Rule{Pattern: "guest.mail", How: Clear})
	lines(t, s, "1\ta@b.example\t\\N\t\\N\t4111111111111111\t\"17 Harbour Street\"\n")
	require.Equal(t, []string{"public.guest.born is named like a birthday", "public.guest.card is named like a card",
		"public.guest.name has values like a card"}, s.Looks())
	require.True(t, isAccount([]byte("GB82 WEST 1234 5698 7654 32")))
	require.False(t, isAccount([]byte("GB82 WEST 1234 5698 7654 33")))
	require.Equal(t, []string{"e", "mail", "home", "address"}, words("e_mailHomeAddress2"))
}

// TestMasksOfMySQL: numbers stay numbers, and texts in other character sets are written as they are stored.
func TestMasksOfMySQL(t *testing.T) {
	t.Parallel()
	s, err := New([]Rule{{Pattern: "guest.*", How: MadeUp}, {Pattern: "guest.tag", How: Fixed, Value: "x"}}, testKey)
	require.NoError(t, err)
	require.NoError(t, s.Choose("mysql", []Table{{ID: "`guest`", Name: "guest", Columns: []string{"id", "paid", "name", "tag", "seen"},
		Create: "CREATE TABLE `guest` (\n  `id` int(11) NOT NULL AUTO_INCREMENT,\n  `paid` decimal(6,2) DEFAULT NULL,\n  `name` varchar(20) " +
			"DEFAULT NULL,\n  `tag` varbinary(8) DEFAULT NULL,\n  `seen` datetime(6) DEFAULT NULL\n) ENGINE=InnoDB DEFAULT CHARSET=latin1;\n"}}))
	out, err := io.ReadAll(s.Rows("`guest`", strings.NewReader("INSERT INTO `guest` (`id`, `paid`, `name`, `tag`, `seen`) VALUES\n"+
		"(12,-10.50,'J\xf8rn\\n',x'00ff','2026-03-14 02:30:00.123456'),\n(13,NULL,NULL,NULL,NULL);\n")))
	require.NoError(t, err)
	require.Regexp(t, `\(\d\d,-[1-9]\d\.\d\d,'[A-Z][a-z]{3}\\n',x'78','202[56]-\d\d-\d\d 02:30:00\.123456'\),\n\(\d\d,NULL,NULL,NULL,NULL\);\n$`,
		string(out))
}
