package report

import (
	"bytes"
	_ "embed"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"grainkeep/internal/phrase"
)

// CSV writes a table as comma-separated values, with the keys of its columns in the first line. Texts that a spreadsheet
// would take for a formula have an apostrophe in front.
func (t *Table) CSV(w io.Writer) error {
	out := csv.NewWriter(w)
	if err := out.Write(t.keys()); err != nil {
		return err
	}
	for _, row := range t.Rows {
		cells := make([]string, len(row))
		for i, c := range row {
			switch v := Plain(c).(type) {
			case nil:
			case string:
				cells[i] = noFormula(phrase.Clean(v))
			case float64:
				cells[i] = strconv.FormatFloat(v, 'f', -1, 64)
			default:
				cells[i] = fmt.Sprint(v)
			}
		}
		if err := out.Write(cells); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// noFormula keeps a text from being one: names come from servers and keeps.
func noFormula(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

// JSON gives the report as plain data: an object for each row.
func (r *Report) JSON() map[string]any {
	out := map[string]any{"title": r.Title, "at": r.At.UTC().Format(time.RFC3339), "of": r.Of}
	for _, t := range r.Tables {
		rows := []map[string]any{}
		for _, row := range t.Rows {
			o := map[string]any{}
			for i, c := range row {
				if v := Plain(c); v != nil {
					o[t.Columns[i].Key] = v
				}
			}
			rows = append(rows, o)
		}
		out[t.Name] = rows
	}
	return out
}

// maxSheet bounds the rows of a sheet: what a spreadsheet takes.
const maxSheet = 1_000_000

// Spreadsheet writes a workbook with a sheet for each table. Texts are texts, whatever they begin with.
func (r *Report) Spreadsheet(w io.Writer) (err error) {
	f := excelize.NewFile()
	defer func() {
		if e := f.Close(); err == nil {
			err = e
		}
	}()
	bold, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return err
	}
	day := "yyyy-mm-dd hh:mm:ss"
	when, err := f.NewStyle(&excelize.Style{CustomNumFmt: &day})
	if err != nil {
		return err
	}
	for i, t := range r.Tables {
		if i == 0 {
			err = f.SetSheetName("Sheet1", t.Title)
		} else {
			_, err = f.NewSheet(t.Title)
		}
		if err == nil {
			err = r.sheet(f, t, bold, when)
		}
		if err != nil {
			return err
		}
	}
	_, err = f.WriteTo(w)
	return err
}

func (r *Report) sheet(f *excelize.File, t Table, bold, when int) error {
	if len(t.Rows) > maxSheet {
		return fmt.Errorf("the part %s has %d rows, and a sheet takes %d", t.Name, len(t.Rows), maxSheet)
	}
	s, err := f.NewStreamWriter(t.Title)
	if err != nil {
		return err
	}
	head := make([]any, len(t.Columns))
	for i, c := range t.Columns {
		head[i] = excelize.Cell{StyleID: bold, Value: c.Title}
	}
	if err := s.SetColWidth(1, len(head), 20); err != nil {
		return err
	}
	if err := s.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	if err := s.SetRow("A1", head); err != nil {
		return err
	}
	for i, row := range t.Rows {
		cells := make([]any, len(row))
		for j, c := range row {
			switch v := c.(type) {
			case time.Time:
				cells[j] = excelize.Cell{StyleID: when, Value: v.In(r.Zone)}
			case Ago:
				cells[j] = excelize.Cell{StyleID: when, Value: time.Time(v).In(r.Zone)}
			case string:
				cells[j] = phrase.Clean(v)
			default:
				cells[j] = Plain(c)
			}
		}
		if err := s.SetRow(fmt.Sprintf("A%d", i+2), cells); err != nil {
			return err
		}
	}
	return s.Flush()
}

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Parse(pageText))

// pageTable is a table as the page has it.
type pageTable struct {
	Name, Title string
	Columns     []Column
	Rows        [][]pageCell
}

// pagePlot is a plot as the page has it.
type pagePlot struct {
	Title string
	SVG   template.HTML
	Lines []pageLine
}

type pageLine struct {
	Name string
	Hue  template.CSS
}

type pageCell struct {
	Text  string
	Class string
}

// Page writes the report as one HTML page that needs nothing else, and prints well.
func (r *Report) Page(w io.Writer) error {
	data := struct {
		Title, At, Of string
		Tables        []pageTable
		Plots         []pagePlot
	}{Title: r.Title, At: phrase.Both(r.At, r.Zone), Of: r.Of}
	for _, p := range r.Plots {
		var b bytes.Buffer
		if err := p.draw(&b, r.Zone); err != nil {
			return err
		}
		_, svg, _ := strings.Cut(b.String(), "<svg")                                 // without the head of a file
		x := pagePlot{Title: p.Title, SVG: template.HTML("<svg role=\"img\"" + svg)} //nolint:gosec // numbers and dates
		for i, l := range p.shown() {
			x.Lines = append(x.Lines, pageLine{phrase.Clean(l.Name), template.CSS(hue(i))})
		}
		if n := len(p.Lines) - len(x.Lines); n > 0 {
			x.Title += fmt.Sprintf(" (the %d largest of %d)", len(x.Lines), len(p.Lines))
		}
		data.Plots = append(data.Plots, x)
	}
	for _, t := range r.Tables {
		x := pageTable{t.Name, t.Title, t.Columns, nil}
		for _, row := range t.Rows {
			cells := make([]pageCell, len(row))
			for i, c := range row {
				cells[i].Text = r.Text(c)
				if t.Columns[i].Right {
					cells[i].Class = "number"
				}
				switch c := c.(type) {
				case time.Time, Ago:
					cells[i].Class = "time"
				case Mark:
					cells[i].Class = map[bool]string{true: "good", false: "bad"}[c.Good]
				}
			}
			x.Rows = append(x.Rows, cells)
		}
		data.Tables = append(data.Tables, x)
	}
	return page.Execute(w, data)
}

// Lines writes the report as JSON text, for who asks for a file.
func (r *Report) Lines(w io.Writer) error {
	enc := json.NewEncoder(w)
	enc.SetIndent("", "  ")
	return enc.Encode(r.JSON())
}
