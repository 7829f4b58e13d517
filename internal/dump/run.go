package dump

import (
	"context"
	"errors"
	"fmt"
	"syscall"
	"time"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
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
	Server      bool        // what belongs to the server itself too
	Skip        []string    // patterns of tables that are left out
	Rows        []Condition // tables of which some rows are dumped
	Config      []byte      // as it is kept beside the dumps; no secrets
	Tool        string      // name and version of this program
}

// Done is a finished dump.
type Done struct {
	Path     string
	ID       string
	Manifest *manifest.Manifest
}

// Failure is a database that could not be dumped.
type Failure struct {
	Database string
	Err      error
}

// Result is what came of a run.
type Result struct {
	Run    string
	Done   []Done
	Failed []Failure
}

// Watcher is told how a run goes on. All of it must be set.
type Watcher struct {
	Planned func(*Plan, *keep.Keep, keep.Room) // before anything is dumped
	Done    func(Done)                         // after each finished dump
	Warn    func(string)                       // it ends with warnings then
	Note    func(string)                       // worth telling, no more
	Meter   *event.Meter
}

// Run takes the dumps of a job. A database that fails does not keep the others
// from being dumped. The error is for what stops the whole run.
func Run(ctx context.Context, j *Job, w Watcher) (*Result, error) {
	if j.Keep.ReadOnly {
		return nil, fault.New("keep-unwritable", nil, "the keep %s cannot be written by this user", j.Keep.Folder).
			Advise("check that its drive is not mounted read-only, and who owns the folder")
	}
	lock, err := j.Keep.LockJob(j.Name)
	if err != nil {
		return nil, err
	}
	defer lock.Release()
	r := &runner{Job: j, w: w, res: &Result{Run: keep.NewRun()}, started: time.Now().UTC(), matched: map[string]bool{}}
	left, err := j.Keep.Sweep()
	if err != nil {
		return nil, err
	}
	if len(left) > 0 {
		w.Note(fmt.Sprintf("cleaned up after %s that did not end properly", phrase.Plural(int64(len(left)), "run")))
	}
	src, err := engine.Open(ctx, j.Source)
	if err != nil {
		return nil, err
	}
	defer src.Close()
	if err := r.prepare(ctx, src); err != nil {
		return nil, err
	}
	work, err := j.Keep.NewWork(r.res.Run)
	if err != nil {
		return nil, err
	}
	defer work.Close()
	if work.Exposed() {
		r.w.Warn(fmt.Sprintf("the file system of the keep %s cannot hide the dumps from other users of this machine", j.Keep.Folder))
	}
	if err := src.Fix(ctx, r.databases(), work.Folder); err != nil {
		return nil, err
	}
	for _, d := range r.plan.Databases {
		if ctx.Err() != nil {
			return r.res, context.Cause(ctx)
		}
		done, err := r.database(ctx, src, work, d)
		if err != nil {
			r.res.Failed = append(r.res.Failed, Failure{d.Name, diskTrouble(j.Keep, err)})
			if ctx.Err() != nil {
				return r.res, context.Cause(ctx)
			}
			continue
		}
		r.res.Done = append(r.res.Done, *done)
		w.Done(*done)
	}
	r.unmatched()
	if len(r.res.Done) > 0 && j.Config != nil {
		if err := j.Keep.SaveJob(j.Name, j.Config); err != nil {
			r.w.Warn("the job's configuration could not be kept beside the dumps: " + err.Error())
		}
	}
	return r.res, nil
}

type runner struct {
	*Job
	w       Watcher
	res     *Result
	plan    *Plan
	server  engine.Server
	started time.Time
	matched map[string]bool // entries of Skip and Rows
}

// prepare finds out what will be dumped and whether there is room.
func (r *runner) prepare(ctx context.Context, src engine.Source) (err error) {
	if r.server, err = src.Describe(ctx); err != nil {
		return err
	}
	there, err := src.Databases(ctx)
	if err != nil {
		return err
	}
	if r.plan, err = Choose(r.Choice, there); err != nil {
		return err
	}
	for _, d := range r.plan.Databases {
		if d.Name == engine.ServerWide {
			return fault.New("name-taken", nil, "a database named %s cannot be dumped: the name stands for the server itself", d.Name).Advise("leave it out with except")
		}
	}
	if r.Server && r.server.Wide {
		r.plan.Databases = append(r.plan.Databases, engine.Database{Name: engine.ServerWide})
	}
	if err := r.plan.Narrow(r.Only); err != nil {
		return err
	}
	room, err := r.Keep.Room()
	if err != nil {
		return err
	}
	r.w.Planned(r.plan, r.Keep, room)
	if r.server.Folder != "" && keep.SameDrive(r.server.Folder, r.Keep.Folder) {
		r.w.Warn(SameDriveWarning(r.Keep))
	}
	return r.checkRoom(room)
}

// databases are the names of those that the run dumps, the server itself left out.
func (r *runner) databases() (names []string) {
	for _, d := range r.plan.Databases {
		if d.Name != engine.ServerWide {
			names = append(names, d.Name)
		}
	}
	return names
}

// SameDriveWarning is what survey and dump say of a keep beside its data.
func SameDriveWarning(k *keep.Keep) string {
	return fmt.Sprintf("the keep %s is on the same file system as the data: one broken drive takes both", k.Folder)
}

func (r *runner) checkRoom(room keep.Room) error {
	if room.Floor > 0 && room.Left() <= 0 || room.Free == 0 {
		return r.Keep.FloorReached(room)
	}
	need, err := Estimate(r.Keep, r.Name, r.plan.Databases)
	if err != nil {
		return err
	}
	if r.Source.CopyFirst {
		largest := int64(0)
		for _, d := range r.plan.Databases {
			largest = max(largest, d.Bytes)
		}
		if need += largest; largest > room.Left() {
			return fault.New("no-room", nil, "the keep %s has no room for a copy of the largest file, %s", r.Keep.Folder, phrase.Bytes(largest)).
				Advise("make room, or leave copy_first out")
		}
	}
	if need > room.Left() {
		r.w.Warn(fmt.Sprintf("the dumps will take about %s, and the keep has %s above its floor",
			phrase.Bytes(need), phrase.Bytes(max(0, room.Left()))))
	}
	return nil
}

// Estimate is how much a run will take on the keep, in bytes: what each
// database's last dump took, or a third of its size.
func Estimate(k *keep.Keep, job string, databases []engine.Database) (int64, error) {
	dumps, err := k.Dumps()
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
func diskTrouble(k *keep.Keep, err error) error {
	var f *fault.Error
	switch {
	case errors.As(err, &f):
		return err
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return fault.New("disk-full", err, "the keep %s is full", k.Folder).
			Advise("make room on its drive; the unfinished dump was removed")
	case errors.Is(err, syscall.EFBIG):
		return fault.New("file-too-large", err, "a file of the dump is larger than the keep %s allows", k.Folder).
			Advise("check the limits (ulimit -f) and the file system; the unfinished dump was removed")
	case errors.Is(err, syscall.EIO), errors.Is(err, syscall.EROFS), errors.Is(err, syscall.ENOENT), errors.Is(err, syscall.ENODEV):
		if gone := k.Present(); gone != nil {
			return gone
		}
		return fault.New("keep-unwritable", err, "cannot write to the keep %s", k.Folder).Advise("check its drive")
	}
	return err
}
