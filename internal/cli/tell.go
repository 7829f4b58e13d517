package cli

import (
	"bytes"
	"context"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/journal"
	"grainkeep/internal/phrase"
	"grainkeep/internal/report"
	"grainkeep/internal/schedule"
	"grainkeep/internal/status"
	"grainkeep/internal/tell"
)

func (a *app) tellCommand() *cobra.Command {
	var test, summary, reports bool
	cmd := explain(&cobra.Command{
		Use: "tell [NAME]…", Short: "Tell people what is stale; send a test, or the morning's summary",
		Args: args(0, -1, ""),
		RunE: func(_ *cobra.Command, names []string) error { return a.tellPeople(names, test, summary, reports) },
	}, usage{`Tells those whom the configuration names of what has become stale and of what is well
again, and sends what could not be sent before. With --test it sends each of them a test,
with --summary how every database stands. The runs themselves tell of failures, warnings
and successes.`,
		[2]string{"grainkeep tell --test office", "grainkeep tell --summary"}})
	cmd.Flags().BoolVar(&test, "test", false, "send a test")
	cmd.Flags().BoolVar(&summary, "summary", false, "send how every database stands")
	cmd.Flags().BoolVar(&reports, "report", false, "send the report of the last 30 days")
	return cmd
}

// teller gives who tells people; an error where nobody is to be told.
func (a *app) teller(f *config.File) (*tell.Teller, error) {
	j, err := a.needJournal(f)
	if err != nil {
		return nil, err
	}
	t, err := job.Of(f).Teller(j)
	if err == nil && t == nil {
		err = fault.Wrong("tell-nobody", "the configuration names nobody to tell").
			Advise("add a section [tell.NAME]: by = \"mail\", \"webhook\" or \"syslog\"; see docs/configuration.md")
	}
	return t, err
}

func (a *app) tellPeople(names []string, test, summary, reports bool) error {
	f, err := a.needConfig()
	if err != nil {
		return err
	}
	t, err := a.teller(f)
	if err != nil {
		return err
	}
	for _, n := range names {
		if _, ok := f.Tell[n]; !ok {
			return fault.Wrong("tell-unknown", "there is no %q to tell", n).Advise("there are: %s",
				strings.Join(f.Tells(), ", "))
		}
	}
	sent := "what there was to tell has been told"
	switch {
	case test:
		sent = "a test has been sent"
		err = t.Post(a.ctx, tell.Message{Kind: tell.Test, At: clock.Now(), Title: "a test",
			Lines: []string{"This is a test. It arrived, so the way works."}}, names...)
	case summary:
		sent = "the summary has been sent"
		err = a.postSummary(f, t, names)
	case reports:
		sent = "the report has been sent"
		err = a.postReport(f, t, names)
	default:
		err = a.tellStates(f, t)
	}
	if err != nil {
		return err
	}
	return a.send(t, names, sent)
}

// send sends what waits, and says so of each channel that was asked for.
func (a *app) send(t *tell.Teller, names []string, sent string) error {
	failed := t.Send(a.ctx)
	for _, err := range failed {
		a.mention(err)
	}
	if len(failed) == 0 {
		for _, c := range t.Channels {
			if len(names) == 0 || strings.Contains(" "+strings.Join(names, " ")+" ", " "+c.Name+" ") {
				a.say("%s: %s", c.Name, sent)
			}
		}
	}
	return a.emit(map[string]any{"failed": len(failed)})
}

// tellStates tells of what is stale and of what is well again.
func (a *app) tellStates(f *config.File, t *tell.Teller) error {
	lines, err := a.statusLines(nil)
	if err != nil {
		return err
	}
	return t.States(a.ctx, statesOf(lines))
}

func statesOf(lines []status.Line) (list []tell.State) {
	for _, l := range lines {
		list = append(list, tell.State{Job: l.Job, Name: l.Database, Word: string(l.State), Why: l.Why,
			Stale: l.State.Stale()})
	}
	return list
}

// postSummary tells how every database stands, and what failed since yesterday.
func (a *app) postSummary(f *config.File, t *tell.Teller, names []string) error {
	lines, err := a.statusLines(nil)
	if err != nil {
		return err
	}
	now := clock.Now()
	m := tell.Message{Kind: tell.Summary, At: now, Table: &tell.Table{Header: []string{"Database", "Last dump", "Size",
		"Restore", "State"}}}
	var all, stale []string
	for _, l := range lines {
		all = append(all, l.Database)
		row := []string{phrase.Clean(strings.TrimSuffix(l.Job+"/"+l.Database, "/")), "–", "–", "–", string(l.State)}
		if d := l.Last; d != nil {
			row[1] = phrase.Local(d.Manifest.Moment, chain.Zone(d)) + " (" + phrase.Ago(now.Sub(d.Manifest.Moment)) +
				")"
			row[2], row[3] = phrase.Bytes(d.Manifest.StoredBytes), string(d.State())
		}
		m.Table.Rows = append(m.Table.Rows, row)
		if l.State.Stale() {
			stale = append(stale, l.Database)
			m.Lines = append(m.Lines, phrase.Clean(row[0]+": "+l.Why))
		}
	}
	m.Title = databasesAnd(all) + ", all good"
	if len(stale) > 0 {
		m.Title = needALook(stale) + ", of " + phrase.Count(int64(len(all)))
	}
	failed, err := t.Journal.Runs(a.ctx, journal.Filter{Since: now.AddDate(0, 0, -1),
		Results: []journal.Result{journal.Failed, journal.Killed, journal.Stopped}, Most: 20})
	if err != nil {
		return err
	}
	for _, r := range failed {
		m.Lines = append(m.Lines, phrase.Clean(phrase.Local(r.Started,
			f.Zone())+": "+strings.TrimSpace(r.Command+" "+r.Job)+" "+
			string(r.Result)+": "+r.Reason))
	}
	if len(failed) > 0 {
		m.Title += "; " + phrase.Plural(int64(len(failed)), "run") + " failed since yesterday"
	}
	return t.Post(a.ctx, m, names...)
}

// reported is how far back the report goes that is sent.
const reported = 30 * 24 * time.Hour

// postReport sends the report of the last month, as a page.
func (a *app) postReport(f *config.File, t *tell.Teller, names []string) error {
	now := clock.Now()
	made, err := a.gatherReport(f, reportFlags{filter: report.Filter{Since: now.Add(-reported)}}, f.Zone())
	if err != nil {
		return err
	}
	var page bytes.Buffer
	if err := made.Page(&page); err != nil {
		return err
	}
	m := tell.Message{Kind: tell.Summary, At: now, Title: "the report of the last 30 days",
		Lines: []string{"The report is attached: a page for a browser, which prints well."},
		Attached: &tell.Attachment{Name: "dumps-" + now.In(f.Zone()).Format("2006-01-02") + ".html", Type: "text/html",
			Data: page.Bytes()}}
	return t.Post(a.ctx, m, names...)
}

// summaries sends the summaries and reports that are due since the last, as the configuration says.
func (a *app) summaries(f *config.File, t *tell.Teller, now time.Time) error {
	for _, name := range f.Tells() {
		for _, x := range []struct {
			what string
			when any
			post func(*config.File, *tell.Teller, []string) error
		}{{"summary", f.Tell[name].Summary, a.postSummary}, {"report", f.Tell[name].Report, a.postReport}} {
			when, err := config.Schedules(x.when)
			if err != nil || len(when) == 0 {
				continue // it was checked when it was read
			}
			err = a.whenDue(f, t, x.what+" "+name, when, now, func() error { return x.post(f, t, []string{name}) })
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// whenDue does what is due since it was done last, which stands in the journal under a key.
func (a *app) whenDue(f *config.File, t *tell.Teller, key string, when []*phrase.Schedule, now time.Time, do func() error) error {
	was, err := t.Journal.Note(a.ctx, key, "")
	if err != nil {
		return err
	}
	last, err := time.Parse(time.RFC3339, was)
	if err != nil {
		last = now // the first time: from now on
	}
	due, _ := schedule.NewAgenda([]schedule.Plan{{When: when, CatchUp: schedule.DefaultCatchUp}}, f.Zone(),
		func(string, schedule.What) time.Time { return last }, now).Due(now)
	if len(due) > 0 {
		if err := do(); err != nil {
			return err
		}
	}
	if len(due) > 0 || was == "" {
		_, err = t.Journal.Note(a.ctx, key, now.UTC().Format(time.RFC3339))
		return err
	}
	return nil
}

// tellRun tells of a run that has ended, and sends what waits. No work depends on it.
func (a *app) tellRun(f *config.File, j *journal.Journal, id string) {
	t, err := job.Of(f).Teller(j)
	if t == nil {
		if err != nil {
			a.warn("not-told", "%v", err)
		}
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(a.ctx), 2*time.Minute)
	defer cancel()
	runs, err := j.Runs(ctx, journal.Filter{ID: id})
	for _, r := range runs {
		if err == nil {
			err = t.Run(ctx, r)
		}
	}
	if err != nil {
		a.warn("not-told", "nobody was told of this run: %v", err)
		return
	}
	for _, e := range t.Send(ctx) {
		a.warn("not-told", "%v; it is tried again", e)
	}
}
