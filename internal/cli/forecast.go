package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/forecast"
	"grainkeep/internal/job"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/retain"
)

func (a *app) forecastCommand() *cobra.Command {
	var picture string
	cmd := explain(&cobra.Command{
		Use: "forecast JOB", Short: "Show a year ahead: space, the day on which the floor is reached, restore points",
		Args:              args(1, 1, "a job"),
		RunE:              func(_ *cobra.Command, names []string) error { return a.forecast(names[0], picture) },
		ValidArgsFunction: a.jobNames(),
	}, usage{`Reckons a year ahead, from the job's schedule, its retain phrase, and the sizes and the
growth of its dumps: what they will take, when the floor of the keep is reached, how many
restore points of which age there will be, and what is written in the year.`, [2]string{"grainkeep forecast nightly",
		"grainkeep forecast nightly --picture nightly.svg"}})
	cmd.Flags().StringVar(&picture, "picture", "", "also draw it into this `FILE`, .png or .svg")
	return cmd
}

type jsonForecast struct {
	Job     string            `json:"job"`
	Now     int64             `json:"bytes_now"`
	Then    int64             `json:"bytes_then"`
	Peak    int64             `json:"bytes_peak"`
	Written int64             `json:"bytes_written"`
	Reached string            `json:"floor_reached,omitempty"`
	Growth  []forecast.Growth `json:"growth"`
	Ages    []forecast.Age    `json:"restore_points"`
	Days    []forecast.Day    `json:"days"`
}

func (a *app) forecast(name, picture string) error {
	f, err := a.needConfig()
	if err != nil {
		return err
	}
	if err := job.Of(f).Known(name); err != nil {
		return err
	}
	format := strings.TrimPrefix(filepath.Ext(picture), ".")
	if picture != "" && format != "png" && format != "svg" {
		return fault.Wrong("flag-wrong", "--picture is %q", picture).Advise("name a file that ends in .png or .svg")
	}
	k, err := a.jobs(f).OpenKeep(a.ctx, f.Job[name].Keep)
	if err != nil {
		return err
	}
	ask, err := a.forecastOf(f, name, k)
	if err != nil {
		return err
	}
	if len(ask.Dumps) == 0 {
		return fault.Wrong("dump-absent", "there is no dump of %s to reckon from",
			name).Advise("take one: 'grainkeep dump %s'", name)
	}
	if len(ask.Due) == 0 {
		return fault.Wrong("schedule-absent", "the job %s does not say when it is due", name).
			Advise("give it a phrase: full = \"02:30 on monday to saturday\"")
	}
	o := forecast.Reckon(ask)
	a.sayForecast(name, ask, o)
	if picture == "" {
		return nil
	}
	var b bytes.Buffer
	if err := o.Draw(&b, format, "What the dumps of "+name+" will take", bytesOf(ask)+ask.Left); err != nil {
		return err
	}
	if err := os.WriteFile(picture, b.Bytes(), 0o644); err != nil {
		return fault.New("picture-unwritable", err, "cannot write %s", picture)
	}
	a.say("Drawn into %s.", picture)
	return nil
}

// forecastOf is what a year ahead is reckoned from.
func (a *app) forecastOf(f *config.File, name string, k *keep.Keep) (ask forecast.Ask, err error) {
	j := f.Job[name]
	ask = forecast.Ask{Zone: f.Zone(), Now: clock.Now(), Thin: j.Thin == config.AfterGoodDump}
	for _, d := range []struct {
		kind manifest.Kind
		when any
	}{{manifest.Full, j.Full}, {manifest.Differential, j.Differential}, {manifest.Incremental, j.Incremental}} {
		when, err := config.Schedules(d.when)
		if err != nil {
			return ask, err
		}
		if len(when) > 0 {
			ask.Due = append(ask.Due, forecast.Due{Kind: string(d.kind), When: when})
		}
	}
	if ask.Retain, err = phrase.ParseRetain(j.Retain); err != nil {
		return ask, err
	}
	outlook, err := retain.Thinning{Keep: k, Job: name, Retain: ask.Retain, Zone: ask.Zone, Now: ask.Now}.Look(a.ctx)
	if err != nil {
		return ask, err
	}
	for i, v := range outlook.Verdicts {
		ask.Dumps = append(ask.Dumps, forecast.Dump{Item: v.Item, Bytes: outlook.Dumps[i].Manifest.StoredBytes})
	}
	room, err := k.Room(a.ctx)
	ask.Left, ask.Known = room.Left(), room.Known
	return ask, err
}

func bytesOf(ask forecast.Ask) (n int64) {
	for _, d := range ask.Dumps {
		n += d.Bytes
	}
	return n
}

func (a *app) sayForecast(name string, ask forecast.Ask, o forecast.Outlook) {
	now, then := bytesOf(ask), o.Days[len(o.Days)-1]
	x := jsonForecast{Job: name, Now: now, Then: then.Bytes, Peak: o.Peak, Written: o.Written, Growth: o.Growth,
		Ages: o.Ages, Days: o.Days}
	a.result = &x
	t := a.newTable(nil)
	t.row("now", phrase.Plural(int64(len(ask.Dumps)), "dump")+", "+phrase.Bytes(now))
	t.row("in a year", phrase.Plural(int64(then.Dumps),
		"dump")+", "+phrase.Bytes(then.Bytes)+"; at most "+phrase.Bytes(o.Peak)+
		" at a time")
	t.row("written", phrase.Bytes(o.Written)+" in the year")
	switch {
	case !o.Reached.IsZero():
		x.Reached = stamp(o.Reached)
		t.row("the floor", paint(a.stdout, red, "is reached on "+o.Reached.In(ask.Zone).Format("2 January 2006")))
	case ask.Known:
		t.row("the floor", "is not reached: "+phrase.Bytes(max(0, ask.Left))+" may be written above it now")
	}
	a.print("%s\n\n", t.render())
	width := a.room(a.stdout)
	if width == 0 {
		width = 80
	}
	for _, l := range o.Chart(min(width, 120)-1, 10) {
		a.print("%s\n", block(l))
	}
	a.print("\n")
	g := a.newTable([]string{"Database", "Newest", "Grows by", "Reckoned from"}, "Newest", "Grows by")
	for _, d := range o.Growth {
		by := "–"
		if d.From >= 3 {
			by = phrase.SignedBytes(int64(d.PerDay*30)) + " a month"
		}
		g.row(d.Of, phrase.Bytes(d.Bytes), by, phrase.Plural(int64(d.From), "dump"))
	}
	a.print("%s\n\n", g.render())
	p := a.newTable([]string{"Restore points in a year", ""}, "#2")
	for _, g := range o.Ages {
		p.row("  "+g.Name, phrase.Count(int64(g.Dumps)))
	}
	a.print("%s\n", p.render())
	for _, kind := range o.Assumed {
		a.say("There is no %s dump yet: one is reckoned with %g %% of a full.", kind, 100*forecast.Share[kind])
	}
	if !ask.Thin {
		a.say("Nothing is thinned by itself (thin = \"after a good dump\" would do it), so every dump stays.")
	}
}
