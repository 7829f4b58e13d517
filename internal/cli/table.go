package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// lined is a table of aligned columns, whose cells are cleaned.
type lined struct {
	w       table.Writer
	rows    *[][]string // as they are, for a table that is long
	columns []table.ColumnConfig
	header  []string
	widths  *[]int // of the widest cell of each column
	width   int    // of the terminal that it is for; 0: it may be as wide as it is
}

// newTable starts a table without lines. The columns in right, by heading or as
// "#2" by number, are aligned to the right.
func (a *app) newTable(header []string, right ...string) lined {
	t := table.NewWriter()
	s := table.StyleLight
	s.Options = table.OptionsNoBordersAndSeparators
	s.Format.Header = text.FormatDefault
	s.Box.PaddingLeft, s.Box.PaddingRight = "", "  "
	t.SetStyle(s)
	if header != nil {
		row := make(table.Row, len(header))
		for i, h := range header {
			row[i] = h
		}
		t.AppendHeader(row)
	}
	var columns []table.ColumnConfig
	for _, r := range right {
		c := table.ColumnConfig{Name: r, Align: text.AlignRight, AlignHeader: text.AlignRight}
		if n, ok := strings.CutPrefix(r, "#"); ok {
			c.Name = ""
			c.Number, _ = strconv.Atoi(n) // the numbers are ours
		}
		columns = append(columns, c)
	}
	t.SetColumnConfigs(columns)
	t.SuppressTrailingSpaces()
	return lined{t, new([][]string), columns, header, new([]int), terminal(a.stdout)}
}

func (t lined) row(cells ...any) {
	cells = clean(cells)
	texts := make([]string, len(cells))
	for i, c := range cells {
		texts[i] = fmt.Sprint(c)
	}
	*t.rows = append(*t.rows, texts)
	for len(*t.widths) < len(cells) {
		*t.widths = append(*t.widths, 0)
	}
	for i, c := range texts {
		(*t.widths)[i] = max((*t.widths)[i], text.StringWidthWithoutEscSequences(c))
	}
}

// render gives the table, with its widest column broken between words where the terminal is
// narrower than the table.
func (t lined) render() block {
	if len(*t.rows) > long {
		return t.renderLong()
	}
	for _, r := range *t.rows {
		row := make(table.Row, len(r))
		for i, c := range r {
			row[i] = c
		}
		t.w.AppendRow(row)
	}
	full := t.w.Render()
	if t.width == 0 {
		return block(full)
	}
	over := 0
	for l := range strings.SplitSeq(full, "\n") {
		over = max(over, text.StringWidthWithoutEscSequences(l)-t.width)
	}
	column, widest := t.widest()
	if over <= 0 || widest-over < narrowest {
		return block(full)
	}
	for i := range t.columns {
		if t.columns[i].Number == column {
			column = 0
			t.columns[i].WidthMax, t.columns[i].WidthMaxEnforcer = widest-over, text.WrapSoft
		}
	}
	if column > 0 {
		t.columns = append(t.columns, table.ColumnConfig{Number: column, WidthMax: widest - over,
			WidthMaxEnforcer: text.WrapSoft})
	}
	t.w.SetColumnConfigs(t.columns)
	return block(t.w.Render())
}

// long is from how many rows on a table is only aligned: thousands of rows are for another program to read.
const long = 1000

// renderLong aligns the columns, and no more.
func (t lined) renderLong() block {
	widths := slices.Clone(*t.widths)
	for i, h := range t.header {
		widths[i] = max(widths[i], text.StringWidthWithoutEscSequences(h))
	}
	right := map[int]bool{}
	for _, c := range t.columns {
		right[c.Number-1] = true
		for i, h := range t.header {
			right[i] = right[i] || c.Name != "" && h == c.Name
		}
	}
	var b strings.Builder
	for _, r := range append([][]string{t.header}, *t.rows...) {
		line := ""
		for i, c := range r {
			pad := strings.Repeat(" ", widths[i]-text.StringWidthWithoutEscSequences(c))
			if right[i] {
				line += pad + c + "  "
			} else {
				line += c + pad + "  "
			}
		}
		b.WriteString(strings.TrimRight(line, " ") + "\n")
	}
	return block(strings.TrimSuffix(b.String(), "\n"))
}

const narrowest = 12 // characters of a column that is broken

// widest gives the number of the widest column, and its width.
func (t lined) widest() (column, width int) {
	for i, n := range *t.widths {
		if n > width {
			column, width = i+1, n
		}
	}
	return column, width
}
