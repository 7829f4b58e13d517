package cli

import (
	_ "embed"
	"fmt"
	"os"
	"strings"
	"time"

	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/schedule"
)

// The demo's night: what its job has more than on the first day, and what stands beside it.

//go:embed demo-harbour.sh
var harbour []byte

const nightKeys = `full      = "02:30"
drill     = "03:15"
retain    = "newest 5 fulls, one a day for 14 days, one a week for 8 weeks"
thin      = "after a good dump"
grace     = "20 min"
accept    = ["same-file-system"]               # judged: this is a demo
`

const nightSections = `
[[job.nightly.before]]                         # around the dumps: nobody books meanwhile
run = ["echo", "the booking desk closes"]
[[job.nightly.after]]                          # whatever happened
run = ["echo", "the booking desk opens"]

[[job.nightly.files]]                          # what belongs to the data
name   = "papers"
folder = "papers"

[source.harbour]                               # any other system, by commands of one's own
engine  = "command"
dump    = ["./harbour.sh", "dump"]
restore = ["./harbour.sh", "restore"]
check   = ["./harbour.sh", "check"]
folder  = "."

[job.messages]
source = "harbour"
keep   = "barn"
full   = "02:30"
drill  = "03:15"
accept = ["same-file-system"]
`

// papers are the demo's companion folder.
var papers = map[string]string{"papers/timetable.txt": "Puffin Holm 08:10, Gannet Rock 09:40, Skerry Light 11:05\n",
	"papers/crew/anna.txt": "skipper, licence until 2028\n", "papers/crew/ben.txt": "mate, first aid\n",
	"papers/cargo/label.txt": "THIS SIDE UP\n"}

// firstDay is the afternoon on which the demo begins, so that its last morning is the newest that there was.
func firstDay(zone *time.Location) time.Time {
	now := time.Now().In(zone)
	morning := time.Date(now.Year(), now.Month(), now.Day(), 8, 10, 0, 0, zone)
	if morning.After(now) {
		morning = morning.AddDate(0, 0, -1)
	}
	return time.Date(morning.Year(), morning.Month(), morning.Day()-2, 15, 0, 0, 0, zone)
}

// night goes through two nights and the mornings after, on a clock that it moves.
func (w *walk) night() {
	if w.err != nil || w.stage.night == "" {
		return
	}
	if w.err = w.prepareNight(); w.err != nil {
		return
	}
	zone := w.zone
	evening := firstDay(zone).Add(6 * time.Hour)
	w.say("── 9. The night. The job says when it is due, what is kept, and what is done around it:\n\n%s%s",
		block(nightKeys), block(nightSections))
	w.at(evening, "you look what tonight will bring")
	w.run("0", "schedule", "--next", "5")
	w.say("   'grainkeep schedule serve' runs that under a service manager. Here, the clock is moved:")
	w.until(evening.Add(11 * time.Hour))
	w.at(evening.Add(11*time.Hour), "the morning after")
	w.run("0", "status", "--offline")
	w.run("0", "history", "--last", "6")
	w.say("── 10. Another night, in which the keep's drive is not mounted. Nothing is begun; the booking desk does not even close.")
	if err := os.Rename("barn", "barn-not-mounted"); err != nil {
		w.err = err
		return
	}
	w.until(evening.Add(32 * time.Hour))
	if err := os.Rename("barn-not-mounted", "barn"); err != nil {
		w.err = err
		return
	}
	w.at(evening.Add(35*time.Hour),
		"the morning after, with the drive mounted again: exit code 4 says that something is stale")
	w.run("4", "status", "--offline")
	w.run("0", "history", "--result", "failed")
	w.run("03", "--quiet", "dump", "nightly", "messages")
	w.run("0", "--quiet", "drill", "nightly", "messages")
	w.run("0", "status", "--offline")
	w.run("0", "thin", "nightly")
	w.run("0", "forecast", "nightly")
}

// prepareNight writes what the night needs.
func (w *walk) prepareNight() error {
	for path, text := range papers {
		if err := os.MkdirAll(path[:strings.LastIndexByte(path, '/')], 0o755); err != nil {
			return err
		}
		if err := writeNew(path, []byte(text)); err != nil {
			return err
		}
	}
	var messages strings.Builder
	for n := range 400 {
		fmt.Fprintf(&messages, "message %d: berth %d is free\n", n+1, n%4+1)
	}
	if err := writeNew("messages.txt", []byte(messages.String())); err != nil {
		return err
	}
	if err := os.WriteFile("harbour.sh", harbour, 0o755); err != nil {
		return err
	}
	return os.WriteFile("grainkeep.toml", []byte(w.stage.night), 0o600)
}

// at moves the clock.
func (w *walk) at(t time.Time, what string) {
	clock.MoveTo(t)
	w.say("   %s — %s", block(t.Format("Monday 15:04")), what)
}

// until does what is due, as 'schedule serve' does, and moves the clock from one to the next.
func (w *walk) until(end time.Time) {
	if w.err != nil {
		return
	}
	f, err := config.Find("grainkeep.toml")
	if err != nil {
		w.err = err
		return
	}
	plans, err := plansOf(f, nil)
	if err != nil {
		w.err = err
		return
	}
	if w.err = os.Setenv(startedBy, "schedule"); w.err != nil {
		return
	}
	defer os.Unsetenv(startedBy)
	started := clock.Now()
	agenda := schedule.NewAgenda(plans, f.Zone(), func(string, schedule.What) time.Time { return started }, started)
	for now := started; now.Before(end) && w.err == nil; now = agenda.Wake(now, 24*time.Hour) {
		due, _ := agenda.Due(now)
		for _, d := range due {
			clock.MoveTo(d.At.Add(time.Second))
			w.a.print("\n   %s  the %s of %s begins\n", d.At.In(f.Zone()).Format("15:04"), d.What, d.Job)
			w.quietly(schedule.Plan{Job: d.Job, What: d.What}.Words())
		}
	}
}

// quietly runs a command of the night, and shows what it complains of.
func (w *walk) quietly(words []string) {
	code := Run(w.a.ctx, append([]string{"--config", "grainkeep.toml", "--quiet"}, words...), &demoOut{w.a},
		&demoOut{w.a})
	switch fault.Class(code) {
	case fault.Done, fault.Warned:
		w.a.print("          done\n")
	default:
		w.a.print("          (exit code %d)\n", code)
	}
}
