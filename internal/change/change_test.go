package change

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
	"grainkeep/internal/rows"
)

// table is a table in the test: rows by their keys.
type table map[int]string

func (t table) keys() []int { return slices.Sorted(maps.Keys(t)) }

// cutInto gives the ranges of a table, and the rows of each.
func (t table) cutInto() (list []Range, of [][]int) {
	var c Cutter
	var r Range
	var keys []int
	for _, k := range t.keys() {
		key := strconv.Itoa(k)
		r.Rows++
		r.Sum.AddRow([]byte(key + t[k]))
		keys = append(keys, k)
		if c.Cut([]byte(key), int64(len(t[k]))) {
			r.End = key
			list, of = append(list, r), append(of, keys)
			r, keys = Range{}, nil
		}
	}
	return append(list, r), append(of, keys)
}

// change makes some random changes.
func (t table) change(r *rand.Rand) {
	row := func() string { return strings.Repeat("x", 50+r.IntN(400)) + strconv.Itoa(r.Int()) }
	keys := t.keys()
	switch r.IntN(7) {
	case 0: // nothing
	case 1: // a stretch goes
		if n := len(keys); n > 0 {
			from := r.IntN(n)
			for _, k := range keys[from:min(n, from+r.IntN(n))] {
				delete(t, k)
			}
		}
	case 2: // a stretch comes
		from := r.IntN(100_000)
		for i := range r.IntN(2000) {
			t[from+i] = row()
		}
	case 3:
		clear(t)
	case 4: // rows at the end
		for i := range r.IntN(500) {
			t[200_000+i] = row()
		}
	default:
		for range r.IntN(20) {
			if len(keys) > 0 {
				delete(t, keys[r.IntN(len(keys))])
				t[keys[r.IntN(len(keys))]] = row()
			}
			t[r.IntN(100_000)] = row()
		}
	}
}

func (r Range) String() string { return fmt.Sprintf("%s %d %q", r.Sum, r.Rows, r.End) }

func all(t *testing.T, next Ranges) (list []Range) {
	for {
		r, err := next()
		if err == io.EOF {
			return list
		}
		require.NoError(t, err)
		list = append(list, r)
	}
}

// TestComparisonsOfRandomChanges holds chains of lists against the tables themselves: what is removed and written makes
// the new table of the old one, the list tells of its ranges, and little more than the changes is written.
func TestComparisonsOfRandomChanges(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 14))
		now := table{}
		for range 3000 {
			now[r.IntN(100_000)] = strings.Repeat("y", r.IntN(300))
		}
		ranges, _ := now.cutInto()
		var whole bytes.Buffer
		w := NewWriter(&whole, true)
		for _, x := range ranges {
			require.NoError(t, w.Add(x))
		}
		require.NoError(t, w.Close())
		lists := [][]byte{whole.Bytes()}
		read := func() (top Ranges) {
			for _, l := range lists {
				top = Read(bytes.NewReader(l), top)
			}
			return top
		}
		for step := range 8 {
			copied := maps.Clone(now)
			now.change(r)
			ranges, of := now.cutInto()
			wholeAgain := r.IntN(5) == 0
			var list bytes.Buffer
			w := NewWriter(&list, wholeAgain)
			var gone []Removal
			c := Compare(engine.Span{}, read(), w, func(x Removal) error { gone = append(gone, x); return nil })
			var write []int
			for i, x := range ranges {
				v, err := c.Next(x)
				require.NoError(t, err)
				if v == Write {
					write = append(write, of[i]...)
				}
			}
			require.NoError(t, w.Close())
			require.Equal(t, now, applied(t, copied, gone, write, now), "seed %d, step %d", seed, step)
			if wholeAgain {
				lists = nil
			}
			if list.Len() > 0 {
				lists = append(lists, list.Bytes())
			}
			require.Equal(t, fmt.Sprint(ranges), fmt.Sprint(all(t, read())), "seed %d, step %d", seed, step)
		}
	}
}

// applied removes rows and writes others, strictly.
func applied(t *testing.T, to table, gone []Removal, write []int, from table) table {
	for _, g := range gone {
		n := int64(0)
		for _, k := range to.keys() {
			after, _ := strconv.Atoi(g.After)
			upTo, _ := strconv.Atoi(g.UpTo)
			if (g.After == "" || k > after) && (g.UpTo == "" || k <= upTo) {
				delete(to, k)
				n++
			}
		}
		require.Equal(t, g.Rows, n, "a removal takes the rows that it says")
	}
	for _, k := range write {
		_, there := to[k]
		require.False(t, there, "a row is written where one is")
		to[k] = from[k]
	}
	return to
}

// TestAChangeIsWrittenWithLittleAroundIt makes one change in a large table.
func TestAChangeIsWrittenWithLittleAroundIt(t *testing.T) {
	for name, change := range map[string]func(table){
		"changed":  func(x table) { x[30_000] = "other" },
		"gone":     func(x table) { delete(x, 30_000) },
		"new":      func(x table) { x[30_001] = "more" },
		"many new": func(x table) { fill(x, 30_001, 30_199, 2) },
		"many go": func(x table) {
			for i := 20_000; i < 40_000; i += 2 {
				delete(x, i)
			}
		},
		"at the end": func(x table) { x[1_000_000] = "last" },
	} {
		now := table{}
		fill(now, 0, 100_000, 2)
		before, _ := now.cutInto()
		change(now)
		ranges, of := now.cutInto()
		at := 0
		c := Compare(engine.Span{}, func() (Range, error) {
			if at++; at > len(before) {
				return Range{}, io.EOF
			}
			return before[at-1], nil
		}, NewWriter(io.Discard, false), func(Removal) error { return nil })
		rows := 0
		for i, x := range ranges {
			v, err := c.Next(x)
			require.NoError(t, err)
			if v == Write {
				rows += len(of[i])
			}
		}
		require.Positive(t, rows, name)
		require.Less(t, rows, 1200, name)
	}
}

func fill(t table, from, to, by int) {
	for i := from; i < to; i += by {
		t[i] = strings.Repeat("z", 100)
	}
}

// FuzzRead reads lists that anybody may have written.
func FuzzRead(f *testing.F) {
	var sum rows.Fingerprint
	sum.AddRow([]byte("x"))
	line := sum.String() + " 5 7\n"
	f.Add([]byte(line+line), []byte("= 1\n"+line+"- 1\n"))
	f.Add([]byte(""), []byte("- 9999999999999999999\n"))
	f.Fuzz(func(t *testing.T, under, over []byte) {
		next := Read(bytes.NewReader(over), Read(bytes.NewReader(under), nil))
		for range 1 + bytes.Count(under, []byte("\n")) + bytes.Count(over, []byte("\n")) + 2 {
			if _, err := next(); err != nil {
				return
			}
		}
		t.Fatal("more ranges than lines")
	})
}
