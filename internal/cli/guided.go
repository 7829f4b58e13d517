package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/dump"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/forecast"
	"grainkeep/internal/job"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/retain"
	"grainkeep/internal/system"
)

// guideFlags are the answers of a guided start that come from the command line.
type guideFlags struct {
	config.Answers
	guided, yes bool
	rhythm      string
}

func (g *guideFlags) define(cmd *cobra.Command) {
	f := cmd.Flags()
	f.BoolVar(&g.guided, "guided", false, "ask what is needed, look at the server, take the first dump and drill it")
	f.StringVar(&g.Engine, "engine", "", "--guided: the `ENGINE`: postgres, mysql or sqlite")
	values(cmd, "engine", "postgres", "mysql", "sqlite")
	f.StringVar(&g.Server, "server", "", "--guided: the `SERVER`: host:port, or the folder of its socket")
	f.StringVar(&g.User, "user", "", "--guided: the `USER` that dumps")
	f.StringVar(&g.Secret, "secret", "", "--guided: where the password is, `PLACE`: file:PATH or env:NAME; left out: the clients' usual file")
	f.StringVar(&g.TLS, "tls", "", "--guided: `TLS` to the server: off, on or verify")
	values(cmd, "tls", "off", "on", "verify")
	f.StringVar(&g.Path, "path", "", "--guided: the `PATH` of an SQLite file, or of a folder with some")
	f.StringSliceVar(&g.Databases, "databases", nil, "--guided: just these `DATABASES`, with commas between them")
	f.StringVar(&g.Folder, "keep", "", "--guided: the `FOLDER` that becomes the keep")
	f.StringVar(&g.Floor, "floor", "15%", "--guided: the free space that must be left there, `FLOOR`")
	f.StringVar(&g.rhythm, "rhythm", "", "--guided: the number of one of the `RHYTHM`s that are offered")
	f.BoolVar(&g.Drill, "drill-here", false, "--guided: restore tests run beside the live databases")
	f.BoolVar(&g.yes, "yes", false, "--guided: write what the options say, take the first dump and drill it, and ask nothing")
}

// guide is a guided start under way.
type guide struct {
	a      *app
	path   string // of the configuration
	ans    config.Answers
	secret string // a password that was typed: it goes into a file of its own
	survey *dump.Survey
	asker  asker
	known  bool // everything was asked once
}

// asker asks the questions of a guided start; each fills what it asks about.
type asker interface {
	where(g *guide) error
	databases(g *guide) error
	keep(g *guide) error
	rhythm(g *guide) error
	// next says what to do once everything is known: a step to go back to, or write.
	next(g *guide) (string, error)
}

// The steps of a guided start.
const (
	stepWhere     = "where the databases are"
	stepDatabases = "which of them"
	stepKeep      = "where the dumps go"
	stepRhythm    = "when, and which are kept"
	stepWrite     = "write it"
	stepLeave     = "leave"
)

var errLeft = errors.New("nothing was written")

// guided asks, looks, shows, and writes.
func (a *app) guided(path string, flags guideFlags) error {
	g := &guide{a: a, path: path, ans: flags.Answers}
	if _, err := os.Lstat(path); err == nil {
		return fault.New("config-exists", nil, "%s exists already; it was not touched", path).
			Advise("name another file: 'grainkeep init --guided FILE'")
	}
	if flags.rhythm != "" {
		if _, err := fmt.Sscanf(flags.rhythm, "%d", &g.ans.Rhythm); err != nil || g.ans.Rhythm < 1 || g.ans.Rhythm > len(config.Rhythms()) {
			return fault.Wrong("flag-wrong", "--rhythm is %q", flags.rhythm).Advise("write a number from 1 to %d", len(config.Rhythms()))
		}
	}
	switch {
	case flags.yes:
		g.asker = told{}
	case terminal(a.stdout) > 0 && terminal(os.Stdin) > 0:
		g.asker = forms{}
	default:
		return fault.Wrong("terminal-absent", "--guided asks in a terminal, and there is none").
			Advise("give the answers as options, and --yes")
	}
	step := stepWhere
	for step != stepWrite && step != stepLeave {
		next, err := g.step(step)
		if err != nil {
			return err
		}
		step = next
	}
	if step == stepLeave {
		return fault.New("left", errLeft, "the guided start was left")
	}
	return g.finish()
}

// guideSteps are the steps in their order: each asks, and looks at what was answered.
var guideSteps = []struct {
	name string
	ask  func(asker, *guide) error
	look func(*guide) error
}{{stepWhere, asker.where, (*guide).look}, {stepDatabases, asker.databases, (*guide).taken}, {stepKeep, asker.keep, (*guide).room},
	{stepRhythm, asker.rhythm, (*guide).year}}

// step goes through one step, and says which comes next. Once all is known, that is for whoever answers to say.
func (g *guide) step(step string) (next string, err error) {
	for i, s := range guideSteps {
		if s.name != step {
			continue
		}
		if err = s.ask(g.asker, g); err == nil {
			err = s.look(g)
		}
		switch {
		case err != nil && g.again(err):
			return step, nil
		case err != nil:
			return "", err
		case g.known && step != stepWhere || i+1 == len(guideSteps): // elsewhere there may be other databases
			g.known = true
			g.summary()
			return g.asker.next(g)
		}
		return guideSteps[i+1].name, nil
	}
	return "", fmt.Errorf("there is no step %q", step)
}

// again shows an error and says whether to ask once more: somebody is there who can answer otherwise.
func (g *guide) again(err error) bool {
	if _, is := g.asker.(forms); !is || errors.Is(err, errLeft) || g.a.ctx.Err() != nil {
		return false
	}
	g.a.complain(err)
	return true
}

// location is where the databases are.
func (g *guide) location() engine.Location {
	at := engine.Location{Name: g.ans.SourceName(), Engine: g.ans.Engine, Server: g.ans.Server, User: g.ans.User, TLS: g.ans.TLS,
		Path: g.ans.Path}
	if g.secret != "" {
		at.Secret = func() (engine.Secret, error) { return engine.NewSecret(g.secret), nil }
	} else if g.ans.Secret != "" {
		if path, is := strings.CutPrefix(g.ans.Secret, "file:"); is { // also where the configuration is in another folder
			if full, err := filepath.Abs(path); err == nil {
				g.ans.Secret = "file:" + full
			}
		}
		at.Secret = func() (engine.Secret, error) { return job.SecretAt(g.ans.Secret) }
	}
	return at
}

// look looks at the server: what there is, and what this user may not read.
func (g *guide) look() (err error) {
	if g.ans.Path != "" {
		if g.ans.Path, err = filepath.Abs(g.ans.Path); err != nil {
			return err
		}
	}
	j := &dump.Job{Source: g.location(), Server: true}
	if g.survey, err = dump.Look(g.a.ctx, j); err != nil {
		return err
	}
	s := g.survey
	g.a.print("\n%s %s at %s, clock %s\n%s\n", s.Server.Product, s.Server.Version, g.ans.Server+g.ans.Path, skew(s.Skew),
		g.a.databaseTable(s))
	notes := *s
	notes.Looked = slices.Clone(s.Looked)
	for i := range notes.Looked { // what cannot be read now is asked about again
		notes.Looked[i].Err = nil
	}
	g.a.surveyFindings(&notes, nil)
	g.a.print("\n")
	return g.rights()
}

// rights shows the SQL of the rights that are missing, if any are.
func (g *guide) rights() error {
	var lacking []string
	for _, l := range g.survey.Looked {
		if fault.HasCode(l.Err, engine.RightsMissing) {
			lacking = append(lacking, l.Database)
		}
	}
	if len(lacking) == 0 {
		return nil
	}
	d, err := engine.Find(g.ans.Engine)
	if err != nil {
		return err
	}
	at := g.location()
	if at.User == "" {
		at.User = g.survey.Server.User
	}
	sql, err := d.Grants(at, engine.ForDump, lacking)
	if err != nil {
		return err
	}
	g.a.print("\n%s", block(sql))
	return fault.New("rights-missing", nil, "%s may not read all of %s", at.User, strings.Join(lacking, ", ")).
		Advise("run the SQL above as the server's administrator, and go on")
}

// taken holds the chosen databases against what there is, and shows what would be taken.
func (g *guide) taken() (err error) {
	j := &dump.Job{Source: g.location(), Server: len(g.ans.Databases) == 0}
	j.Choice.Databases = g.ans.Databases
	if g.survey, err = dump.Look(g.a.ctx, j); err != nil {
		return err
	}
	if g.survey.Unmet != nil {
		return g.survey.Unmet
	}
	tables, bytes := 0, int64(0)
	for _, l := range g.survey.Looked {
		if l.Err != nil {
			return fmt.Errorf("%s could not be dumped now: %w", l.Database, l.Err)
		}
		tables += l.Tables
	}
	for _, d := range g.survey.Plan.Databases {
		bytes += max(0, d.Bytes)
	}
	g.a.print("A dump takes %s: %s, %s on the server.\n\n", databasesAnd(names(g.survey.Plan.Databases)),
		phrase.Plural(int64(tables), "table"), phrase.Bytes(bytes))
	return nil
}

func names(list []engine.Database) (all []string) {
	for _, d := range list {
		all = append(all, d.Name)
	}
	return all
}

// room looks at the folder that becomes the keep, without making it.
func (g *guide) room() (err error) {
	if g.ans.Folder, err = filepath.Abs(g.ans.Folder); err != nil {
		return err
	}
	if _, err := phrase.ParseFloor(g.ans.Floor); err != nil {
		return fault.Wrong("flag-wrong", "the floor: %v", err)
	}
	above := g.ans.Folder
	for {
		if st, err := os.Stat(above); err == nil {
			if !st.IsDir() {
				return fault.Wrong("keep-absent", "%s is no folder", above)
			}
			break
		}
		above = filepath.Dir(above)
	}
	free, total, err := system.Room(above)
	if err != nil {
		return err
	}
	g.a.print("%s is on a drive of %s, of which %s are free.\n", g.ans.Folder, phrase.Bytes(total), phrase.Bytes(free))
	data := g.survey.Server.Folder
	if g.ans.Path != "" {
		data = g.ans.Path
	}
	g.ans.Accept = nil
	if same, known := system.SameDrive(above, data); same && known && data != "" {
		g.ans.Accept = []string{dump.SameDrive}
		g.a.print("The databases are on the same drive: what takes that one takes both. Copy the dumps away (copy_to) as soon as you can.\n")
	}
	g.a.print("\n")
	return nil
}

// year reckons what the rhythm takes within a year, and says it in words.
func (g *guide) year() error {
	f, err := config.Parse(config.Guided(g.ans), g.path)
	if err != nil {
		return err
	}
	j := f.Job[config.GuidedJob]
	now := clock.Now()
	ask := forecast.Ask{Zone: f.Zone(), Now: now, Thin: true}
	t := g.a.newTable([]string{"", "In words", "Next"}).words("In words")
	for _, d := range []struct {
		what string
		when any
	}{{"full", j.Full}, {"differential", j.Differential}, {"incremental", j.Incremental}, {"drill", j.Drill}} {
		when, err := config.Schedules(d.when)
		if err != nil {
			return err
		}
		if len(when) == 0 {
			continue
		}
		if d.what != "drill" {
			ask.Due = append(ask.Due, forecast.Due{Kind: d.what, When: when})
		}
		for _, s := range when {
			t.row(d.what, s.String(), instant{s.Next(now, f.Zone()), f.Zone()})
		}
	}
	if len(ask.Due) == 0 {
		g.a.print("\nNothing is due by itself: dumps are taken by hand.\n")
		return nil
	}
	if ask.Retain, err = phrase.ParseRetain(j.Retain); err != nil {
		return err
	}
	for _, d := range g.survey.Plan.Databases {
		ask.Dumps = append(ask.Dumps, forecast.Dump{Item: retain.Item{Of: d.Name, Moment: now, Kind: string(manifest.Full), Good: true},
			Bytes: max(0, d.Bytes) / assumedRatio})
	}
	o := forecast.Reckon(ask)
	g.a.print("%s\n\n", t.render())
	g.a.print("Kept: %s.\n", ask.Retain.Text)
	g.a.print("Within a year that takes about %s, if the dumps compress to a third and nothing grows.\n", phrase.Bytes(o.Peak))
	return nil
}

// assumedRatio is by how much dumps are taken to be smaller than the data on the server.
const assumedRatio = 3

// summary shows all answers.
func (g *guide) summary() {
	t := g.a.newTable(nil)
	where := g.ans.Engine + ", " + g.ans.Server + g.ans.Path
	if g.ans.User != "" {
		where += ", as " + g.ans.User
	}
	t.row("databases", where)
	t.row("", databasesAnd(names(g.survey.Plan.Databases)))
	t.row("dumps", g.ans.Folder+", "+g.ans.Floor+" of the drive stay free")
	rhythm := "by hand"
	if g.ans.Rhythm > 0 {
		rhythm = strings.ToLower(config.Rhythms()[g.ans.Rhythm-1].Title[:1]) + config.Rhythms()[g.ans.Rhythm-1].Title[1:]
	}
	t.row("rhythm", rhythm)
	tests := map[bool]string{true: "beside the live databases", false: "by hand, on another server"}[g.drills()]
	if g.ans.Engine == "sqlite" {
		tests = "in a scratch file"
	}
	t.row("restore tests", tests)
	t.row("configuration", g.path)
	g.a.print("\n%s\n\n", t.render())
}

// drills says whether restore tests can run by themselves.
func (g *guide) drills() bool { return g.ans.Drill || g.ans.Engine == "sqlite" }

// finish writes the configuration, makes the keep, takes the first dump and drills it.
func (g *guide) finish() error {
	a := g.a
	if g.secret != "" {
		path := filepath.Join(filepath.Dir(g.path), g.ans.SourceName()+".secret")
		if err := writeNew(path, []byte(g.secret+"\n")); err != nil {
			return fault.New("secret-unwritable", err, "the password could not be written to %s", path)
		}
		g.ans.Secret = "file:" + path
		a.say("the password is in %s, which only you can read", path)
	}
	if err := writeNew(g.path, config.Guided(g.ans)); err != nil {
		return fault.New("config-unwritable", err, "cannot write %s", g.path)
	}
	a.print("%s\n", g.path)
	a.configPath = g.path
	if err := a.createKeep(config.GuidedKeep, false); err != nil {
		return err
	}
	began := time.Now()
	if err := a.dump([]string{config.GuidedJob}, dumpFlags{printWhat: "path", kind: "auto"}); err != nil {
		return err
	}
	if !g.drills() {
		a.say("Not proven: 'grainkeep drill %s --to SOURCE' restores the dump on another server, and reads it back.", config.GuidedJob)
		return nil
	}
	if err := a.drill("", "", "", []string{config.GuidedJob}); err != nil {
		return err
	}
	a.say("\nDumped and proven in %s. 'grainkeep schedule serve' keeps to the rhythm; 'grainkeep schedule export' writes it for "+
		"systemd or cron.", phrase.Duration(time.Since(began)))
	return nil
}

// told answers by what the command line said.
type told struct{}

func (told) where(g *guide) error {
	if !slices.Contains(engine.Names(), g.ans.Engine) {
		return fault.Wrong("argument-missing", "--engine is %q", g.ans.Engine).Advise("write one of: %s", strings.Join(engine.Names(), ", "))
	}
	if (g.ans.Engine == "sqlite") != (g.ans.Path != "") || (g.ans.Engine != "sqlite") != (g.ans.Server != "") {
		return fault.Wrong("argument-missing", "nothing says where the databases are").Advise("give --server, or --path for SQLite")
	}
	return nil
}

func (told) databases(*guide) error { return nil }

func (told) keep(g *guide) error {
	if g.ans.Folder == "" {
		return fault.Wrong("argument-missing", "nothing says where the dumps go").Advise("give --keep FOLDER, on a drive of its own")
	}
	return nil
}

func (told) rhythm(*guide) error { return nil }

func (told) next(*guide) (string, error) { return stepWrite, nil }
