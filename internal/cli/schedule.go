package cli

import (
	"fmt"
	"maps"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/schedule"
)

func (a *app) scheduleCommand() *cobra.Command {
	var next int
	cmd := explain(&cobra.Command{
		Use: "schedule [JOB]", Short: "Show what is due when, and why; run it, or write it for cron or systemd",
		Args:              args(0, 1, ""),
		RunE:              func(_ *cobra.Command, names []string) error { return a.schedule(names, next) },
		ValidArgsFunction: a.jobNames(),
	}, usage{`Shows the next runs of all jobs, or of one, and why each is due; with the clock of this
machine beside those of the servers, because a wrong clock is the commonest mistake.
It starts nothing: 'schedule serve' does, or cron or systemd by what 'schedule export' writes.`, [2]string{"grainkeep schedule",
		"grainkeep schedule nightly --next 30"}})
	cmd.Flags().IntVar(&next, "next", 10, "so `MANY` runs")
	cmd.AddCommand(a.scheduleServeCommand(), a.scheduleExportCommand(), a.scheduleTokenCommand())
	return cmd
}

// plansOf are what is due of jobs: of one, or of all.
func plansOf(f *config.File, names []string) ([]schedule.Plan, error) {
	jobs := f.Jobs()
	if len(names) > 0 {
		if err := job.Of(f).Known(names[0]); err != nil {
			return nil, err
		}
		jobs = names[:1]
	}
	var plans []schedule.Plan
	for _, name := range jobs {
		j := f.Job[name]
		for _, p := range []struct {
			what schedule.What
			when any
		}{{schedule.Full, j.Full}, {schedule.Differential, j.Differential}, {schedule.Incremental, j.Incremental},
			{schedule.Copy, j.Copy}, {schedule.Drill, j.Drill}, {schedule.Verify, j.Verify}} {
			when, err := config.Schedules(p.when)
			if err != nil {
				return nil, err
			}
			if len(when) == 0 {
				continue
			}
			plan := schedule.Plan{Job: name, What: p.what, When: when, CatchUp: schedule.DefaultCatchUp}
			if j.CatchUp != "" {
				if plan.CatchUp, err = phrase.ParseAge(j.CatchUp); err != nil {
					return nil, err
				}
			}
			if j.Spread != "" {
				if plan.Spread, err = phrase.ParseAge(j.Spread); err != nil {
					return nil, err
				}
			}
			plans = append(plans, plan)
		}
	}
	if len(names) == 0 {
		besides := map[schedule.What]map[string]any{schedule.Refresh: {}, schedule.Standby: {}}
		for _, name := range f.Refreshes() {
			besides[schedule.Refresh][name] = f.Refresh[name].When
		}
		for _, name := range f.Standbys() {
			besides[schedule.Standby][name] = f.Standby[name].When
		}
		for _, what := range []schedule.What{schedule.Refresh, schedule.Standby} {
			for _, name := range slices.Sorted(maps.Keys(besides[what])) {
				when, err := config.Schedules(besides[what][name])
				if err != nil {
					return nil, err
				}
				if len(when) > 0 {
					plans = append(plans, schedule.Plan{Job: name, What: what, When: when, CatchUp: schedule.DefaultCatchUp})
				}
			}
		}
	}
	if len(plans) == 0 {
		return nil, fault.Wrong("schedule-absent", "no job says when it is due").
			Advise("give it a phrase: full = \"02:30 on sunday\", drill = \"11:00 on sunday\"")
	}
	return plans, nil
}

type jsonDue struct {
	At   string `json:"at"`
	Job  string `json:"job"`
	What string `json:"what"`
	Why  string `json:"why"`
}

func (a *app) schedule(names []string, next int) error {
	f, err := a.needConfig()
	if err != nil {
		return err
	}
	if next < 1 || next > 10_000 {
		return fault.Wrong("flag-wrong", "--next is %d", next).Advise("write a number from 1 to 10,000")
	}
	plans, err := plansOf(f, names)
	if err != nil {
		return err
	}
	now, zone := clock.Now(), f.Zone()
	last, err := a.lastRuns(f, plans)
	if err != nil {
		return err
	}
	due := schedule.Next(plans, last, now, zone, next)
	a.clocks(f, plans, now)
	t := a.newTable([]string{"When", "In", "Job", "What", "Why"}).words("Why")
	list := []jsonDue{}
	for _, d := range due {
		t.row(instant{d.At, zone}, inWords(d.At.Sub(now)), d.Job, d.What, d.Why)
		list = append(list, jsonDue{d.At.UTC().Format(time.RFC3339), d.Job, string(d.What), d.Why})
	}
	if a.result = list; len(due) == 0 {
		a.say("Nothing is due any more: every phrase has come to its last date.")
		return nil
	}
	a.print("%s\n", t.render())
	a.say("'grainkeep schedule serve' runs them; 'grainkeep schedule export' writes what cron or systemd needs to do it.")
	return nil
}

// inWords says how far ahead something is.
func inWords(d time.Duration) string {
	if d < 48*time.Hour {
		return phrase.Duration(d.Round(time.Minute))
	}
	return phrase.Plural(int64(d.Hours()/24+0.5), "day")
}

// clocks shows this machine's clock beside those of the servers.
func (a *app) clocks(f *config.File, plans []schedule.Plan, now time.Time) {
	head := a.newTable(nil)
	head.row("this machine", phrase.Local(now, f.Zone())+", zone "+f.Zone().String())
	seen := map[string]bool{}
	for _, p := range plans {
		name := f.Job[p.Job].Source
		if e := f.Source[name].Engine; seen[name] || e == "sqlite" || e == config.Command || e == "" {
			continue
		}
		seen[name] = true
		at, err := job.Of(f).Location(name)
		var server engine.Server
		if err == nil {
			var src engine.Source
			if src, err = engine.Open(a.ctx, at); err == nil {
				server, err = src.Describe(a.ctx)
				src.Close()
			}
		}
		if err != nil {
			a.mention(fmt.Errorf("the clock of %s is not known: %w", name, err))
			continue
		}
		head.row(name, skew(clock.Until(server.Clock))+"; its zone is "+server.Zone)
	}
	a.print("%s\n\n", head.render())
}

// lastOf tells when things were done last, by what the keeps hold.
func (a *app) lastOf(f *config.File, plans []schedule.Plan) (schedule.Last, error) {
	done := map[string]time.Time{}
	note := func(job string, what schedule.What, at time.Time) {
		if key := job + "/" + string(what); at.After(done[key]) {
			done[key] = at
		}
	}
	looked := map[string]bool{}
	for _, p := range plans {
		name := f.Job[p.Job].Keep
		if looked[name] || p.What.Beside() { // of which the journal knows
			continue
		}
		looked[name] = true
		k, err := a.jobs(f).OpenKeep(a.ctx, name)
		if fault.HasCode(err, "keep-absent") || fault.HasCode(err, "keep-unmarked") {
			a.mention(err)
			continue
		}
		if err != nil {
			return nil, err
		}
		if k.Blind() { // the journal knows
			continue
		}
		dumps, err := k.Dumps(a.ctx)
		if err != nil {
			return nil, err
		}
		for _, d := range dumps {
			noteDump(d, note)
		}
	}
	return func(job string, what schedule.What) time.Time { return done[job+"/"+string(what)] }, nil
}

func noteDump(d *keep.Dump, note func(job string, what schedule.What, at time.Time)) {
	if d.Manifest == nil {
		return
	}
	for _, what := range map[manifest.Kind][]schedule.What{ // a larger one stands for the smaller
		manifest.Full:         {schedule.Full, schedule.Differential, schedule.Incremental},
		manifest.Differential: {schedule.Differential, schedule.Incremental},
		manifest.Incremental:  {schedule.Incremental},
	}[d.Manifest.Kind] {
		note(d.Manifest.Job, what, d.Manifest.Started)
	}
	if p := d.LastProof(); p != nil {
		note(d.Manifest.Job, schedule.Drill, p.At)
	}
}

type exportFlags struct{ as, user, program, folder string }

func (a *app) scheduleExportCommand() *cobra.Command {
	var e exportFlags
	cmd := explain(&cobra.Command{
		Use: "export [JOB]", Short: "Write crontab lines or systemd units",
		Args:              args(0, 1, ""),
		RunE:              func(_ *cobra.Command, names []string) error { return a.exportSchedule(names, e) },
		ValidArgsFunction: a.jobNames(),
	}, usage{`Writes the schedule of all jobs, or of one, as crontab lines, or as service and timer units
of systemd, which see the system read-only. It says what the target cannot express,
and which user must be able to read and write what, with the line that tests it.`, [2]string{
		"grainkeep schedule export --as crontab",
		"grainkeep schedule export --as systemd --user dumper --folder /etc/systemd/system"}})
	f := cmd.Flags()
	f.StringVar(&e.as, "as", "systemd",
		"`WHAT` to write: crontab, systemd (a timer for each thing that is due), or service (one for 'schedule serve')")
	f.StringVar(&e.user, "user", "", "the `USER` that the jobs run as (else this one)")
	f.StringVar(&e.program, "program", "", "`PATH` of this program (else where it is now)")
	f.StringVar(&e.folder, "folder", "", "write the units as files into this `FOLDER`; left out: print them")
	values(cmd, "as", "crontab", "systemd", "service")
	return cmd
}

func (a *app) exportSchedule(names []string, e exportFlags) error {
	if e.as != "crontab" && e.as != "systemd" && e.as != "service" {
		return fault.Wrong("flag-wrong", "--as is %q",
			e.as).Advise("write crontab, systemd (a timer for each) or service ('schedule serve')")
	}
	f, err := a.needConfig()
	if err != nil {
		return err
	}
	plans, err := plansOf(f, names)
	if err != nil {
		return err
	}
	m, err := machineOf(f, plans, e)
	if err != nil {
		return err
	}
	if e.as == "crontab" {
		text, cannot := schedule.Crontab(plans, m)
		a.print("%s", block(phrase.CleanLines(text)))
		a.cannotExport("cron", cannot)
		return a.emit(map[string]any{"crontab": text, "cannot": cannot})
	}
	units, cannot := schedule.Units(plans, m)
	if e.as == "service" {
		units, cannot = []schedule.Unit{schedule.ServiceUnit(plans, m)}, nil
	}
	list := map[string]string{}
	for _, u := range units {
		list[u.Name] = u.Text
		if e.folder == "" {
			a.print("# %s\n%s\n", u.Name, block(phrase.CleanLines(u.Text)))
			continue
		}
		path := filepath.Join(e.folder, u.Name)
		if err := os.WriteFile(path, []byte(u.Text), 0o644); err != nil {
			return fault.New("unit-unwritable", err, "cannot write %s", path)
		}
		a.print("%s\n", path)
	}
	a.cannotExport("systemd", cannot)
	if e.as == "service" {
		a.say("Next: systemctl daemon-reload, then systemctl enable --now grainkeep; 'journalctl -u grainkeep' shows what it says.")
	} else {
		a.say("Next: systemctl daemon-reload, then systemctl enable --now NAME.timer for each; 'systemctl list-timers' shows them.")
	}
	return a.emit(map[string]any{"units": list, "cannot": cannot})
}

func (a *app) cannotExport(to string, cannot []string) {
	for _, c := range cannot {
		a.warn("not-exported", "%s cannot express everything: %s", to, c)
	}
}

// machineOf is what the system's scheduler must know of this machine and of the jobs.
func machineOf(f *config.File, plans []schedule.Plan, e exportFlags) (schedule.Machine, error) {
	m := schedule.Machine{Program: e.program, User: e.user, Zone: f.Zone().String(), Local: config.LocalZoneName()}
	var err error
	if m.Program == "" {
		if m.Program, err = os.Executable(); err != nil {
			return m, err
		}
	}
	if m.User == "" {
		me, err := user.Current()
		if err != nil {
			return m, err
		}
		m.User = me.Username
	}
	if strings.ContainsFunc(m.User, func(c rune) bool { return c <= ' ' || strings.ContainsRune("\"'\\%$;#", c) }) {
		return m, fault.Wrong("flag-wrong", "%q is no name of a user", m.User)
	}
	if m.Config, err = filepath.Abs(f.Path()); err != nil {
		return m, err
	}
	add := func(list *[]string, path string) {
		if path != "" && !slices.Contains(*list, path) {
			*list = append(*list, path)
		}
	}
	add(&m.Writes, config.StateFolder(f))
	for _, name := range f.Tells() {
		if path, ok := strings.CutPrefix(f.Tell[name].Secret, "file:"); ok {
			add(&m.Reads, f.Absolute(path))
		}
	}
	for _, p := range plans {
		j := f.Job[p.Job]
		switch p.What {
		case schedule.Refresh:
			j = config.Job{Source: f.Refresh[p.Job].To}
		case schedule.Standby:
			j = config.Job{Source: f.Standby[p.Job].To}
		}
		for _, name := range []string{j.Source, j.DrillOn} {
			s := f.Source[name]
			if path, ok := strings.CutPrefix(s.Secret, "file:"); ok {
				add(&m.Reads, f.Absolute(path))
			}
			if s.Path != "" {
				add(&m.Writes, f.Absolute(s.Path))
			}
		}
		if k := f.Keep[j.Keep]; k.Store == "" && j.Keep != "" {
			add(&m.Writes, f.Absolute(k.Folder))
		}
		for _, c := range j.Files {
			add(&m.Reads, f.Absolute(c.Folder))
		}
	}
	return m, nil
}
