package cli

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/journal"
	"grainkeep/internal/phrase"
	"grainkeep/internal/report"
)

type reportFlags struct {
	from, as, out, section, sort string
	since, until                 string
	filter                       report.Filter
}

// reportForms are what a report can be written as.
var reportForms = []string{"text", "csv", "json", "html", "xlsx"}

func (a *app) reportCommand() *cobra.Command {
	var r reportFlags
	cmd := explain(&cobra.Command{
		Use: "report [JOB]", Short: "Put together a report for others: dumps, runs, drills, growth, copies",
		Args:              args(0, 1, ""),
		RunE:              func(_ *cobra.Command, names []string) error { return a.report(names, r) },
		ValidArgsFunction: a.jobNames(),
	}, usage{`Puts together the last dump of each kind of every database, the runs, restores and drills of
the journal, growth, and copies: as text, as CSV or JSON, as a spreadsheet, or as one HTML page
with plots that needs nothing else and prints well.`, [2]string{
		"grainkeep report --as html --to report.html --since '90 days'",
		"grainkeep report nightly --section databases --sort -size"}})
	f := cmd.Flags()
	a.fromFlag(cmd, &r.from)
	f.StringVar(&r.as, "as", "text", "`FORM`: "+strings.Join(reportForms, ", "))
	values(cmd, "as", reportForms...)
	f.StringVar(&r.out, "to", "", "write it into this `FILE`, which is made anew; left out: print it")
	f.StringVar(&r.section, "section", "", "just this `PART`: databases, dumps, restores, drills, growth, copies")
	values(cmd, "section", "databases", "dumps", "restores", "drills", "growth", "copies")
	f.StringVar(&r.sort, "sort", "", "sort by this `COLUMN` of the part, such as size; -size the other way")
	f.StringVar(&r.filter.Engine, "engine", "", "only databases of this `ENGINE` or product")
	f.StringVar(&r.filter.Server, "server", "", "only databases of this `SOURCE`, or of a server whose address has that in it")
	f.StringVar(&r.filter.Database, "database", "", "only databases of this `NAME` or pattern")
	f.StringVar(&r.filter.Kind, "kind", "", "only dumps of this `KIND`: full, differential, incremental")
	values(cmd, "kind", "full", "differential", "incremental")
	f.StringVar(&r.filter.Result, "result", "", "only runs of this `RESULT`: good, warned, failed, …")
	f.StringVar(&r.since, "since", "", "only runs and dumps after `WHEN`: a time, a date, or an age")
	f.StringVar(&r.until, "until", "", "only runs and dumps before `WHEN`")
	return cmd
}

func (a *app) report(names []string, r reportFlags) error {
	f, err := a.config()
	if err != nil {
		return err
	}
	if !slices.Contains(reportForms, r.as) {
		return fault.Wrong("flag-wrong", "--as is %q", r.as).Advise("write one of: %s", strings.Join(reportForms, ", "))
	}
	if r.as == "xlsx" && r.out == "" {
		return fault.Wrong("flag-missing", "a spreadsheet is no text").Advise("name the file: --to report.xlsx")
	}
	if len(names) > 0 {
		r.filter.Job = names[0]
	}
	zone := zoneOf(f)
	for _, w := range []struct {
		text string
		into *time.Time
	}{{r.since, &r.filter.Since}, {r.until, &r.filter.Until}} {
		if w.text == "" {
			continue
		}
		if *w.into, err = phrase.ParseSince(w.text, zone, clock.Now()); err != nil {
			return fault.Wrong("moment-unclear", "%v", err)
		}
	}
	made, err := a.gatherReport(f, r, zone)
	if err != nil {
		return err
	}
	return a.writeReport(made, r)
}

// gatherReport reads what the report is made of.
func (a *app) gatherReport(f *config.File, r reportFlags, zone *time.Location) (*report.Report, error) {
	dumps, err := a.everyCopy(f, r.from)
	if err != nil {
		return nil, err
	}
	in := report.Input{At: clock.Now(), Zone: zone, Filter: r.filter, Dumps: dumps, States: map[string]string{}}
	for _, d := range dumps {
		if d.Err != nil {
			a.warn("dump-unreadable", "%s: %v", d.Path(), d.Err)
		}
	}
	if r.from == "" {
		if j := a.openJournal(f); j != nil {
			if in.Runs, err = j.Runs(a.ctx, journal.Filter{Since: r.filter.Since, Until: r.filter.Until}); err != nil {
				return nil, err
			}
		}
		if f != nil && len(f.Jobs()) > 0 {
			lines, err := a.statusLines(nil)
			if err != nil {
				return nil, err
			}
			for _, l := range lines {
				in.States[l.Job+"/"+l.Database] = string(l.State)
			}
		}
	}
	made := report.Build(in)
	if r.section != "" {
		made.Tables = slices.DeleteFunc(made.Tables, func(t report.Table) bool { return t.Name != r.section })
		if len(made.Tables) == 0 {
			return nil, fault.Wrong("flag-wrong", "a report has no part %q", r.section).
				Advise("there are databases, dumps, restores, drills, growth and copies")
		}
	}
	if r.sort != "" {
		if r.section == "" {
			return nil, fault.Wrong("flag-missing", "--sort goes with --section").Advise("name the part that is to be sorted")
		}
		if err := made.Tables[0].Sort(r.sort); err != nil {
			return nil, fault.Wrong("flag-wrong", "%v", err)
		}
	}
	return made, nil
}

// writeReport writes a report in its form, into a file or for the terminal.
func (a *app) writeReport(made *report.Report, r reportFlags) error {
	a.result = made.JSON()
	var b bytes.Buffer
	var err error
	switch r.as {
	case "text":
		if r.out == "" {
			a.printReport(made)
			return nil
		}
		err = a.textReport(made, &b)
	case "csv":
		if len(made.Tables) != 1 {
			return fault.Wrong("flag-missing", "CSV holds one table").Advise("name the part: --section databases")
		}
		err = made.Tables[0].CSV(&b)
	case "json":
		err = made.Lines(&b)
	case "html":
		err = made.Page(&b)
	case "xlsx":
		err = made.Spreadsheet(&b)
	}
	if err != nil {
		return fault.New("report-failed", err, "the report could not be made")
	}
	if r.out == "" {
		a.print("%s", block(b.String()))
		return nil
	}
	if err := writeNew(r.out, b.Bytes()); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return fault.New("file-exists", nil, "%s exists already; it was not touched", r.out).Advise("name another file, or remove it")
		}
		return fault.New("file-unwritable", err, "cannot write %s", r.out)
	}
	a.print("%s\n", r.out)
	return nil
}

func (a *app) printReport(made *report.Report) {
	for i, t := range made.Tables {
		if i > 0 {
			a.print("\n")
		}
		a.print("%s\n", t.Title)
		if len(t.Rows) == 0 {
			a.print("  nothing\n")
			continue
		}
		var heads, right []string
		for _, c := range t.Columns {
			heads = append(heads, c.Title)
			if c.Right {
				right = append(right, c.Title)
			}
		}
		table := a.newTable(heads, right...).without("Last differential", "Last incremental", "From", "By", "Took", "Size",
			"Age").
			words("Why")
		for _, row := range t.Rows {
			cells := make([]any, len(row))
			for j, c := range row {
				cells[j] = made.Text(c)
				switch c := c.(type) {
				case time.Time:
					cells[j] = instant{c, made.Zone}
				case report.Mark:
					cells[j] = paint(a.stdout, map[bool]colour{true: green, false: red}[c.Good], made.Text(c))
				}
			}
			table.row(cells...)
		}
		a.print("%s\n", table.render())
	}
}

// textReport writes what the terminal would be shown.
func (a *app) textReport(made *report.Report, w io.Writer) error {
	to := &app{screen: screen{stdout: w, stderr: os.Stderr}, ctx: a.ctx}
	to.printReport(made)
	return to.mute
}
