package ask

import (
	"fmt"
	"strings"
	"testing"

	"grainkeep/internal/engine"
	"grainkeep/internal/manifest"
)

type nowhere struct{ rows int }

func (n *nowhere) Insert([]engine.Cell) error { n.rows++; return nil }
func (n *nowhere) Close() error               { return nil }

// BenchmarkRows takes rows of each form apart, without what becomes of them.
func BenchmarkRows(b *testing.B) {
	columns := []string{"id", "booking", "name", "mail", "note", "paid"}
	for name, of := range map[string]engine.RowText{"copied": {Copied: true, Quote: '"'}, "escaped": {Backslash: true, Quote: '`'},
		"quoted": {Quote: '"'}} {
		var text strings.Builder
		text.WriteString(map[bool]string{true: "COPY p(id) FROM STDIN (FORMAT text);\n", false: "INSERT INTO p(id) VALUES\n"}[of.Copied])
		for i := range 20000 {
			form := "(%d,%d,'Passenger %d','p%d@ternskerry.example','%x',%d.25),\n"
			if of.Copied {
				form = "%d\t%d\tPassenger %d\tp%d@ternskerry.example\t%x\t%d.25\n"
			}
			fmt.Fprintf(&text, form, i, i*7%1000, i, i, strings.Repeat("t", 25), i)
		}
		whole := strings.TrimSuffix(text.String(), ",\n")
		whole += map[bool]string{true: "\\.\n", false: ";\n"}[of.Copied]
		t := &table{Table: manifest.Table{ID: "p", Columns: columns}, defined: make([]engine.Column, len(columns))}
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(whole)))
			for b.Loop() {
				l := newInserts(of, t, map[string]bool{"booking": true, "paid": true}, filter{})
				l.into = insertBeside(&nowhere{}, len(l.names))
				err := of.EachRow(strings.NewReader(whole), func(row, _ []byte) error { return l.row(row) }, func([]byte) error { return nil })
				if err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
