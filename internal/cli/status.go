package cli

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/dump"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/status"
)

func (a *app) statusCommand() *cobra.Command {
	var probe, offline bool
	cmd := explain(&cobra.Command{
		Use: "status [JOB]", Short: "Show how each database stands: last dump, proof, what is late",
		Args:              args(0, 1, ""),
		RunE:              func(_ *cobra.Command, names []string) error { return a.status(names, probe, offline) },
		ValidArgsFunction: a.jobNames(),
	}, usage{`Shows a line for each database of the jobs: its newest dump, the newest proof, when it
is due next, and how it stands in a word. The exit code is 4 when somebody should look.
--probe prints one line for a monitoring system, with its exit codes: 0 good, 1 look
at it soon, 2 look now, 3 could not be told.`, [2]string{"grainkeep status", "grainkeep status nightly --probe"}})
	cmd.Flags().BoolVar(&offline, "offline", false, "do not ask the servers what no job takes, and what they hold back of their logs")
	cmd.Flags().BoolVar(&probe, "probe", false, "one line, codes 0 to 3, and performance data, for a monitoring system")
	return cmd
}

// defaultGrace is how late is late, where a job does not say.
const defaultGrace = time.Hour

// statusJob is a job as its status is asked for.
func (a *app) statusJob(f *config.File, name string, room keep.Room) (j status.Job, err error) {
	c := f.Job[name]
	j = status.Job{Name: name, Grace: defaultGrace, Zone: f.Zone(), Room: room}
	if err := a.journaled(f, c, &j); err != nil {
		return j, err
	}
	for _, d := range c.Databases {
		if !phrase.HasPattern(d) {
			j.Databases = append(j.Databases, d)
		}
	}
	for _, p := range []struct {
		kind  manifest.Kind
		value any
	}{{manifest.Full, c.Full}, {manifest.Differential, c.Differential}, {manifest.Incremental, c.Incremental}} {
		when, err := config.Schedules(p.value)
		if err != nil {
			return j, err
		}
		if len(when) > 0 {
			j.Dumps = append(j.Dumps, status.Due{Kind: p.kind, When: when})
		}
	}
	if j.Drill, err = config.Schedules(c.Drill); err != nil {
		return j, err
	}
	if c.Grace != "" {
		j.Grace, err = phrase.ParseAge(c.Grace)
	}
	return j, err
}

// journaled adds what the journal knows of a job.
func (a *app) journaled(f *config.File, c config.Job, j *status.Job) (err error) {
	if c.ReadBack != "" || c.Verify != nil {
		j.ReadWithin = defaultReadBack
		if c.ReadBack != "" {
			if j.ReadWithin, err = phrase.ParseAge(c.ReadBack); err != nil {
				return err
			}
		}
	}
	known := a.openJournal(f)
	if known == nil {
		return nil
	}
	if a.readBack == nil {
		if a.readBack, err = known.ReadBack(a.ctx); err != nil {
			return err
		}
	}
	j.Read = a.readBack
	j.LastRun, err = known.Last(a.ctx, j.Name, "dump", ended...)
	return err
}

// statusLines are the lines of some jobs, or of all.
func (a *app) statusLines(names []string) ([]status.Line, error) {
	f, err := a.needConfig()
	if err != nil {
		return nil, err
	}
	jobs := f.Jobs()
	if len(jobs) == 0 { // which must not read as "all good"
		return nil, fault.Wrong("job-none", "the configuration has no job, so nothing is dumped").
			Advise("add a section [job.NAME]; 'grainkeep init' writes one with every key explained")
	}
	if len(names) > 0 {
		if err := job.Of(f).Known(names[0]); err != nil {
			return nil, err
		}
		jobs = names
	}
	held := map[string][]*keep.Dump{}
	a.listed = held
	rooms := map[string]keep.Room{}
	var lines []status.Line
	for _, name := range jobs {
		of := f.Job[name].Keep
		if _, read := held[of]; !read {
			k, err := a.jobs(f).OpenKeep(a.ctx, of)
			if err != nil {
				return nil, err
			}
			if held[of], err = k.Dumps(a.ctx); err != nil {
				return nil, err
			}
			if err := a.audit(k, held[of]); err != nil {
				return nil, err
			}
			if rooms[of], err = k.Room(a.ctx); err != nil {
				return nil, err
			}
		}
		a.provenElsewhere(f, name, held[of])
		j, err := a.statusJob(f, name, rooms[of])
		if err != nil {
			return nil, err
		}
		for _, l := range status.Of(j, held[of], clock.Now()) {
			if l.Last != nil && l.Last.Manifest.Kind != manifest.Full {
				if _, err := chain.Link(held[of]).To(l.Last); err != nil {
					l.State, l.Why = status.Unreadable, err.Error()
				}
			}
			lines = append(lines, l)
		}
	}
	return lines, nil
}

type jsonStatus struct {
	Job      string  `json:"job"`
	Database string  `json:"database,omitempty"`
	State    string  `json:"state"`
	Why      string  `json:"why,omitempty"`
	ID       string  `json:"id,omitempty"`
	Moment   string  `json:"moment,omitempty"`
	Seconds  float64 `json:"took_seconds,omitempty"`
	Bytes    int64   `json:"bytes,omitempty"`
	Proof    string  `json:"proof,omitempty"`
	Proven   string  `json:"proven,omitempty"`
	Unread   string  `json:"unread_since,omitempty"`
	Kind     string  `json:"kind,omitempty"`
	Next     string  `json:"next,omitempty"`

	Moments map[string]string `json:"moments,omitempty"` // the newest of each kind

	Copies *jsonCopies `json:"copies,omitempty"` // not for those of no configured job
}

type jsonCopies struct {
	Count int      `json:"count"` // with the live data
	Media int      `json:"media"`
	Away  int      `json:"away"`
	Lacks []string `json:"lacks,omitempty"`
}

func (a *app) status(names []string, probe, offline bool) error {
	lines, err := a.statusLines(names)
	if probe {
		return a.probe(lines, err)
	}
	if err != nil {
		return err
	}
	chained := slices.ContainsFunc(lines, func(l status.Line) bool {
		return l.Of[manifest.Differential] != nil || l.Of[manifest.Incremental] != nil
	})
	t := a.statusTable(chained)
	list := []jsonStatus{}
	now := clock.Now()
	var stale []string
	for _, l := range lines {
		next := "–"
		x := jsonStatus{Job: l.Job, Database: l.Database, State: string(l.State), Why: l.Why,
			Moments: map[string]string{}}
		if !l.Next.IsZero() {
			next, x.Next = "in "+inWords(l.Next.Sub(now)), l.Next.UTC().Format(time.RFC3339)
		}
		name := strings.TrimSuffix(l.Job+"/"+l.Database, "/")
		word := paint(a.stdout, lineColour(l.State), string(l.State))
		if d := l.Last; d != nil {
			m := d.Manifest
			took := m.Finished.Sub(m.Started)
			proof := paint(a.stdout, stateColour(string(d.State())), provenIn(l, now))
			if chained {
				t.row(name, ageOf(l.Of[manifest.Full], now), ageOf(l.Of[manifest.Differential], now),
					ageOf(l.Of[manifest.Incremental], now), phrase.Duration(took), phrase.Bytes(m.StoredBytes), proof,
					next, word)
			} else {
				t.row(name, instant{m.Moment, chain.Zone(d)}, phrase.Ago(now.Sub(m.Moment)), phrase.Duration(took),
					phrase.Bytes(m.StoredBytes), ratio(m.RawBytes, m.StoredBytes), proof, next, word)
			}
			for kind, of := range l.Of {
				x.Moments[string(kind)] = of.Manifest.Moment.Format(time.RFC3339Nano)
			}
			x.Proven, x.Unread, x.Kind = stamp(l.Proven), stamp(l.Unread), m.KindWord()
			x.ID, x.Moment, x.Seconds = d.ID, m.Moment.Format(time.RFC3339Nano), took.Seconds()
			x.Bytes, x.Proof = m.StoredBytes, string(d.State())
		} else {
			t.row(name, "–", "–", "–", "–", "–", "–", next, word)
		}
		if l.State.Stale() {
			stale = append(stale, l.Database)
		}
		list = append(list, x)
	}
	a.result = list
	a.print("%s\n", t.render())
	for _, l := range lines {
		if l.Why != "" {
			a.say("%s: %s", strings.TrimSuffix(l.Job+"/"+l.Database, "/"), l.Why)
		}
	}
	a.oldestUnread(lines, now)
	a.tellCopies(lines, list, offline)
	if err := a.remind(names, offline); err != nil {
		return err
	}
	if len(stale) > 0 {
		return fault.New("stale", nil, "%s", needALook(stale)).Exit(fault.Stale).
			Advise("'grainkeep dump JOB' takes a dump now, 'grainkeep drill JOB' proves one")
	}
	return nil
}

// statusTable is that of full dumps, or of all kinds, with the ages of the newest of each.
func (a *app) statusTable(chained bool) *lined {
	if chained {
		return a.newTable([]string{"Database", "Last full", "Differential", "Incremental", "Took", "Size", "Restore",
			"Next", "State"}, "Took", "Size").without("Took", "Size", "Next", "Differential").words("State")
	}
	return a.newTable([]string{"Database", "Last full", "Age", "Took", "Size", "Ratio", "Restore", "Next", "State"},
		"Took", "Size", "Ratio").without("Ratio", "Took", "Age", "Next").words("State")
}

// ageOf is how old a dump is; nil: there is none.
func ageOf(d *keep.Dump, now time.Time) string {
	if d == nil {
		return "–"
	}
	return phrase.Ago(now.Sub(d.Manifest.Moment))
}

// needALook says how many of what is dumped are stale.
func needALook(names []string) string {
	if len(names) == 1 {
		return databasesAnd(names) + " needs a look"
	}
	return databasesAnd(names) + " need a look"
}

// provenIn says whether a database's newest dump is proven, or else when one before it was.
func provenIn(l status.Line, now time.Time) string {
	state := string(l.Last.State())
	if l.Last.State() == keep.Unproven && !l.Proven.IsZero() {
		return "last proven " + phrase.Ago(now.Sub(l.Proven))
	}
	return state
}

// oldestUnread names the dump that was not read back for longest.
func (a *app) oldestUnread(lines []status.Line, now time.Time) {
	var oldest *status.Line
	for i, l := range lines {
		if !l.Unread.IsZero() && (oldest == nil || l.Unread.Before(oldest.Unread)) {
			oldest = &lines[i]
		}
	}
	if oldest != nil && now.Sub(oldest.Unread) > 24*time.Hour {
		a.say("The dump that is unread for longest is one of %s: it was last read %s.", oldest.Job+"/"+oldest.Database,
			phrase.Ago(now.Sub(oldest.Unread)))
	}
}

// remind tells of messages that wait, of what servers hold back of their logs, of databases that no job takes, and of
// those that restores moved aside.
func (a *app) remind(names []string, offline bool) error {
	f, err := a.needConfig()
	if err != nil {
		return err
	}
	if j := a.openJournal(f); j != nil {
		waiting, err := j.Messages(a.ctx)
		if err != nil {
			return err
		}
		if n := len(waiting); n > 0 {
			a.warn("not-told", "%s could not be sent, the first %s: %s; 'grainkeep tell' tries again",
				phrase.Plural(int64(n), "message"),
				phrase.Ago(clock.Since(waiting[0].Made)), orDash(waiting[0].Reason))
		}
	}
	if offline || len(names) > 0 {
		return nil
	}
	followed := a.jobs(f).Followed()
	bySource := map[string][]dump.Choice{}
	for _, name := range f.Jobs() {
		j := f.Job[name]
		bySource[j.Source] = append(bySource[j.Source], dump.Choice{Databases: j.Databases, Optional: j.Optional,
			Except: j.Except})
	}
	for _, name := range f.Sources() {
		if choices := bySource[name]; len(choices) > 0 && f.Source[name].Engine != config.Command {
			a.ask(f, name, choices, slices.Contains(followed, name))
		}
	}
	return nil
}

// askFor is how long a server may take to say which databases it has.
const askFor = 10 * time.Second

// ask asks a server which databases it has, and what it holds back of its log, if that is followed.
func (a *app) ask(f *config.File, name string, choices []dump.Choice, followed bool) {
	ctx, cancel := context.WithTimeout(a.ctx, askFor)
	defer cancel()
	at, err := job.Of(f).Location(name)
	var there []engine.Database
	var slots []job.Slot
	if err == nil {
		var src engine.Source
		if src, err = engine.Open(ctx, at); err == nil {
			there, err = src.Databases(ctx)
			if h, ok := src.(engine.Holder); ok && err == nil && followed {
				slots, err = a.jobs(f).Slots(ctx, name, h)
			}
			src.Close()
		}
	}
	if err != nil {
		a.warn("source-unasked", "%s could not be asked what it has: %v", name, err)
		return
	}
	a.tellHeld(name, slots)
	untaken, aside := dump.Untaken(there, choices)
	if len(untaken) > 0 {
		a.warn("untaken", "no job takes %s of %s: add it to a job, or leave it out with except", strings.Join(untaken,
			", "), name)
	}
	if len(aside) > 0 {
		a.say("Restores moved %s aside on %s: drop what is not needed any more.", strings.Join(aside, ", "), name)
	}
}

func lineColour(s status.State) colour {
	switch {
	case s == status.Good:
		return green
	case s == status.Shrunk || s == status.Unproven:
		return yellow
	}
	return red
}

// Codes of a probe, as monitoring systems know them.
const (
	probeGood    = 0
	probeSoon    = 1
	probeNow     = 2
	probeUnknown = 3
)

// probe prints one line: a word, what is wrong, and after a | the performance data.
func (a *app) probe(lines []status.Line, err error) error {
	code, word := probeGood, "OK"
	var wrong, names []string
	oldest, bytes := time.Duration(0), int64(0)
	for _, l := range lines {
		names = append(names, l.Database)
		if l.Last != nil {
			oldest, bytes = max(oldest, clock.Since(l.Last.Manifest.Moment)), bytes+l.Last.Manifest.StoredBytes
		}
		if l.State == status.Good {
			continue
		}
		wrong = append(wrong, strings.TrimSuffix(l.Job+"/"+l.Database, "/")+" "+string(l.State))
		if l.State.Worse(status.Unproven) {
			code = probeNow
		}
		code = max(code, probeSoon)
	}
	switch {
	case err != nil:
		code, word = probeUnknown, "UNKNOWN"
		wrong = []string{asFault(err).Error()}
	case code == probeNow:
		word = "CRITICAL"
	case code == probeSoon:
		word = "WARNING"
	}
	text := databasesAnd(names) + " good"
	if len(wrong) > 0 {
		text = strings.ReplaceAll(strings.Join(wrong, ", "), "|", "/")
	}
	a.probed = &code
	a.print("%s: %s | oldest=%ds size=%dB wrong=%d\n", word, text, int64(oldest.Seconds()), bytes, len(wrong))
	return a.emit(map[string]any{"code": code, "word": word, "wrong": wrong, "oldest_seconds": int64(oldest.Seconds()),
		"bytes": bytes})
}
