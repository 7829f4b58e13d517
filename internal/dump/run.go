package dump

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/time/rate"

	"grainkeep/internal/blob"
	"grainkeep/internal/clock"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/rows"
	"grainkeep/internal/scratch"
	"grainkeep/internal/seal"
	"grainkeep/internal/step"
	"grainkeep/internal/stream"
	"grainkeep/internal/system"
)

// Job is what to dump from where to where.
type Job struct {
	Name        string
	Source      engine.Location
	Choice      Choice
	Only        []string // of the chosen databases, just these
	Keep        *keep.Keep
	Compression blob.Compression
	Zone        *time.Location
	Server      bool           // what belongs to the server itself too
	NoPasswords bool           // that passwords are left out is meant
	Folders     []Folder       // companion folders
	Stream      *stream.Source // instead of databases, what a command writes
	Skip        []string       // patterns of tables that are left out
	Rows        []Condition    // tables of which some rows are dumped
	Config      []byte         // as it is kept beside the dumps; no secrets
	Tool        string         // name and version of this program

	Seal []seal.Recipient // for whom the dumps are sealed; none: as the keep says

	Kind  manifest.Kind // of the dumps, where they have something to build on; empty: full
	Alone bool          // a full that is no baseline
	// a full that is to be the beginning of a chain, also of a job that has none
	Baseline bool
	Chained  bool                                 // the job's dumps build on each other
	Changes  string                               // how incrementals find what changed: as the configuration has it
	Folder   phrase.FolderName                    // how the folders of the dumps are named; the zero value: by default
	Note     string                               // for the dumps
	Run      string                               // id of the run; empty: one is made
	Steps    step.Around                          // around the dumps
	Accept   []string                             // codes of warnings that are known and accepted
	Limit    time.Duration                        // how long the dumps may take; 0: for ever
	Wait     time.Duration                        // how long another run of the job is waited for
	Tries    int                                  // of a run whose connection fails; 0: one
	Pace     *rate.Limiter                        // of bytes into the keep; nil: none
	waiting  func(time.Duration) <-chan time.Time // between tries; nil: time.After
}

// How incrementals find what changed in a database.
const (
	FromLog = "log"     // from the server's log, with a warning where it does not tell
	Compare = "compare" // by comparison
)

// Failure is a database that could not be dumped.
type Failure struct {
	Database string
	Err      error
}

// Result is what came of a run.
type Result struct {
	Run    string
	Done   []*keep.Dump
	Failed []Failure
	After  error // of the steps after the dumps, which are there all the same
}

// Planned is told before anything is dumped.
type Planned struct {
	Job  *Job
	Plan *Plan
	Room keep.Room
}

// Word implements event.Event.
func (Planned) Word() string { return "dump-planned" }

// Text implements event.Event.
func (p Planned) Text() string {
	return fmt.Sprintf("%s: %s", p.Job.Name, phrase.Plural(int64(len(p.Plan.Databases)), "dump"))
}

// Finished is told of each dump that is in place.
type Finished struct{ *keep.Dump }

// Word implements event.Event.
func (Finished) Word() string { return "dump-finished" }

// Text implements event.Event.
func (f Finished) Text() string { return f.Path() }

// Failed is told of each database that could not be dumped.
type Failed struct{ Failure }

// Word implements event.Event.
func (Failed) Word() string { return "dump-failed" }

// Text implements event.Event.
func (f Failed) Text() string { return fmt.Sprintf("%s was not dumped: %v", f.Database, f.Err) }

// once takes the dumps of a job, in one try.
func once(ctx context.Context, j *Job, run string, feed *event.Feed) (res *Result, err error) {
	lease, err := lockJob(ctx, j, feed)
	if err != nil {
		return nil, err
	}
	defer func() {
		if e := lease.Release(); e != nil && err == nil {
			err = leaseLost(e)
		}
	}()
	r := &runner{Job: j, feed: feed, res: &Result{Run: run}, started: clock.Now().UTC(),
		beside: map[string]beside{}, matched: map[string]bool{}, last: map[string]*keep.Dump{}}
	left, err := j.Keep.Sweep(ctx)
	if err != nil {
		return nil, err
	}
	if left > 0 {
		feed.Note("", "cleaned up after %s that did not end properly", phrase.Plural(int64(left), "run"))
	}
	var src engine.Source // nil: there are no databases
	if j.hasDatabases() {
		j.Source.Reader = j.reader()
		j.Source.LogUnbounded = j.Source.LogUnbounded || j.Changes == FromLog
		j.Source.Log = j.Changes != Compare && (j.Chained || j.Baseline || j.Kind != "" && j.Kind != manifest.Full)
		if src, err = engine.Open(ctx, j.Source); err != nil {
			return nil, err
		}
		defer src.Close()
	}
	if err := r.prepare(ctx, src); err != nil {
		return nil, err
	}
	err = r.between(ctx, src)
	if j.Keep.Unconditional() {
		feed.Warn("store-unconditional", "", "the service of %s knows no conditional writes: leases do not keep two machines "+
			"apart that begin at the same instant", j.Keep.Where())
	}
	return r.res, err
}

// reader tells the job's readers of a change log from those of other jobs and keeps.
func (j *Job) reader() string { return Reader(j.Keep.ID, j.Name) }

// Reader tells the readers of a change log for a job and a keep from others.
func Reader(keepID, job string) string {
	sum := sha256.Sum256([]byte(keepID + "/" + job))
	return hex.EncodeToString(sum[:6])
}

// hasDatabases says whether the job dumps databases.
func (j *Job) hasDatabases() bool { return j.Source.Engine != "" && j.Stream == nil }

// between takes the dumps between the job's steps. Those after them run whatever happened.
func (r *runner) between(ctx context.Context, src engine.Source) error {
	facts := step.Facts{Job: r.Name, Run: r.res.Run, Kind: string(r.kind()), Databases: r.databases(),
		Keep: r.Keep.Where()}
	open, err := r.Steps.Begin(ctx, r.Name+"-"+r.res.Run, step.Before, step.After, facts, r.feed)
	if err != nil {
		return err
	}
	if open == nil {
		return r.take(ctx, src)
	}
	facts.Result = "failed"
	defer func() { // also when this panics
		for _, d := range r.res.Done {
			facts.Dumps = append(facts.Dumps, d.Path())
		}
		if e := open.Close(ctx, facts, r.feed); e != nil {
			r.res.After = e
		}
	}()
	if err = r.take(ctx, src); err == nil && len(r.res.Failed) == 0 {
		facts.Result = "good"
	} else if ctx.Err() != nil {
		facts.Result = "stopped"
	}
	return err
}

func leaseLost(err error) error {
	return fault.New("lease-lost", err, "this run's lease was lost while it ran").
		Advise("another run of the job may have begun at the same time; check with 'grainkeep list' and 'verify'")
}

type runner struct {
	*Job
	feed    *event.Feed
	res     *Result
	plan    *Plan
	server  engine.Server
	started time.Time
	beside  map[string]beside     // what is dumped and is no database, by name
	matched map[string]bool       // entries of Skip and Rows
	last    map[string]*keep.Dump // the dumps before, by database
	dumps   []*keep.Dump          // all that the keep has
}

// take takes the dumps of the plan, records them and keeps the job's configuration.
func (r *runner) take(ctx context.Context, src engine.Source) error {
	session, err := r.Keep.Begin(ctx, r.res.Run)
	if err != nil {
		return err
	}
	if len(r.Seal) > 0 {
		session.Seal = r.Seal
	}
	always := context.WithoutCancel(ctx)
	defer session.Close(always) // what it leaves, the next run removes
	if session.Exposed() {
		r.feed.Warn("keep-exposed", "",
			"the file system of the keep %s cannot hide the dumps from other users of this machine", r.Keep.Where())
	}
	local, err := scratch.New()
	if err != nil {
		return err
	}
	defer local.Close()
	if err := r.roomForCopy(local); err != nil {
		return err
	}
	if names := r.databases(); src != nil && (len(names) > 0 || r.serverToo()) {
		if err := rows.Within(ctx, r.Source.LockWait+r.Source.Bound(), func(ctx context.Context) error {
			return src.Pin(ctx, names, local.Path)
		}); err != nil {
			return err
		}
	}
	err = r.each(ctx, src, session)
	if len(r.res.Done)+len(r.res.Failed) > 0 {
		var failed []string
		for _, f := range r.res.Failed {
			failed = append(failed, f.Database)
		}
		if e := r.Keep.RecordRun(always, r.res.Run, r.Name, r.res.Done, failed); e != nil && err == nil {
			err = e
		}
	}
	if err != nil {
		return err
	}
	if e := session.Forgot(); e != nil {
		r.feed.Warn("seal-not-remembered", "", "the next dump will be a full: what it needs of these could not be kept on this "+
			"machine: %v", e)
	}
	if e := r.Keep.ForgetSealed(always, r.Name, append(r.dumps[:len(r.dumps):len(r.dumps)], r.res.Done...)); e != nil {
		r.feed.Note("", "what this machine remembers of older sealed dumps could not be removed: %v", e)
	}
	r.unmatched()
	if len(r.res.Done) > 0 && r.Config != nil {
		if err := r.Keep.SaveJob(ctx, r.Name, r.Config, session.Seal); err != nil {
			r.feed.Warn("job-not-kept", "", "the job's configuration could not be kept beside the dumps: %v", err)
		}
	}
	return nil
}

// each dumps one database after the other.
func (r *runner) each(ctx context.Context, src engine.Source, session *keep.Session) error {
	for _, d := range r.plan.Databases {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		var done *keep.Dump
		var err error
		if b, is := r.beside[d.Name]; is {
			done, err = r.dumpBeside(ctx, session, d.Name, b)
		} else {
			done, err = r.database(ctx, src, session, d)
		}
		if err != nil {
			f := Failure{d.Name, diskTrouble(ctx, r.Keep, err)}
			r.res.Failed = append(r.res.Failed, f)
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			r.feed.Tell(Failed{f})
			continue
		}
		r.res.Done = append(r.res.Done, done)
		r.feed.Tell(Finished{done})
	}
	return nil
}

// prepare finds out what will be dumped and whether there is room.
func (r *runner) prepare(ctx context.Context, src engine.Source) (err error) {
	if src != nil {
		err = r.choose(ctx, src)
	} else {
		r.plan = &Plan{}
	}
	if err == nil {
		err = r.besides()
	}
	if err == nil {
		err = r.plan.Narrow(r.Only)
	}
	if err == nil {
		err = r.kinds()
	}
	if err != nil {
		return err
	}
	room, err := r.Keep.Room(ctx)
	if err != nil {
		return err
	}
	r.feed.Tell(Planned{r.Job, r.plan, room})
	r.remark()
	if err := r.checkClock(ctx); err != nil {
		return err
	}
	return r.checkRoom(ctx, room)
}

// choose finds out which databases will be dumped.
func (r *runner) choose(ctx context.Context, src engine.Source) (err error) {
	var there []engine.Database
	err = rows.Within(ctx, r.Source.LockWait+r.Source.Bound(), func(ctx context.Context) (err error) {
		if r.server, err = src.Describe(ctx); err == nil {
			there, err = src.Databases(ctx)
		}
		return err
	})
	if err != nil {
		return err
	}
	if r.plan, err = Choose(r.Choice, there); err != nil {
		return err
	}
	for _, d := range r.plan.Databases {
		if d.Name == engine.ServerWide || strings.HasPrefix(d.Name, manifest.FilesStart) || strings.HasPrefix(d.Name,
			manifest.StreamStart) {
			return fault.New("name-taken", nil,
				"a database named %s cannot be dumped: the name stands for something else", d.Name).
				Advise("leave it out with except")
		}
	}
	if r.Server && r.server.Wide {
		r.plan.Databases = append(r.plan.Databases, engine.Database{Name: engine.ServerWide})
	}
	return nil
}

// remark warns of what is worth knowing before the dumps.
func (r *runner) remark() {
	for _, d := range r.plan.Passed {
		if d.Odd != "" {
			r.feed.Warn(PassedOver, d.Name, "it is left out: %s", d.Odd)
		}
	}
	if r.server.Blind != "" && r.Choice.open() {
		r.feed.Warn("databases-hidden", "", "%s", r.server.Blind)
	}
	if same, _ := r.Keep.SameDrive(r.server.Folder); same && r.server.Folder != "" {
		r.feed.Warn(SameDrive, "", "%s", SameDriveWarning(r.Keep))
		return
	}
	for _, f := range r.Folders {
		if same, _ := r.Keep.SameDrive(f.Path); same {
			r.feed.Warn(SameDrive, "", "%s", SameDriveWarning(r.Keep))
			return
		}
	}
}

// serverToo says whether what belongs to the server itself is dumped.
func (r *runner) serverToo() bool {
	return slices.ContainsFunc(r.plan.Databases, func(d engine.Database) bool { return d.Name == engine.ServerWide })
}

// PassedOver is the code of warnings about databases that only their literal names take.
const PassedOver = "passed-over"

// clockSlack is how far clocks may differ before it is worth a word.
const clockSlack = time.Minute

// checkClock warns of a server whose clock is behind the newest dump: the dump that is taken
// now would be the older one to whoever asks for the newest. It notes the last dumps.
func (r *runner) checkClock(ctx context.Context) error {
	if r.Keep.Blind() {
		r.feed.Warn("keep-blind", "", "this user may only make files in %s: full dumps are taken, without leases, and nothing is "+
			"held against those before", r.Keep.Where())
		return nil
	}
	dumps, err := r.Keep.Dumps(ctx)
	if err != nil {
		return err
	}
	r.dumps = dumps
	var newest time.Time
	for _, d := range dumps {
		if d.Manifest == nil || d.Manifest.Job != r.Name {
			continue
		}
		r.last[d.Manifest.Database] = d
		if d.Manifest.Moment.After(newest) {
			newest = d.Manifest.Moment
		}
	}
	if behind := newest.Sub(r.server.Clock); behind > clockSlack && !r.server.Clock.IsZero() {
		r.feed.Warn("clock-behind", "",
			"the server's clock is %s behind the newest dump of this job (%s): 'restore' takes "+
				"that one for the newest until the clock has passed it; set the clock, or name dumps by their id",
			phrase.Duration(behind), phrase.Both(newest, r.Zone))
	}
	return nil
}

// databases are the names of those that the run dumps, the server itself and what is no database left out.
func (r *runner) databases() (names []string) {
	for _, d := range r.plan.Databases {
		if _, is := r.beside[d.Name]; !is && d.Name != engine.ServerWide {
			names = append(names, d.Name)
		}
	}
	return names
}

// SameDrive is the code of the warning about a keep beside its data.
const SameDrive = "same-file-system"

// SameDriveWarning is what survey and dump say of a keep beside its data.
func SameDriveWarning(k *keep.Keep) string {
	return fmt.Sprintf("the keep %s is on the same file system as the data: one broken drive takes both", k.Where())
}

func (r *runner) checkRoom(ctx context.Context, room keep.Room) error {
	if !room.Known {
		return nil
	}
	if room.Floor > 0 && room.Left() <= 0 || room.Free == 0 {
		return r.Keep.FloorReached(room)
	}
	need, err := Estimate(ctx, r.Keep, r.Name, r.plan.Databases)
	if err != nil {
		return err
	}
	if need > room.Left() {
		r.feed.Warn("room-short", "", "the dumps will take about %s, and the keep has %s above its floor",
			phrase.Bytes(need), phrase.Bytes(max(0, room.Left())))
	}
	return nil
}

// roomForCopy fails where a file is to be copied first and the scratch folder is too
// small for it.
func (r *runner) roomForCopy(local *scratch.Folder) error {
	if !r.Source.CopyFirst {
		return nil
	}
	largest := int64(0)
	for _, d := range r.plan.Databases {
		largest = max(largest, d.Bytes)
	}
	free, err := local.Room()
	if err != nil {
		return err
	}
	if largest > free {
		return fault.New("no-room", nil, "the scratch folder %s has no room for a copy of the largest file, %s",
			scratch.Base(), phrase.Bytes(largest)).
			Advise("set TMPDIR to a folder with more room, or leave copy_first out")
	}
	return nil
}

// Estimate is how much a run will take on the keep, in bytes: what each
// database's last dump took, or a third of its size.
func Estimate(ctx context.Context, k *keep.Keep, job string, databases []engine.Database) (int64, error) {
	if k.Blind() {
		return 0, nil
	}
	dumps, err := k.Dumps(ctx)
	if err != nil {
		return 0, err
	}
	last := map[string]int64{}
	for _, d := range dumps {
		if d.Manifest != nil && d.Manifest.Job == job && d.Manifest.Kind == manifest.Full {
			last[d.Manifest.Database] = d.Manifest.StoredBytes
		}
	}
	var need int64
	for _, d := range databases {
		if n, ok := last[d.Name]; ok {
			need += n
		} else {
			need += max(0, d.Bytes) / 3
		}
	}
	return need, nil
}

// diskTrouble says what a failed write means.
func diskTrouble(ctx context.Context, k *keep.Keep, err error) error {
	var f *fault.Error
	switch {
	case errors.As(err, &f) && f.Code != "keep-unwritable":
		return err
	case system.Full(err):
		return fault.New("disk-full", err, "the keep %s is full", k.Where()).
			Advise("make room on its drive; the unfinished dump was removed")
	case errors.Is(err, syscall.EFBIG):
		return fault.New("file-too-large", err, "a file of the dump is larger than the keep %s allows", k.Where()).
			Advise("check the limits (ulimit -f) and the file system; the unfinished dump was removed")
	case errors.Is(err, syscall.EIO), errors.Is(err, syscall.EROFS), errors.Is(err, syscall.ENOENT), errors.Is(err,
		syscall.ENODEV):
		if gone := k.Present(ctx); gone != nil {
			return gone
		}
		return fault.New("keep-unwritable", err, "cannot write to the keep %s", k.Where()).Advise("check its drive")
	}
	return err
}
