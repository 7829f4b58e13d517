package report

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

var now = time.Date(2026, 3, 14, 9, 0, 0, 0, time.UTC)

// input is a month of a database whose name is none that a spreadsheet or a browser should obey.
func input() Input {
	in := Input{At: now, Zone: time.UTC, States: map[string]string{"nightly/=1+1<b>": "good", "nightly/cargo": "late"}}
	for day := 30; day >= 0; day -= 10 {
		for i, name := range []string{"=1+1<b>", "cargo"} {
			at := now.AddDate(0, 0, -day)
			m := &manifest.Manifest{Job: "nightly", Database: name, Kind: manifest.Full, Moment: at, Started: at,
				Finished: at.Add(time.Duration(40-day) * time.Second), StoredBytes: int64(1000*(40-day)) << (10 * i),
				Source: manifest.Source{Engine: "postgres", Product: "PostgreSQL", Version: "15.4", Name: "quay"}}
			d := &keep.Dump{ID: name + at.String(), Manifest: m}
			if day == 0 {
				d.Proofs = []keep.Proof{{At: now, Proven: i == 0}}
			}
			in.Dumps = append(in.Dumps, d)
		}
	}
	in.Runs = []journal.Run{
		{Command: "dump", Job: "nightly", Started: now.Add(-time.Hour), Ended: now.Add(-time.Hour + 90*time.Second), Result: journal.Failed,
			Reason: "the server <went> away", Parts: []journal.Part{{Name: "cargo", Kind: "full", Stored: 7}}},
		{Command: "restore", Job: "nightly", Started: now.Add(-2 * time.Hour), Ended: now, Result: journal.Good},
		{Command: "dump", Job: "weekly", Started: now.AddDate(0, 0, -40), Result: journal.Good},
	}
	return in
}

func table(t *testing.T, r *Report, name string) Table {
	for _, x := range r.Tables {
		if x.Name == name {
			return x
		}
	}
	t.Fatalf("no %s", name)
	return Table{}
}

func TestAReport(t *testing.T) {
	r := Build(input())
	d := table(t, r, "databases")
	require.Len(t, d.Rows, 2)
	require.Equal(t, []any{"nightly/=1+1<b>", "PostgreSQL 15.4", now, nil, nil, Ago(now), Bytes(40000), 40 * time.Second,
		Mark{"proven", true}, Mark{"good", true}}, d.Rows[0])
	require.Equal(t, Mark{"failed its drill", false}, d.Rows[1][8])
	g := table(t, r, "growth")
	require.Equal(t, []any{"nightly/=1+1<b>", int64(4), Bytes(10000), Bytes(40000), Bytes(30000), now.AddDate(0, 0, -30)}, g.Rows[0])
	require.Len(t, table(t, r, "dumps").Rows, 2)
	require.Equal(t, 90*time.Second, table(t, r, "dumps").Rows[0][2])
	require.Nil(t, table(t, r, "dumps").Rows[1][2], "it has not ended")
	require.Len(t, table(t, r, "restores").Rows, 1)
	require.Empty(t, table(t, r, "drills").Rows)
	require.Len(t, r.Plots, 3)
	require.Equal(t, "nightly/cargo", r.Plots[0].Lines[0].Name, "the largest first")

	for say, f := range map[string]Filter{"engine": {Engine: "mysql"}, "server": {Server: "db2"}, "job": {Job: "weekly"},
		"database": {Database: "roster*"}, "kind": {Kind: "incremental"}} {
		in := input()
		in.Filter = f
		require.Empty(t, table(t, Build(in), "databases").Rows, say)
	}
	in := input()
	in.Filter = Filter{Database: "car*", Since: now.AddDate(0, 0, -15), Result: "failed"}
	r = Build(in)
	require.Equal(t, "database car*, result failed, since 2026-02-27 09:00:00 UTC", r.Of)
	require.Len(t, table(t, r, "dumps").Rows, 1)
	require.Equal(t, int64(2), table(t, r, "growth").Rows[0][1])

	require.NoError(t, d.Sort("-size"))
	require.Equal(t, "nightly/cargo", d.Rows[0][0])
	require.ErrorContains(t, d.Sort("colour"), "last_full")
}

func TestTheFormsOfAReport(t *testing.T) {
	r := Build(input())
	d := table(t, r, "databases")
	var b bytes.Buffer
	require.NoError(t, d.CSV(&b))
	lines, err := csv.NewReader(&b).ReadAll()
	require.NoError(t, err)
	require.Equal(t, []string{"nightly/=1+1<b>", "PostgreSQL 15.4", "2026-03-14T09:00:00Z", "", "", "2026-03-14T09:00:00Z", "40000",
		"40", "proven", "good"}, lines[1])
	formula := Table{Columns: Columns("Name"), Rows: [][]any{{"=cmd()"}, {"-1"}, {int64(-1)}}}
	b.Reset()
	require.NoError(t, formula.CSV(&b))
	require.Equal(t, "name\n'=cmd()\n'-1\n-1\n", b.String())

	b.Reset()
	require.NoError(t, r.Page(&b))
	page := b.String()
	require.Contains(t, page, "nightly/=1&#43;1&lt;b&gt;")
	require.NotContains(t, page, "<b>")
	require.NotContains(t, page, "<went>")
	require.Equal(t, 3, strings.Count(page, "<svg "))
	require.NotRegexp(t, `(src|href)=.?(http|//)|url\(`, page, "it needs nothing else")
	require.NotContains(t, page, "<script")

	b.Reset()
	require.NoError(t, r.Spreadsheet(&b))
	f, err := excelize.OpenReader(&b)
	require.NoError(t, err)
	defer f.Close()
	require.Equal(t, []string{"Databases", "Runs", "Restores", "Drills", "Growth", "Copies"}, f.GetSheetList())
	cell, err := f.GetCellValue("Databases", "G2", excelize.Options{RawCellValue: true})
	require.NoError(t, err)
	require.Equal(t, "40000", cell)
	text, err := f.GetCellFormula("Databases", "A2")
	require.NoError(t, err)
	require.Empty(t, text)
}
