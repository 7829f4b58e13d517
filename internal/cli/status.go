package cli

import (
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
	"grainkeep/internal/status"
)

func (a *app) statusCommand() *cobra.Command {
	var probe bool
	cmd := explain(&cobra.Command{
		Use: "status [JOB]", Short: "Show how each database stands: last dump, proof, what is late",
		Args:              args(0, 1, ""),
		RunE:              func(_ *cobra.Command, names []string) error { return a.status(names, probe) },
		ValidArgsFunction: a.jobNames(),
	}, usage{`Shows a line for each database of the jobs: its newest dump, the newest proof, when it
is due next, and how it stands in a word. The exit code is 4 when somebody should look.
--probe prints one line for a monitoring system, with its exit codes: 0 good, 1 look
at it soon, 2 look now, 3 could not be told.`, [2]string{"grainkeep status", "grainkeep status nightly --probe"}})
	cmd.Flags().BoolVar(&probe, "probe", false, "one line, codes 0 to 3, and performance data, for a monitoring system")
	return cmd
}

// defaultGrace is how late is late, where a job does not say.
const defaultGrace = time.Hour

// statusJob is a job as its status is asked for.
func statusJob(f *config.File, name string) (j status.Job, err error) {
	c := f.Job[name]
	j = status.Job{Name: name, Grace: defaultGrace, Zone: f.Zone()}
	for _, d := range c.Databases {
		if !phrase.HasPattern(d) {
			j.Databases = append(j.Databases, d)
		}
	}
	for _, p := range []struct {
		value any
		into  *[]*phrase.Schedule
	}{{c.Full, &j.Full}, {c.Drill, &j.Drill}} {
		if *p.into, err = config.Schedules(p.value); err != nil {
			return j, err
		}
	}
	if c.Grace != "" {
		j.Grace, err = phrase.ParseAge(c.Grace)
	}
	return j, err
}

// statusLines are the lines of some jobs, or of all.
func (a *app) statusLines(names []string) ([]status.Line, error) {
	f, err := a.needConfig()
	if err != nil {
		return nil, err
	}
	jobs := f.Jobs()
	if len(names) > 0 {
		if err := job.Of(f).Known(names[0]); err != nil {
			return nil, err
		}
		jobs = names
	}
	held := map[string][]*keep.Dump{}
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
		}
		j, err := statusJob(f, name)
		if err != nil {
			return nil, err
		}
		lines = append(lines, status.Of(j, held[of], time.Now())...)
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
	Next     string  `json:"next,omitempty"`
}

func (a *app) status(names []string, probe bool) error {
	lines, err := a.statusLines(names)
	if probe {
		return a.probe(lines, err)
	}
	if err != nil {
		return err
	}
	t := a.newTable([]string{"Database", "Last dump", "Age", "Took", "Size", "Ratio", "Restore", "Next", "State"}, "Took", "Size", "Ratio")
	list := []jsonStatus{}
	now, stale := time.Now(), 0
	for _, l := range lines {
		next := "–"
		x := jsonStatus{Job: l.Job, Database: l.Database, State: string(l.State), Why: l.Why}
		if !l.Next.IsZero() {
			next, x.Next = "in "+inWords(l.Next.Sub(now)), l.Next.UTC().Format(time.RFC3339)
		}
		name := strings.TrimSuffix(l.Job+"/"+l.Database, "/")
		word := paint(a.stdout, lineColour(l.State), string(l.State))
		if d := l.Last; d != nil {
			m := d.Manifest
			took := m.Finished.Sub(m.Started)
			t.row(name, phrase.Local(m.Moment, chain.Zone(d)), phrase.Ago(now.Sub(m.Moment)), phrase.Duration(took),
				phrase.Bytes(m.StoredBytes), ratio(m.RawBytes, m.StoredBytes), paint(a.stdout, stateColour(string(d.State())),
					string(d.State())), next, word)
			x.ID, x.Moment, x.Seconds = d.ID, m.Moment.Format(time.RFC3339Nano), took.Seconds()
			x.Bytes, x.Proof = m.StoredBytes, string(d.State())
		} else {
			t.row(name, "–", "–", "–", "–", "–", "–", next, word)
		}
		if l.State.Stale() {
			stale++
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
	if stale > 0 {
		say := phrase.Plural(int64(stale), "database") + map[bool]string{true: " needs", false: " need"}[stale == 1]
		return fault.New("stale", nil, "%s a look", say).Exit(fault.Stale).
			Advise("'grainkeep dump JOB' takes a dump now, 'grainkeep drill JOB' proves one")
	}
	return nil
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
	var wrong []string
	oldest, bytes := time.Duration(0), int64(0)
	for _, l := range lines {
		if l.Last != nil {
			oldest, bytes = max(oldest, time.Since(l.Last.Manifest.Moment)), bytes+l.Last.Manifest.StoredBytes
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
	text := phrase.Plural(int64(len(lines)), "database") + " good"
	if len(wrong) > 0 {
		text = strings.ReplaceAll(strings.Join(wrong, ", "), "|", "/")
	}
	a.probed = &code
	a.print("%s: %s | oldest=%ds size=%dB wrong=%d\n", word, text, int64(oldest.Seconds()), bytes, len(wrong))
	return a.emit(map[string]any{"code": code, "word": word, "wrong": wrong, "oldest_seconds": int64(oldest.Seconds()), "bytes": bytes})
}
