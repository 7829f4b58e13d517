package cli

import (
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// lined is a table of aligned columns, whose cells are cleaned.
type lined struct{ w table.Writer }

// newTable starts a table without lines. The columns in right, by heading or as
// "#2" by number, are aligned to the right.
func newTable(header []string, right ...string) lined {
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
	return lined{t}
}

func (t lined) row(cells ...any) { t.w.AppendRow(clean(cells)) }

func (t lined) render() block { return block(t.w.Render()) }
