package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/config"
	"grainkeep/internal/dump"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
)

func (a *app) surveyCommand() *cobra.Command {
	var from string
	cmd := explain(&cobra.Command{
		Use: "survey [SOURCE or JOB]", Short: "Look before the dump: what is there, what a job takes, rights, room",
		Args: args(0, 1, ""),
		RunE: func(_ *cobra.Command, names []string) error {
			name := ""
			if len(names) > 0 {
				name = names[0]
			}
			return a.survey(from, name)
		},
		ValidArgsFunction: a.jobNames(),
	}, usage{`Looks at a source or a job before anything is dumped: the server and its clock, the
databases and which entry of the job takes them, what could not be dumped and why,
and the room in the keep. Without a name, at every job.`, [2]string{
		"grainkeep survey nightly",
		"grainkeep survey --from postgres://you@db1/"}})
	cmd.Flags().StringVar(&from, "from", "", "a `SOURCE` that is not configured: a URL or a path")
	return cmd
}

// looked is one survey with what it is of.
type looked struct {
	title string
	at    engine.Location
	*dump.Survey
	accept  []string // codes of warnings
	chained bool     // its dumps build on each other
	changes string   // how they find what changed, as the configuration has it
}

func (a *app) survey(from, name string) error {
	f, err := a.config()
	if err != nil {
		return err
	}
	if from == "" && f == nil {
		_, err := a.needConfig()
		return err
	}
	var names []string
	switch {
	case from != "":
		return a.surveySource(f, from)
	case name == "":
		names = f.Jobs()
		if len(names) == 0 {
			return fault.Wrong("job-unknown", "the configuration %s has no jobs yet", f.Path()).
				Advise("name a source: 'grainkeep survey SOURCE'")
		}
	default:
		if _, ok := f.Job[name]; !ok {
			return a.surveySource(f, name)
		}
		names = []string{name}
	}
	var all []any
	for i, n := range names {
		if i > 0 {
			a.print("\n")
		}
		v, err := a.surveyJob(f, n)
		if err != nil {
			if len(names) == 1 {
				return err
			}
			a.mention(fmt.Errorf("job %s: %w", n, err))
			continue
		}
		all = append(all, v)
	}
	return a.emit(all)
}

func (a *app) surveySource(f *config.File, from string) error {
	at, err := job.Of(f).Address(from)
	if err != nil {
		return err
	}
	j := &dump.Job{Source: at, Server: at.Database == ""}
	if at.Database != "" {
		j.Choice.Databases = []string{at.Database}
	}
	s, err := dump.Look(a.ctx, j)
	if err != nil {
		return err
	}
	return a.emit([]any{a.printSurvey(looked{"source " + from, at, s, nil, false, ""})})
}

func (a *app) surveyJob(f *config.File, name string) (any, error) {
	j, unopened, err := a.jobs(f).Survey(a.ctx, name)
	if err != nil {
		return nil, err
	}
	s, err := dump.Look(a.ctx, j)
	if err != nil {
		return nil, errors.Join(err, unopened)
	}
	v := a.printSurvey(looked{"job " + name, j.Source, s, j.Accept, j.Chained, j.Changes})
	if unopened == nil && !s.Keep.Blind() {
		a.copiesOf(f, name, s)
	}
	if unopened != nil {
		a.mention(unopened)
	}
	return v, nil
}

func (a *app) printSurvey(l looked) any {
	s := l.Survey
	head := a.newTable(nil)
	line := func(k, format string, args ...any) { head.row(k, fmt.Sprintf(format, args...)) }
	line("survey", "%s", l.title)
	if s.Server.Product != "" {
		line("server", "%s %s at %s", s.Server.Product, s.Server.Version, l.at.Server+l.at.Path)
	}
	if s.Server.User != "" {
		line("user", "%s", s.Server.User)
	}
	if l.at.Engine != "sqlite" && s.Server.Product != "" {
		line("clock", "%s; its zone is %s", skew(s.Skew), s.Server.Zone)
	}
	if s.Server.Log != "" {
		line("log", "%s", s.Server.Log)
	}
	switch {
	case l.chained && s.Server.Ordered:
		line("changes", "%s", waysOf(l))
	case s.Server.Log != "" && s.Server.NoLog != "":
		line("", "it cannot be followed: %s", s.Server.NoLog)
	}
	for _, x := range s.Held {
		line("held back", "%s", job.Slot{Held: x}.Health())
	}
	if s.Keep != nil {
		a.keepLines(s, line)
	}
	a.print("%s\n\n", head.render())
	a.print("%s\n", a.databaseTable(s))
	a.surveyFindings(s, l.accept)
	return surveyJSON(l)
}

func (a *app) keepLines(s *dump.Survey, line func(k, format string, args ...any)) {
	where := s.Keep.Where()
	if s.Room.Known {
		where += fmt.Sprintf(": %s free of %s%s", phrase.Bytes(s.Room.Free), phrase.Bytes(s.Room.Total),
			floorOf(s.Room))
	}
	line("keep", "%s", where)
	if s.May != nil {
		line("rights there", "%s", rightsIn(s.May))
	}
	if s.Keep.Blind() {
		line("", "%s", "enough for full dumps: somebody else lists, verifies, drills and thins them")
		return
	}
	line("a run takes", "about %s", phrase.Bytes(s.Need))
}

// rightsIn says what this user may do in the store of a keep.
func rightsIn(m *keep.Abilities) string {
	if len(m.Lacking) > 0 {
		return "this user cannot " + strings.Join(m.Lacking, ", ") + "; making and reading files is needed for dumps, changing " +
			"and removing them for leases and thinning"
	}
	if !m.Alone {
		return "files can be made, read, changed and removed; two who make the same at the same instant are not told of each other"
	}
	return "files can be made, read, changed and removed; of two who make the same, one is refused"
}

func skew(d time.Duration) string {
	switch {
	case d > 2*time.Second:
		return phrase.Duration(d) + " ahead of this machine"
	case d < -2*time.Second:
		return phrase.Duration(-d) + " behind this machine"
	}
	return "agrees with this machine"
}

func (a *app) databaseTable(s *dump.Survey) block {
	t := a.newTable([]string{"Database", "Size", "Tables", "Objects", "Selected by", "Note"}, "Size", "Tables",
		"Objects").without("Objects", "Tables").words("Note", "Selected by")
	by := map[string]dump.Looked{}
	for _, l := range s.Looked {
		by[l.Database] = l
	}
	for _, d := range s.There {
		taken := ""
		if _, looked := by[d.Name]; looked {
			taken = why(s.Plan, d.Name)
		}
		tables, objects := "", ""
		if l, ok := by[d.Name]; ok {
			tables, objects = fmt.Sprint(l.Tables), fmt.Sprint(l.Objects)
			if l.Err != nil || !manifest.Plain(d.Name) && d.Name != engine.ServerWide {
				tables, objects = "–", "–"
			}
		}
		switch {
		case taken != "":
		case slices.Contains(s.Plan.LeftOut, d.Name):
			taken = "no: except"
		case d.System:
			taken = "no: system"
		case d.Odd != "":
			taken = "no: see the warning"
		case dump.Why(d) != "":
			taken = "no: " + dump.Why(d)
		default:
			taken = "no"
		}
		t.row(d.Name, size(d.Bytes), tables, objects, taken, d.Note)
	}
	return t.render()
}

// surveyFindings tells what would go wrong, or what is worth knowing.
func (a *app) surveyFindings(s *dump.Survey, accept []string) {
	for _, m := range s.Plan.Matches {
		if m.Optional && len(m.Databases) == 0 {
			a.say("The optional entry %q matches nothing now.", m.Entry)
		}
	}
	if s.Unmet != nil {
		a.mention(s.Unmet)
	}
	for _, d := range s.Plan.Passed {
		if d.Odd != "" {
			a.warn(dump.PassedOver, "%s is left out: %s", d.Name, d.Odd)
		}
	}
	if s.Server.Blind != "" && s.Open {
		a.warn("databases-hidden", "%s", s.Server.Blind)
	}
	for _, l := range s.Looked {
		if l.Err != nil {
			a.mention(fmt.Errorf("%s could not be dumped now: %w", l.Database, l.Err))
		}
		for _, w := range l.Warnings {
			a.warn(dump.NotAsOnServer, "%s: %s", l.Database, w)
		}
		if n := len(l.NotInLog); n > 0 && s.Server.Follows() {
			a.say("%s: the server's log does not tell what changes in %s, which %s compared: %s", l.Database,
				phrase.Plural(int64(n),
					"table"), map[bool]string{true: "is", false: "are"}[n == 1], several(l.NotInLog))
		}
		if n := len(l.Whole); n > 0 {
			shown := several(l.Whole)
			a.say("%s: %s no key that tells rows apart and has the same order everywhere, so a dump of what changed "+
				"has all of one that changed: %s", l.Database, map[bool]string{true: "this table has",
				false: "these tables have"}[n == 1],
				shown)
		}
	}
	if s.Keep == nil {
		return
	}
	if s.Same {
		feed := &event.Feed{}
		feed.Listen(a.hear)
		feed.Accept(accept...)
		feed.Warn(dump.SameDrive, "", "%s", dump.SameDriveWarning(s.Keep))
	}
	if !s.Room.Known {
		return
	}
	if s.Room.Floor > 0 && s.Room.Left() <= 0 {
		a.mention(s.Keep.FloorReached(s.Room))
	} else if s.Need > s.Room.Left() {
		a.warn("room-short", "a run takes about %s, and only %s are left above the floor", phrase.Bytes(s.Need),
			phrase.Bytes(s.Room.Left()))
	}
}

// shownWhole is how many tables of a kind are named.
const shownWhole = 8

// several names a few of some tables.
func several(list []string) string {
	n := len(list)
	shown := strings.Join(list[:min(n, shownWhole)], ", ")
	if n > shownWhole {
		shown += fmt.Sprintf(" and %d more", n-shownWhole)
	}
	return shown
}

// waysOf says how a job's dumps find what changed.
func waysOf(l looked) string {
	const compared = "by comparison: every row is read, and what changed is written"
	switch s := l.Survey.Server; {
	case l.changes == dump.Compare, s.Log == "":
		return compared
	case !s.Follows():
		return compared + " (the log cannot be followed: " + s.NoLog + ")"
	}
	return "incrementals from the log, with any moment between two of them; differentials by comparison"
}

func surveyJSON(l looked) any {
	type database struct {
		Name     string    `json:"name"`
		Bytes    int64     `json:"bytes"`
		Taken    string    `json:"selected_by"`
		Tables   int       `json:"tables"`
		Objects  int       `json:"objects"`
		Note     string    `json:"note,omitempty"`
		Whole    []string  `json:"without_key,omitempty"`
		NotInLog []string  `json:"not_in_log,omitempty"`
		Error    *jsonFail `json:"error,omitempty"`
	}
	var list []database
	for _, d := range l.There {
		x := database{Name: d.Name, Bytes: d.Bytes, Note: d.Note}
		for _, k := range l.Looked {
			if k.Database == d.Name {
				x.Taken = why(l.Plan, d.Name)
				x.Tables, x.Objects, x.Whole, x.NotInLog = k.Tables, k.Objects, k.Whole, k.NotInLog
				if k.Err != nil {
					x.Error = failOf(k.Err)
				}
			}
		}
		list = append(list, x)
	}
	v := map[string]any{"of": l.title, "product": l.Server.Product, "version": l.Server.Version,
		"user": l.Server.User, "log": l.Server.Log,
		"clock_skew_seconds": l.Skew.Seconds(), "databases": list, "matches": l.Plan.Matches}
	if l.Server.NoLog != "" {
		v["log_not_followed"] = l.Server.NoLog
	}
	if l.Keep != nil {
		keep := map[string]any{"place": l.Keep.Where(), "estimate_bytes": l.Need}
		if l.Room.Known {
			keep["free_bytes"], keep["floor_bytes"] = l.Room.Free, l.Room.Floor
		}
		if l.Told {
			keep["same_file_system"] = l.Same
		}
		v["keep"] = keep
	}
	return v
}
