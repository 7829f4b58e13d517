package report

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
)

// Filter says what a report is about. What is left empty does not matter.
type Filter struct {
	Engine, Server, Job, Kind, Result string
	Database                          string // a name or a pattern
	Since, Until                      time.Time
}

// Words tell a filter.
func (f Filter) Words(zone *time.Location) string {
	var list []string
	for _, x := range [][2]string{{"engine", f.Engine}, {"server", f.Server}, {"job", f.Job}, {"database", f.Database},
		{"kind", f.Kind}, {"result", f.Result}} {
		if x[1] != "" {
			list = append(list, x[0]+" "+x[1])
		}
	}
	if !f.Since.IsZero() {
		list = append(list, "since "+phrase.Local(f.Since, zone))
	}
	if !f.Until.IsZero() {
		list = append(list, "until "+phrase.Local(f.Until, zone))
	}
	return strings.Join(list, ", ")
}

// dump says whether a dump is meant, whatever its time.
func (f Filter) dump(m *manifest.Manifest) bool {
	return m != nil && (f.Engine == "" || m.Source.Engine == f.Engine || strings.EqualFold(m.Source.Product, f.Engine)) &&
		(f.Server == "" || m.Source.Name == f.Server || strings.Contains(m.Source.Where, f.Server)) &&
		(f.Job == "" || m.Job == f.Job) && (f.Database == "" || phrase.Match(f.Database, m.Database)) &&
		(f.Kind == "" || string(m.Kind) == f.Kind)
}

// within says whether a time is meant.
func (f Filter) within(at time.Time) bool {
	return !at.Before(f.Since) && (f.Until.IsZero() || at.Before(f.Until))
}

// Input is what a report is made of.
type Input struct {
	At     time.Time
	Zone   *time.Location
	Filter Filter
	Dumps  []*keep.Dump      // every copy, of all keeps, oldest first
	Runs   []journal.Run     // the newest first
	States map[string]string // of JOB/DATABASE, by status; may be empty
}

// Build makes a report.
func Build(in Input) *Report {
	r := &Report{Title: "Database dumps", At: in.At, Zone: in.Zone, Of: in.Filter.Words(in.Zone)}
	b := &builder{Input: in, byName: map[string][]*keep.Dump{}}
	seen := map[string]bool{}
	for _, d := range in.Dumps {
		if d.Manifest == nil || !in.Filter.dump(d.Manifest) || seen[d.Origin()] {
			continue
		}
		seen[d.Origin()] = true
		if len(b.byName[d.Name()]) == 0 {
			b.names = append(b.names, d.Name())
		}
		b.byName[d.Name()] = append(b.byName[d.Name()], d)
	}
	slices.Sort(b.names)
	r.Tables = []Table{b.databases(), b.runs("dumps", "Runs", "dump"), b.runs("restores", "Restores", "restore"),
		b.runs("drills", "Drills", "drill"), b.growth(), b.copies()}
	r.Plots = b.plots()
	return r
}

type builder struct {
	Input
	names  []string
	byName map[string][]*keep.Dump // oldest first, of copies one
}

func (b *builder) databases() Table {
	t := Table{Name: "databases", Title: "Databases", Columns: Columns("Database", "From", "Last full", "Last differential",
		"Last incremental", "Age", "#Size", "#Took", "Restore", "State")}
	for _, name := range b.names {
		list := b.byName[name]
		last := list[len(list)-1]
		of := map[manifest.Kind]any{}
		for _, d := range list {
			of[d.Manifest.Kind] = d.Manifest.Moment
		}
		m, s := last.Manifest, last.State()
		var state any
		if word := b.States[name]; word != "" {
			state = Mark{word, word == "good"}
		}
		t.Rows = append(t.Rows, []any{name, strings.TrimSpace(m.Source.Product + " " + m.Source.Version), of[manifest.Full],
			of[manifest.Differential], of[manifest.Incremental], Ago(m.Moment), Bytes(m.StoredBytes), m.Finished.Sub(m.Started),
			Mark{string(s), s == keep.Proven}, state})
	}
	return t
}

// runs are those of a command.
func (b *builder) runs(name, title, command string) Table {
	t := Table{Name: name, Title: title, Columns: Columns("Began", "Job", "#Took", "By", "Result", "Databases", "#Size", "Why")}
	for _, r := range b.Runs {
		if r.Command != command || !b.Filter.within(r.Started) || b.Filter.Job != "" && r.Job != b.Filter.Job ||
			b.Filter.Result != "" && string(r.Result) != b.Filter.Result {
			continue
		}
		var names []string
		var stored int64
		for _, p := range r.Parts {
			if (b.Filter.Database == "" || phrase.Match(b.Filter.Database, p.Name)) && (b.Filter.Kind == "" || p.Kind == b.Filter.Kind) {
				names = append(names, p.Name)
				stored += p.Stored
			}
		}
		if len(names) == 0 && (b.Filter.Database != "" || b.Filter.Kind != "") {
			continue
		}
		var took any
		if !r.Ended.IsZero() {
			took = r.Ended.Sub(r.Started)
		}
		why := r.Reason
		if why == "" && len(r.Warnings) > 0 {
			why = fmt.Sprintf("warned: %s", r.Warnings[0].Text)
		}
		good := r.Result == journal.Good || r.Result == journal.Warned || r.Result == journal.Running
		t.Rows = append(t.Rows, []any{r.Started, r.Job, took, r.StartedBy, Mark{string(r.Result), good}, strings.Join(names, ", "),
			Bytes(stored), why})
	}
	return t
}

// month is that by which growth is told.
const month = 30 * 24 * time.Hour

// growth tells how the fulls of each database grow.
func (b *builder) growth() Table {
	t := Table{Name: "growth", Title: "Growth", Columns: Columns("Database", "#Fulls", "#First", "#Now", "#A month", "Since")}
	for _, name := range b.names {
		var fulls []*keep.Dump
		for _, d := range b.byName[name] {
			if d.Manifest.Kind == manifest.Full && b.Filter.within(d.Manifest.Moment) {
				fulls = append(fulls, d)
			}
		}
		if len(fulls) == 0 {
			continue
		}
		first, last := fulls[0].Manifest, fulls[len(fulls)-1].Manifest
		var monthly any
		if span := last.Moment.Sub(first.Moment); span >= 24*time.Hour {
			monthly = Bytes(float64(last.StoredBytes-first.StoredBytes) * float64(month) / float64(span))
		}
		t.Rows = append(t.Rows, []any{name, int64(len(fulls)), Bytes(first.StoredBytes), Bytes(last.StoredBytes), monthly, first.Moment})
	}
	return t
}

// copies tells what each keep has of each database.
func (b *builder) copies() Table {
	t := Table{Name: "copies", Title: "Copies", Columns: Columns("Database", "Keep", "#Dumps", "#Size", "Newest", "Age", "Restore")}
	type place struct{ name, where string }
	var order []place
	of := map[place][]*keep.Dump{}
	for _, d := range b.Dumps {
		if d.Manifest == nil || d.Keep == nil || !b.Filter.dump(d.Manifest) {
			continue
		}
		p := place{d.Name(), d.Keep.Where()}
		if len(of[p]) == 0 {
			order = append(order, p)
		}
		of[p] = append(of[p], d)
	}
	sort.Slice(order, func(i, j int) bool {
		return order[i].name < order[j].name || order[i].name == order[j].name && order[i].where < order[j].where
	})
	for _, p := range order {
		list := of[p]
		var size int64
		for _, d := range list {
			size += d.Manifest.StoredBytes
		}
		last := list[len(list)-1]
		s := last.State()
		t.Rows = append(t.Rows, []any{p.name, p.where, int64(len(list)), Bytes(size), last.Manifest.Moment, Ago(last.Manifest.Moment),
			Mark{string(s), s == keep.Proven}})
	}
	return t
}

// plots are those of the databases of which there are several dumps, the largest first.
func (b *builder) plots() []Plot {
	sizes, took, ages := Plot{Title: "Size of the dumps", Of: Sizes}, Plot{Title: "How long they took", Of: Durations},
		Plot{Title: "Age of the newest moment", Of: Durations}
	names := slices.Clone(b.names)
	size := func(name string) int64 {
		list := b.byName[name]
		return list[len(list)-1].Manifest.StoredBytes
	}
	sort.SliceStable(names, func(i, j int) bool { return size(names[i]) > size(names[j]) })
	for _, name := range names {
		var s, d, a []Point
		var before time.Time
		for _, x := range b.byName[name] {
			m := x.Manifest
			if !b.Filter.within(m.Moment) {
				continue
			}
			if m.Kind == manifest.Full {
				s = append(s, Point{m.Moment, float64(m.StoredBytes)})
				d = append(d, Point{m.Moment, m.Finished.Sub(m.Started).Seconds()})
			}
			if !before.IsZero() { // just before the next one, it was as old as that
				a = append(a, Point{m.Moment, m.Moment.Sub(before).Seconds()})
			}
			a, before = append(a, Point{m.Moment, 0}), m.Moment
		}
		if !before.IsZero() && b.At.After(before) {
			a = append(a, Point{b.At, b.At.Sub(before).Seconds()})
		}
		if len(s) > 1 {
			sizes.Lines, took.Lines = append(sizes.Lines, Line{name, s}), append(took.Lines, Line{name, d})
		}
		if len(a) > 1 {
			ages.Lines = append(ages.Lines, Line{name, a})
		}
	}
	return slices.DeleteFunc([]Plot{sizes, took, ages}, func(p Plot) bool { return len(p.Lines) == 0 })
}
