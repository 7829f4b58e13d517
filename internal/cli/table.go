package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"grainkeep/internal/phrase"
)

// lined is a table of aligned columns, whose cells are cleaned. On a terminal it is never wider than that: its columns
// give way, in the order that fit says.
type lined struct {
	header []string
	right  map[int]bool // columns that are aligned to the right
	spare  []string     // headings of columns that a narrow terminal does without, the first to go first
	prose  []string     // headings of columns that break between words
	cells  [][]cell
	width  int // of the terminal that it is for; 0: it may be as wide as it is
}

// cell is one of a table: a text, or a moment that can be said with less.
type cell struct {
	text string // clean, with its colour
	at   instant
}

// instant is a moment in a table. Where there is room it is written as phrase.Local does.
type instant struct {
	at time.Time
	in *time.Location
}

// String implements fmt.Stringer.
func (i instant) String() string { return phrase.Local(i.at, i.in) }

// newTable starts a table without lines. The columns in right, by heading or as "#2" by number, are aligned to the
// right. In a table without headings, the last column is prose.
func (a *app) newTable(header []string, right ...string) *lined {
	t := &lined{header: header, right: map[int]bool{}, width: a.room(a.stdout)}
	for _, r := range right {
		if n, is := strings.CutPrefix(r, "#"); is {
			number, _ := strconv.Atoi(n) // the numbers are ours
			t.right[number-1] = true
		}
		for i, h := range header {
			if h == r {
				t.right[i] = true
			}
		}
	}
	return t
}

// without names the columns that a narrow terminal does without, the first to go first.
func (t *lined) without(headings ...string) *lined {
	t.spare = headings
	return t
}

// words names the columns that break between words.
func (t *lined) words(headings ...string) *lined {
	t.prose = headings
	return t
}

// row adds a row. A cell may be an instant.
func (t *lined) row(cells ...any) {
	row := make([]cell, len(cells))
	for i, c := range clean(cells) {
		row[i].text = fmt.Sprint(c)
		row[i].at, _ = cells[i].(instant)
	}
	t.cells = append(t.cells, row)
}

// widthOf is how many columns of a terminal a text takes.
func widthOf(s string) int { return text.StringWidthWithoutEscSequences(s) }

// cut leaves as much of a text as a width has room for; what was cut ends with a mark.
func cut(s string, width int, mark string) string {
	if widthOf(s) <= width {
		return s
	}
	return text.Trim(s, max(0, width-widthOf(mark))) + mark
}

// columns is how many there are.
func (t *lined) columns() int {
	n := len(t.header)
	for _, r := range t.cells {
		n = max(n, len(r))
	}
	return n
}

// heading is that of a column; empty: there are none.
func (t *lined) heading(column int) string {
	if column < len(t.header) {
		return t.header[column]
	}
	return ""
}

// widths are those of the columns.
func (t *lined) widths() []int {
	list := make([]int, t.columns())
	for i := range list {
		list[i] = widthOf(t.heading(i))
	}
	for _, r := range t.cells {
		for i, c := range r {
			for l := range strings.SplitSeq(c.text, "\n") {
				list[i] = max(list[i], widthOf(l))
			}
		}
	}
	return list
}

const (
	gap     = 2 // between two columns
	shortID = 8 // digits of an id on a narrow terminal
)

// over is by how much the table is too wide; 0 or less: it fits.
func (t *lined) over() int {
	if t.width == 0 {
		return 0
	}
	sum := -gap
	for _, w := range t.widths() {
		sum += w + gap
	}
	return sum - t.width
}

// fit lets columns give way until the table fits: the zone and the seconds of moments that are all alike, spare columns,
// digits of ids, lines of prose, the ends of long names; and in the end whatever is widest.
func (t *lined) fit() {
	if t.over() <= 0 {
		return
	}
	for i := range t.columns() {
		t.lessOfMoments(i)
	}
	for _, h := range t.spare {
		i := slices.IndexFunc(t.header, func(is string) bool { return is == h || strings.HasPrefix(is, h+", ") })
		if i >= 0 && t.over() > 0 {
			t.drop(i)
		}
	}
	for i := range t.header {
		if t.over() > 0 && t.isID(i) {
			t.shorten(i, shortID, "")
		}
	}
	for _, least := range []struct{ prose, name int }{{24, 16}, {16, 12}, {12, 8}, {8, 1}} {
		t.narrow(least.prose, least.name)
	}
}

// narrow takes from columns of prose, and then from the widest others, until the table fits, or no more than the least
// is left of them. Numbers, ids and moments are cut last.
func (t *lined) narrow(leastProse, leastOther int) {
	for i := range t.columns() {
		if over := t.over(); over > 0 && t.isProse(i) {
			if was := t.widths()[i]; was > leastProse {
				t.fold(i, max(leastProse, was-over))
			}
		}
	}
	for over := t.over(); over > 0; over = t.over() {
		widest, second := -1, 0
		widths := t.widths()
		for i, w := range widths {
			switch {
			case t.isProse(i) || leastOther > 1 && (t.right[i] || t.isID(i) || t.ofMoments(i)):
			case widest < 0 || w > widths[widest]:
				if widest >= 0 {
					second = max(second, widths[widest])
				}
				widest = i
			default:
				second = max(second, w)
			}
		}
		if widest < 0 || widths[widest] <= leastOther {
			return
		}
		t.shorten(widest, max(leastOther, min(widths[widest]-1, max(second, widths[widest]-over))), "…")
	}
}

// isProse says whether a column breaks between words.
func (t *lined) isProse(column int) bool {
	if t.header == nil {
		return column == t.columns()-1
	}
	return slices.Contains(t.prose, t.header[column])
}

// isID says whether a column is of ids.
func (t *lined) isID(column int) bool {
	return slices.Contains([]string{"Id", "Run"}, t.heading(column))
}

// ofMoments says whether a column has moments.
func (t *lined) ofMoments(column int) bool {
	return slices.ContainsFunc(t.cells, func(r []cell) bool { return column < len(r) && r[column].at.in != nil })
}

// lessOfMoments writes a column of moments without their zone, if it is that of all of them, and without seconds, where
// that makes no two of them alike. The heading says the zone.
func (t *lined) lessOfMoments(column int) {
	zones, minutes := map[string]bool{}, map[string]time.Time{}
	alike := true
	for _, r := range t.cells {
		if column >= len(r) || r[column].at.in == nil {
			continue
		}
		text := r[column].text
		zones[text[strings.LastIndexByte(text, ' ')+1:]] = true
		minute := text[:len("2006-01-02 15:04")]
		if other, there := minutes[minute]; there && !other.Equal(r[column].at.at) {
			alike = false
		}
		minutes[minute] = r[column].at.at
	}
	if len(zones) != 1 || t.header == nil {
		return
	}
	length := len("2006-01-02 15:04:05")
	if alike {
		length = len("2006-01-02 15:04")
	}
	for _, r := range t.cells {
		if column < len(r) && r[column].at.in != nil {
			r[column].text = r[column].text[:length]
		}
	}
	for zone := range zones {
		t.header = slices.Clone(t.header)
		t.header[column] += ", " + zone
	}
}

// drop takes a column away.
func (t *lined) drop(column int) {
	t.header = slices.Delete(slices.Clone(t.header), column, column+1)
	for i, r := range t.cells {
		if column < len(r) {
			t.cells[i] = slices.Delete(r, column, column+1)
		}
	}
	right := map[int]bool{}
	for i := range t.right {
		switch {
		case i < column:
			right[i] = true
		case i > column:
			right[i-1] = true
		}
	}
	t.right = right
}

// shorten cuts the texts of a column, and its heading.
func (t *lined) shorten(column, width int, mark string) {
	for _, r := range t.cells {
		if column < len(r) {
			r[column].text = cut(r[column].text, width, mark)
		}
	}
	if column < len(t.header) {
		t.header = slices.Clone(t.header)
		t.header[column] = cut(t.header[column], width, mark)
	}
}

// fold breaks the texts of a column between words.
func (t *lined) fold(column, width int) {
	for _, r := range t.cells {
		if column < len(r) {
			var lines []string
			for l := range strings.SplitSeq(fold(r[column].text, width), "\n") {
				lines = append(lines, cut(l, width, "…")) // a long word
			}
			r[column].text = strings.Join(lines, "\n")
		}
	}
}

// render gives the table.
func (t *lined) render() block {
	t.fit()
	widths := t.widths()
	var b strings.Builder
	if t.header != nil {
		head := make([]cell, len(t.header))
		for i, h := range t.header {
			head[i].text = h
		}
		t.write(&b, head, widths)
	}
	for _, r := range t.cells {
		t.write(&b, r, widths)
	}
	return block(strings.TrimSuffix(b.String(), "\n"))
}

// write writes a row, on as many lines as its highest cell has.
func (t *lined) write(b *strings.Builder, row []cell, widths []int) {
	high := 1
	lines := make([][]string, len(row))
	for i, c := range row {
		lines[i] = strings.Split(c.text, "\n")
		high = max(high, len(lines[i]))
	}
	for n := range high {
		line := ""
		for i := range row {
			is := ""
			if n < len(lines[i]) {
				is = lines[i][n]
			}
			pad := strings.Repeat(" ", max(0, widths[i]-widthOf(is)))
			if t.right[i] {
				is = pad + is
			} else {
				is += pad
			}
			line += is + strings.Repeat(" ", gap)
		}
		b.WriteString(strings.TrimRight(line, " ") + "\n")
	}
}

// fold breaks the lines of a text between words, where they are longer than a width; 0: they are not. What goes on has
// the indentation of its line. A word is never broken.
func fold(s string, width int) string {
	if width == 0 {
		return s
	}
	var out []string
	for line := range strings.SplitSeq(s, "\n") {
		if widthOf(line) <= width {
			out = append(out, line)
			continue
		}
		indent := line[:len(line)-len(strings.TrimLeft(line, " "))]
		now, begun := indent, false
		for w := range strings.SplitSeq(strings.TrimLeft(line, " "), " ") {
			switch {
			case !begun:
				now += w
			case widthOf(now)+1+widthOf(w) > width:
				out = append(out, strings.TrimRight(now, " "))
				now = indent + w
			default:
				now += " " + w
			}
			begun = true
		}
		out = append(out, now)
	}
	return strings.Join(out, "\n")
}
