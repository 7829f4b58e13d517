package cli

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"grainkeep/internal/blob"
	"grainkeep/internal/config"
	"grainkeep/internal/dump"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/step"
)

type dumpFlags struct {
	from, to, job, compression, printWhat string
	databases                             []string
	seal                                  sealFlags
	changes                               string
	adopt, zero, baseline                 bool
	wait, note, kind                      string
}

func (a *app) dumpCommand() *cobra.Command {
	var d dumpFlags
	cmd := explain(&cobra.Command{
		Use:               "dump JOB… or JOB/DATABASE…",
		Short:             "Take dumps now",
		Args:              args(0, -1, ""),
		RunE:              func(_ *cobra.Command, names []string) error { return a.dump(names, d) },
		ValidArgsFunction: a.jobNames(),
	}, usage{`Takes the dumps of configured jobs, and prints the path of each finished one. A
dump is complete or it is not there. Without a configuration, --from and --to say
what and where.`, [2]string{"grainkeep dump nightly", "grainkeep dump --from ./app.db --to ./dumps"}})
	f := cmd.Flags()
	f.StringVar(&d.from, "from", "", "without a job: the `SOURCE`, a configured name, a URL or a path")
	f.StringVar(&d.to, "to", "",
		"without a job: the `KEEP`, a configured name or a folder; a folder that does not exist is created")
	f.StringVar(&d.job, "job", "adhoc", "without a job: the `NAME` under which the dumps are filed")
	f.StringArrayVar(&d.databases, "database", nil, "without a job: dump just this `NAME` or pattern; may be repeated")
	f.StringVar(&d.compression, "compression", "", "without a job: `HOW` to compress: zstd, gzip or none")
	d.seal.add(cmd, "without a job: encrypt the dumps for this `RECIPIENT`")
	f.BoolVar(&d.adopt, "adopt", false, "make the --to folder a keep although it exists already")
	a.completeOption(cmd, "from", job.Set.Sources)
	a.completeOption(cmd, "to", job.Set.Keeps)
	values(cmd, "compression", "zstd", "gzip", "none")
	f.StringVar(&d.printWhat, "print", "path", "`WHAT` to print of each dump: path or id")
	values(cmd, "print", "path", "id")
	f.StringVar(&d.note, "note", "", "a `NOTE` about these dumps, shown with them: before the move")
	f.StringVar(&d.kind, "kind", "auto", "the `KIND` of the dumps: full, differential (what changed since the last "+
		"full), incremental (since the last dump), or auto: what the schedule would take now")
	values(cmd, "kind", "auto", "full", "differential", "incremental")
	f.BoolVar(&d.baseline, "new-baseline", false,
		"what comes after builds on this full; a full that is asked for by its kind stands outside the chain else")
	f.StringVar(&d.changes, "changes", "",
		"`HOW` an incremental finds what changed: auto, log (the server's, with a warning where it cannot be followed) or compare; "+
			"else as the job says")
	values(cmd, "changes", "auto", "log", "compare")
	f.StringVar(&d.wait, "wait", "",
		"wait so `LONG` for another run of the job: 30 min; else the job's wait, or not at all")
	f.BoolVarP(&d.zero, "null", "0", false, "end what is printed with a zero byte instead of a line feed")
	return cmd
}

func (a *app) dump(names []string, d dumpFlags) error {
	if d.printWhat != "path" && d.printWhat != "id" {
		return fault.Wrong("flag-wrong", "--print is %q", d.printWhat).Advise("write path or id")
	}
	f, err := a.config()
	if err != nil {
		return err
	}
	jobs, err := a.dumpTasks(f, names, d)
	if err != nil {
		return err
	}
	a.prepareRuns(f, jobs)
	out := &jsonDump{Dumps: []jsonDumped{}, Failed: []jsonFailed{}}
	a.result = out
	for _, j := range jobs {
		err := a.dumpTask(f, j, d, out)
		if a.ctx.Err() != nil {
			return err
		}
		if err != nil {
			if len(jobs) == 1 {
				return err
			}
			a.mention(err)
			out.Failed = append(out.Failed, jsonFailed{Job: j.name, Error: failOf(err)})
		}
	}
	return nil
}

type jsonDump struct {
	Dumps  []jsonDumped `json:"dumps"`
	Failed []jsonFailed `json:"failed"`
}

type jsonDumped struct {
	Job      string `json:"job"`
	Database string `json:"database"`
	ID       string `json:"id"`
	Path     string `json:"path"`
	Run      string `json:"run"`
	Moment   string `json:"moment"`
	Rows     int64  `json:"rows"`
	Bytes    int64  `json:"bytes"`
}

type jsonFailed struct {
	Job      string    `json:"job"`
	Database string    `json:"database,omitempty"`
	Error    *jsonFail `json:"error"`
}

// freeJob is the job of a dump without configuration.
func (a *app) freeJob(f *config.File, d dumpFlags) (*dump.Job, error) {
	if !phrase.IsJob(d.job) {
		return nil, fault.Wrong("job-name", "a job cannot be named %q",
			d.job).Advise("use small letters, digits, - and _")
	}
	at, err := job.Of(f).Address(d.from)
	if err != nil {
		return nil, err
	}
	c, err := blob.ParseCompression(d.compression)
	if err != nil {
		return nil, err
	}
	k, err := a.keepToWrite(f, d.to, d.adopt)
	if err != nil {
		return nil, err
	}
	j := &dump.Job{Name: d.job, Source: at, Keep: k, Compression: c,
		Choice: dump.Choice{Databases: d.databases},
		Server: at.Database == "" && len(d.databases) == 0}
	if at.Database != "" && len(d.databases) == 0 {
		j.Choice.Databases = []string{at.Database}
	}
	if f == nil {
		f, err = config.Parse(nil, config.FileName)
	}
	j.Zone = f.Zone()
	if err == nil {
		j.Seal, err = d.seal.recipients(f)
	}
	return j, err
}

// keepToWrite opens the keep that --to names. A folder that does not exist is
// created; one that exists without a marker becomes a keep only when told to.
func (a *app) keepToWrite(f *config.File, to string, adopt bool) (*keep.Keep, error) {
	if _, ok := job.Of(f).KeepPlace(to); ok {
		return a.jobs(f).OpenKeep(a.ctx, to)
	}
	if err := mustBePath(f, to); err != nil {
		return nil, err
	}
	k, err := keep.Open(a.ctx, to)
	switch {
	case fault.HasCode(err, "keep-absent"), fault.HasCode(err, "keep-unmarked") && adopt:
		if k, err = keep.Create(a.ctx, to, adopt); err == nil {
			a.say("created the keep %s", k.Where())
		}
	case fault.HasCode(err, "keep-unmarked"):
		path, _ := filepath.Abs(to) // only for the message
		return nil, fault.New("keep-unmarked", nil, "%s exists, but it is not a keep", path).
			Advise("if a drive belongs there, it may not be mounted; if this is really the place, add --adopt")
	}
	if err == nil {
		err = a.jobs(f).Settle(k)
	}
	return k, err
}

func (a *app) dumpJob(f *config.File, j *dump.Job, d dumpFlags, out *jsonDump) error {
	feed, end := a.feed(func(e event.Event) {
		switch e := e.(type) {
		case dump.Planned:
			a.sayPlan(e)
		case dump.Finished:
			a.printDone(e.Dump, d)
			a.part(journal.PartOf(e.Dump))
		case dump.Failed:
			a.part(failedPart(e.Database, e.Err))
		case step.Begun:
			a.say("  %s", e.Text())
		}
	})
	feed.Accept(j.Accept...)
	res, err := dump.Run(a.ctx, j, feed)
	end()
	if res != nil {
		a.dumpResult(j, res, out)
	}
	if d.from == "" && res != nil && len(res.Done) > 0 && f.Job[j.Name].Copy == nil {
		a.copyAfter(f, j.Name, j.Keep)
	}
	if err == nil && len(res.Failed) == 0 && d.from == "" {
		a.thinAfter(f, j.Name, j.Keep)
	}
	if res != nil && res.After != nil {
		a.mention(fmt.Errorf("after the dumps: %w", res.After))
	}
	return err
}

func (a *app) dumpResult(j *dump.Job, res *dump.Result, out *jsonDump) {
	for _, done := range res.Done {
		m := done.Manifest
		out.Dumps = append(out.Dumps, jsonDumped{Job: j.Name, Database: m.Database, ID: done.ID, Path: done.Path(),
			Run:    m.Run.ID,
			Moment: m.Moment.Format("2006-01-02T15:04:05.000000Z"), Rows: m.Rows(), Bytes: m.StoredBytes})
	}
	for _, f := range res.Failed {
		out.Failed = append(out.Failed, jsonFailed{Job: j.Name, Database: f.Database, Error: failOf(f.Err)})
		if a.ctx.Err() == nil {
			a.mention(fmt.Errorf("%s was not dumped: %w", f.Database, f.Err))
		}
	}
	if len(res.Done) > 0 {
		a.say("Not proven yet: 'grainkeep drill' tests that %s.", map[bool]string{true: "it restores",
			false: "they restore"}[len(res.Done) == 1])
	}
	if len(res.Failed) > 0 && len(res.Done) > 0 {
		var done, failed []string
		for _, d := range res.Done {
			done = append(done, d.Manifest.Database)
		}
		for _, f := range res.Failed {
			failed = append(failed, f.Database)
		}
		a.say("Dumped: %s. Not dumped: %s.", databasesAnd(done), databasesAnd(failed))
	}
}

// sayPlan tells what will be taken and why.
func (a *app) sayPlan(e dump.Planned) {
	j, p, r := e.Job, e.Plan, e.Room
	from := j.Source.Name
	if from == "" {
		from = j.Source.Server + j.Source.Path
	}
	if from == "" && len(j.Folders) > 0 {
		from = "this machine"
	}
	var names []string
	for _, d := range p.Databases {
		names = append(names, d.Name)
	}
	what := databasesAnd(names)
	a.say("%s: %s%s from %s into %s%s", j.Name, kindOf(j.Kind), what, from, j.Keep.Where(), roomOf(r))
	t := a.newTable(nil, "#2")
	t.width = a.room(a.stderr)
	for _, d := range p.Databases {
		t.row("  "+d.Name, size(d.Bytes), why(p, d.Name))
	}
	a.say("%s", t.render())
	if len(p.LeftOut) > 0 {
		a.say("  left out by except: %s", strings.Join(p.LeftOut, ", "))
	}
}

// databasesAnd counts databases, and what else is dumped.
func databasesAnd(names []string) string {
	var databases, folders, streams int64
	server := false
	for _, n := range names {
		switch {
		case n == engine.ServerWide:
			server = true
		case strings.HasPrefix(n, manifest.FilesStart):
			folders++
		case strings.HasPrefix(n, manifest.StreamStart):
			streams++
		default:
			databases++
		}
	}
	var parts []string
	if databases > 0 || len(names) == 0 {
		parts = append(parts, phrase.Plural(databases, "database"))
	}
	if folders > 0 {
		parts = append(parts, phrase.Plural(folders, "folder"))
	}
	if streams > 0 {
		parts = append(parts, phrase.Plural(streams, "stream"))
	}
	if server {
		parts = append(parts, "the server itself")
	}
	last := len(parts) - 1
	if last == 0 {
		return parts[0]
	}
	return strings.Join(parts[:last], ", ") + " and " + parts[last]
}

// roomOf tells the room of a keep, where it is known.
func roomOf(r keep.Room) string {
	if !r.Known {
		return ""
	}
	return " (" + phrase.Bytes(r.Free) + " free" + floorOf(r) + ")"
}

// floorOf tells the floor of a keep, where it has one.
func floorOf(r keep.Room) string {
	if r.Floor == 0 {
		return ""
	}
	return ", floor " + phrase.Bytes(r.Floor)
}

// why tells which entry of the job takes a database.
func why(p *dump.Plan, name string) string {
	switch {
	case name == engine.ServerWide:
		return "the server itself: roles, rights"
	case strings.HasPrefix(name, manifest.FilesStart):
		return "a companion folder"
	case strings.HasPrefix(name, manifest.StreamStart):
		return "a command's stream"
	}
	for _, m := range p.Matches {
		for _, d := range m.Databases {
			if d != name {
				continue
			}
			switch m.Entry {
			case name:
				return "named"
			case dump.Everything:
				return "every database"
			}
			return "matches " + m.Entry
		}
	}
	return ""
}

func size(n int64) string {
	if n == 0 {
		return "–"
	}
	if n < 0 {
		return "?"
	}
	return phrase.Bytes(n)
}

func (a *app) printDone(done *keep.Dump, d dumpFlags) {
	m := done.Manifest
	what := phrase.Plural(m.Rows(), "row") + " in " + phrase.Plural(int64(len(m.Tables())), "table")
	if m.Database == engine.ServerWide || m.Payload.SQL == nil {
		what = holds(m)
	}
	if m.Closes != "" {
		what = fmt.Sprintf("audits the log up to %s: %s", m.Closes[:10], what)
	} else if m.Kind != manifest.Full {
		what = fmt.Sprintf("%s, %s; %s", m.Kind, changes(m), what)
	}
	a.say("  %s: %s, %s stored (%s), %s, id %s", m.Database, what, phrase.Bytes(m.StoredBytes), unpacked(m),
		phrase.Duration(m.Finished.Sub(m.Started)), done.Short())
	result := done.Path()
	if d.printWhat == "id" {
		result = done.ID
	}
	if d.zero { // for scripts, byte for byte
		a.print("%s", block(result+"\x00"))
		return
	}
	a.print("%s\n", result)
}

// changes counts what a dump that builds on another holds.
func changes(m *manifest.Manifest) string {
	if m.Payload.Tar != nil {
		return phrase.Plural(m.Payload.Tar.Written, "entry") + " changed"
	}
	c, whole := m.Payload.SQL.Changed()
	var parts []string
	if c.Written > 0 {
		parts = append(parts, phrase.Plural(c.Written, "row")+" written")
	}
	if c.Removed > 0 {
		parts = append(parts, phrase.Plural(c.Removed, "row")+" removed")
	}
	if whole > 0 {
		parts = append(parts, phrase.Plural(int64(whole), "table")+" whole")
	}
	switch {
	case len(parts) > 0:
	case len(m.Tables()) > 0:
		return "no row changed"
	case slices.ContainsFunc(m.Files, func(f manifest.File) bool { return strings.HasPrefix(f.Path, manifest.ObjectsOf) }):
		return "its definitions changed"
	default:
		return "nothing changed"
	}
	return strings.Join(parts, ", ")
}

// unpacked says how much a dump is before it is compressed.
func unpacked(m *manifest.Manifest) string {
	if m.Payload.SQL == nil {
		return phrase.Bytes(m.RawBytes) + " unpacked"
	}
	return phrase.Bytes(m.RawBytes) + " of text"
}
