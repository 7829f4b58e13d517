package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/journal"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
)

type historyFlags struct {
	command, kind, result, since, until, log string
	last                                     int
	follow                                   bool
}

func (a *app) historyCommand() *cobra.Command {
	var h historyFlags
	cmd := explain(&cobra.Command{
		Use: "history [JOB or JOB/DATABASE]", Short: "Show the runs: what was done when, and what came of it",
		Args:              args(0, 1, ""),
		RunE:              func(_ *cobra.Command, names []string) error { return a.history(names, h) },
		ValidArgsFunction: a.jobNames(),
	}, usage{`Shows the newest runs of every command that changed something, from the journal. --log
prints what a run wrote, --follow what the runs write that go on now, and how far they
are.`, [2]string{
		"grainkeep history nightly --result failed --since '7 days'", "grainkeep history --follow"}})
	f := cmd.Flags()
	f.IntVar(&h.last, "last", 20, "so `MANY` runs; 0: all")
	f.StringVar(&h.command, "command", "", "only runs of this `COMMAND`: dump, drill, restore, …")
	f.StringVar(&h.kind, "kind", "", "only runs about dumps of this `KIND`: full, differential, incremental")
	values(cmd, "kind", "full", "differential", "incremental")
	f.StringVar(&h.result, "result", "", "only runs of this `RESULT`: good, warned, failed, refused, stopped, killed, running")
	f.StringVar(&h.since, "since", "", "only runs that began after `WHEN`: a time, a date, or an age")
	f.StringVar(&h.until, "until", "", "only runs that began before `WHEN`")
	f.StringVar(&h.log, "log", "", "print the log of the run with this `ID`")
	f.BoolVarP(&h.follow, "follow", "f", false, "show what runs now, until it is interrupted")
	var words []string
	for _, r := range journal.Results {
		words = append(words, string(r))
	}
	values(cmd, "result", words...)
	values(cmd, "command", "dump", "drill", "restore", "verify", "thin", "remove", "hold", "release")
	return cmd
}

// filter reads what is asked for.
func (h historyFlags) filter(f *config.File, names []string) (x journal.Filter, err error) {
	x.Most, x.ID, x.Kind = h.last, h.log, h.kind
	if h.last < 0 {
		return x, fault.Wrong("flag-wrong", "--last is %d", h.last)
	}
	if len(names) > 0 {
		x.Job, x.Name, _ = strings.Cut(names[0], "/")
	}
	if h.command != "" {
		x.Commands = []string{h.command}
	}
	if h.result != "" {
		if !slices.Contains(journal.Results, journal.Result(h.result)) {
			return x, fault.Wrong("flag-wrong", "--result is %q", h.result).Advise("write one of: %v", journal.Results)
		}
		x.Results = []journal.Result{journal.Result(h.result)}
	}
	for _, w := range []struct {
		text string
		into *time.Time
	}{{h.since, &x.Since}, {h.until, &x.Until}} {
		if w.text == "" {
			continue
		}
		when, err := phrase.ParseWhen(w.text, zoneOf(f), clock.Now())
		if err != nil {
			return x, fault.Wrong("moment-unclear", "%v", err)
		}
		*w.into = when.Until
	}
	return x, nil
}

// needJournal is for commands that do nothing without one.
func (a *app) needJournal(f *config.File) (*journal.Journal, error) {
	if j := a.openJournal(f); j != nil {
		return j, nil
	}
	return nil, fault.New("journal-unusable", nil, "there is no journal to look into").
		Advise("[journal] in the configuration names a folder for it")
}

func (a *app) history(names []string, h historyFlags) error {
	f, err := a.config()
	if err != nil {
		return err
	}
	x, err := h.filter(f, names)
	if err != nil {
		return err
	}
	j, err := a.needJournal(f)
	if err != nil {
		return err
	}
	if h.follow {
		return a.follow(j, x)
	}
	runs, err := j.Runs(a.ctx, x)
	if err != nil {
		return err
	}
	if h.log != "" {
		return a.printLog(j, runs, h.log)
	}
	a.printRuns(runs, zoneOf(f))
	return nil
}

type jsonRun struct {
	ID        string            `json:"id"`
	Command   string            `json:"command"`
	Job       string            `json:"job,omitempty"`
	StartedBy string            `json:"started_by,omitempty"`
	Host      string            `json:"host,omitempty"`
	Started   string            `json:"started"`
	Ended     string            `json:"ended,omitempty"`
	Result    string            `json:"result"`
	Code      string            `json:"code,omitempty"`
	Reason    string            `json:"reason,omitempty"`
	Advice    string            `json:"advice,omitempty"`
	Keep      string            `json:"keep,omitempty"`
	Log       string            `json:"log,omitempty"`
	Warnings  []journal.Warning `json:"warnings,omitempty"`
	Parts     []jsonPart        `json:"parts,omitempty"`
}

type jsonPart struct {
	Name    string  `json:"name"`
	Dump    string  `json:"dump,omitempty"`
	Path    string  `json:"path,omitempty"`
	Kind    string  `json:"kind,omitempty"`
	Moment  string  `json:"moment,omitempty"`
	Seconds float64 `json:"took_seconds,omitempty"`
	Rows    int64   `json:"rows,omitempty"`
	Bytes   int64   `json:"text_bytes,omitempty"`
	Stored  int64   `json:"bytes,omitempty"`
	Result  string  `json:"result"`
	Code    string  `json:"code,omitempty"`
	Reason  string  `json:"reason,omitempty"`
}

// stamp writes a time for --json.
func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}

func runOf(r journal.Run) jsonRun {
	x := jsonRun{ID: r.ID, Command: r.Command, Job: r.Job, StartedBy: r.StartedBy, Host: r.Host,
		Started: stamp(r.Started),
		Ended:   stamp(r.Ended), Result: string(r.Result), Code: r.Code, Reason: r.Reason, Advice: r.Advice,
		Keep: r.Place, Log: r.Log,
		Warnings: r.Warnings}
	for _, p := range r.Parts {
		x.Parts = append(x.Parts, jsonPart{Name: p.Name, Dump: p.Dump, Path: p.Path, Kind: p.Kind,
			Moment:  stamp(p.Moment),
			Seconds: p.Took.Seconds(), Rows: p.Rows, Bytes: p.Bytes, Stored: p.Stored, Result: string(p.Result),
			Code:   p.Code,
			Reason: p.Reason})
	}
	return x
}

func (a *app) printRuns(runs []journal.Run, zone *time.Location) {
	t := a.newTable([]string{"Run", "Began", "Took", "What", "Job", "By", "Result", "Of what"}, "Took").
		without("By", "Took", "Job").words("Of what")
	list := []jsonRun{}
	for _, r := range runs {
		list = append(list, runOf(r))
		took := "–"
		if !r.Ended.IsZero() {
			took = phrase.Duration(r.Ended.Sub(r.Started))
		}
		t.row(shortRun(r.ID), instant{r.Started, zone}, took, r.Command, orDash(r.Job), orDash(r.StartedBy),
			paint(a.stdout, resultColour(r.Result), string(r.Result)), whatOf(r))
	}
	a.result = list
	if len(runs) == 0 {
		a.say("No run is like that.")
		return
	}
	a.print("%s\n", t.render())
}

func shortRun(id string) string {
	if strings.HasPrefix(id, "drill-") { // from a proof: there is no log of it
		return "–"
	}
	return id[:min(8, len(id))]
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

// whatOf says what a run did, or why it failed.
func whatOf(r journal.Run) string {
	var stored, rows int64
	for _, p := range r.Parts {
		stored += p.Stored
		if !strings.HasPrefix(p.Name, manifest.FilesStart) { // what a folder has are no rows
			rows += p.Rows
		}
	}
	done := phrase.Plural(int64(len(r.Parts)), "dump")
	if r.Command == "dump" {
		var names []string
		for _, p := range r.Parts {
			names = append(names, p.Name)
		}
		done = databasesAnd(names)
	}
	switch {
	case r.Result == journal.Running && r.Progress.Step != "":
		return r.Progress.Step + " since " + phrase.Duration(clock.Since(r.Started))
	case r.Result == journal.Running:
		return "since " + phrase.Duration(clock.Since(r.Started))
	case r.Reason != "":
		return r.Reason
	case len(r.Parts) == 0:
		return ""
	case r.Command == "dump" || r.Command == "verify" || r.Command == "thin" || r.Command == "remove":
		done += ", " + phrase.Bytes(stored)
	case rows > 0:
		done += ", " + phrase.Plural(rows, "row")
	}
	if r.Result == journal.Warned && len(r.Warnings) > 0 {
		done += ", warned of " + strings.Join(codes(r.Warnings), ", ")
	}
	return done
}

// codes are those of warnings, each once.
func codes(list []journal.Warning) (codes []string) {
	for _, w := range list {
		if !slices.Contains(codes, w.Code) {
			codes = append(codes, w.Code)
		}
	}
	return codes
}

func resultColour(r journal.Result) colour {
	switch r {
	case journal.Good:
		return green
	case journal.Warned, journal.Stopped, journal.Refused:
		return yellow
	case journal.Running:
		return ""
	}
	return red
}

// printLog prints the log of the one run that an id means.
func (a *app) printLog(j *journal.Journal, runs []journal.Run, id string) error {
	switch {
	case len(runs) == 0:
		return fault.Wrong("run-absent", "there is no run %s in the journal",
			id).Advise("'grainkeep history' shows them")
	case len(runs) > 1:
		return fault.Wrong("name-ambiguous", "the id %s means several runs", id).Advise("write more of it")
	case runs[0].Log == "":
		return fault.New("log-absent", nil, "that run left no log")
	}
	f, err := j.Log(runs[0])
	if err != nil {
		return fault.New("log-absent", err,
			"the log of the run cannot be read").Advise("it is a file of the machine %s", runs[0].Host)
	}
	defer f.Close()
	var lines []string
	s := bufio.NewScanner(f)
	s.Buffer(nil, 1<<20)
	for s.Scan() {
		a.print("%s\n", s.Text())
		if a.json {
			lines = append(lines, s.Text())
		}
	}
	a.result = map[string]any{"run": runOf(runs[0]), "lines": lines}
	return s.Err()
}

// look is how often running work is looked at.
const look = 500 * time.Millisecond

// follow shows what the runs write that go on, and how far they are, until it is interrupted; of one run, until
// that has ended.
func (a *app) follow(j *journal.Journal, x journal.Filter) error {
	one := x.ID != ""
	x.Results = []journal.Result{journal.Running}
	tails := map[string]*logTail{}
	defer a.draw("")
	for first := true; a.ctx.Err() == nil; first = false {
		if _, err := j.Settle(a.ctx); err != nil && a.ctx.Err() == nil {
			return err
		}
		runs, err := j.Runs(a.ctx, x)
		if err != nil && a.ctx.Err() == nil {
			return err
		}
		for _, r := range runs {
			if tails[r.ID] == nil {
				tails[r.ID] = &logTail{run: r, name: strings.TrimSpace(r.Command + " " + r.Job)}
			}
		}
		for id, t := range tails {
			if err := a.showTail(j, t); err != nil {
				return err
			}
			if !slices.ContainsFunc(runs, func(r journal.Run) bool { return r.ID == id }) {
				delete(tails, id)
			}
		}
		switch {
		case one && len(runs) == 0:
			return nil
		case len(runs) == 0 && first:
			a.say("Nothing runs now.")
		}
		a.drawRuns(runs)
		select {
		case <-a.ctx.Done():
		case <-time.After(look):
		}
	}
	return nil
}

// drawRuns shows how far the runs are, below what they wrote.
func (a *app) drawRuns(runs []journal.Run) {
	if terminal(a.stderr) == 0 || a.quiet || a.json {
		return
	}
	var parts []string
	width := terminal(a.stderr) - 1
	for _, r := range runs {
		m := &event.Meter{}
		m.Begin(r.Progress.Step, 0, r.Progress.Expected)
		m.Rows.Store(r.Progress.Rows)
		m.Bytes.Store(r.Progress.Bytes)
		line := r.Job + " " + r.Command
		if r.Progress.Step != "" {
			since := []sample{{r.Started, 0}, {r.Progress.At, r.Progress.Bytes}}
			room := width/len(runs) - widthOf(r.Job+",  | ")
			line = r.Job + ", " + strings.TrimSuffix(progressLine(m, since, room), ": ")
		}
		parts = append(parts, line)
	}
	a.draw(cut(phrase.Clean(strings.Join(parts, " | ")), width, "…"))
}

// logTail reads what is added to a run's log.
type logTail struct {
	run  journal.Run
	name string
	at   int64
	half string // of a line
}

func (a *app) showTail(j *journal.Journal, t *logTail) error {
	f, err := j.Log(t.run)
	if errors.Is(err, os.ErrNotExist) {
		return nil // it is on another machine
	}
	if err != nil {
		return err
	}
	defer f.Close()
	data, err := io.ReadAll(io.NewSectionReader(f, t.at, 1<<20))
	if err != nil {
		return err
	}
	t.at += int64(len(data))
	lines := strings.Split(t.half+string(data), "\n")
	t.half = lines[len(lines)-1]
	for _, l := range lines[:len(lines)-1] {
		if a.json {
			if err := writeJSON(a.stdout, map[string]string{"run": t.name, "line": l}); err != nil {
				return fmt.Errorf("%w", err)
			}
			continue
		}
		a.print("%s  %s\n", t.name, l)
	}
	return nil
}
