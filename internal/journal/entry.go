package journal

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"grainkeep/internal/clock"
	"grainkeep/internal/event"
	"grainkeep/internal/phrase"
	"grainkeep/internal/state"
	"grainkeep/internal/system"
)

// sign is how often a run shows how far it is.
const sign = 2 * time.Second

// silence is after how long without a sign of life a run of another machine counts as killed.
const silence = 10 * time.Minute

// Entry is a run that goes on. Its methods may be called side by side.
type Entry struct {
	j    *Journal
	run  *Run
	log  *os.File // locked as long as the run goes on; nil: it could not be made
	stop chan struct{}
	gone sync.WaitGroup

	mu    sync.Mutex
	worst error // the first thing that could not be written
}

// Begin notes that a run begins, and shows by its meter how far it is until End. The run has an id, a command and
// a job; the rest is filled in.
func (j *Journal) Begin(ctx context.Context, r Run, m *event.Meter) (*Entry, error) {
	r.Host = hostName()
	r.PID, r.Started, r.Result = os.Getpid(), clock.Now().UTC(), Running
	r.Progress.At = r.Started
	if me, err := user.Current(); err == nil {
		r.Account = me.Username
	} else {
		r.Account = strconv.Itoa(os.Getuid())
	}
	e := &Entry{j: j, run: &r, stop: make(chan struct{})}
	if err := e.openLog(); err != nil {
		return nil, unusable(j.where, err)
	}
	if err := j.insert(ctx, &r); err != nil {
		return nil, unusable(j.where, errors.Join(err, e.log.Close()))
	}
	e.gone.Go(func() { e.show(context.WithoutCancel(ctx), m) })
	return e, nil
}

func (e *Entry) openLog() error {
	path := filepath.Join(e.j.folder, logsName,
		e.run.Started.Format("20060102T150405Z")+"-"+strings.ReplaceAll(e.run.Command, " ", "-")+"-"+e.run.ID+".log")
	f, err := state.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_APPEND|os.O_WRONLY)
	if err != nil {
		return err
	}
	if err := system.Lock(f); err != nil {
		return errors.Join(err, f.Close())
	}
	e.log, e.run.Log = f, path
	return nil
}

// ID is that of the run.
func (e *Entry) ID() string { return e.run.ID }

// show writes how far the run is, until it ends.
func (e *Entry) show(ctx context.Context, m *event.Meter) {
	tick := time.NewTicker(sign)
	defer tick.Stop()
	for {
		select {
		case <-e.stop:
			return
		case <-tick.C:
		}
		_, err := e.j.exec(ctx,
			"UPDATE run SET step = ?, done_rows = ?, done_bytes = ?, expected_bytes = ?, beat = ? WHERE id = ?",
			text(m.Step()), m.Rows.Load(), m.Bytes.Load(), m.Expected.Load(), micros(clock.Now()), e.run.ID)
		e.fail(err)
	}
}

func (e *Entry) fail(err error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.worst == nil {
		e.worst = err
	}
}

// Line adds a line to the run's log.
func (e *Entry) Line(word, format string, args ...any) {
	_, err := fmt.Fprintf(e.log, "%s  %-13s  %s\n", clock.Now().Format("2006-01-02 15:04:05 -07:00"), word,
		phrase.Clean(fmt.Sprintf(format, args...)))
	e.fail(err)
}

// Hear is a listener for the feed of the run's work: what is told stands in the log, and warnings in the journal.
func (e *Entry) Hear(ev event.Event) {
	e.Line(ev.Word(), "%s", ev.Text())
	if w, ok := ev.(event.Warning); ok {
		e.mu.Lock()
		e.run.Warnings = append(e.run.Warnings, Warning{Code: w.Code, Of: w.Of, Text: w.What})
		e.mu.Unlock()
	}
}

// At notes which keep the run works on.
func (e *Entry) At(ctx context.Context, keep, place string) {
	e.run.Keep, e.run.Place = keep, place
	_, err := e.j.exec(ctx, "UPDATE run SET keep = ?, place = ? WHERE id = ?", keep, text(place), e.run.ID)
	e.fail(err)
}

// Of notes the job that the run is about, where that was not known when it began.
func (e *Entry) Of(ctx context.Context, job string) {
	if job == e.run.Job {
		return
	}
	e.run.Job = job
	_, err := e.j.exec(ctx, "UPDATE run SET job = ? WHERE id = ?", job, e.run.ID)
	e.fail(err)
}

// Drop ends the run as if it had never begun.
func (e *Entry) Drop(ctx context.Context) error {
	close(e.stop)
	e.gone.Wait()
	_, err := e.j.exec(context.WithoutCancel(ctx), "DELETE FROM run WHERE id = ?", e.run.ID)
	if err := errors.Join(err, e.log.Close(), os.Remove(e.run.Log)); err != nil {
		return unusable(e.j.where, err)
	}
	return nil
}

// Part notes what the run did to one database.
func (e *Entry) Part(ctx context.Context, p Part) {
	p.Command = e.run.Command
	if p.Ended.IsZero() {
		p.Ended = clock.Now()
	}
	e.fail(e.j.insertPart(ctx, e.run.ID, e.run.Job, p))
}

// Outcome is how a run ended.
type Outcome struct {
	Result Result
	Code   string // of a failure
	Reason string
	Advice string
	Exit   int // the exit code that a failure leads to; it is not noted
}

// End notes how the run ended, also when its context is cancelled. The error is the first thing that could not be
// written, in all of the run.
func (e *Entry) End(ctx context.Context, o Outcome) error {
	ctx = context.WithoutCancel(ctx)
	close(e.stop)
	e.gone.Wait()
	if o.Reason != "" {
		e.Line(string(o.Result), "%s", o.Reason)
	} else {
		e.Line(string(o.Result), "after %s", phrase.Duration(clock.Since(e.run.Started)))
	}
	e.mu.Lock()
	warnings, err := json.Marshal(e.run.Warnings)
	e.mu.Unlock()
	e.fail(err)
	_, err = e.j.exec(ctx,
		"UPDATE run SET ended = ?, result = ?, code = ?, reason = ?, advice = ?, warnings = ?, step = '' WHERE id = ?",
		micros(clock.Now()), string(o.Result), o.Code, text(o.Reason), text(o.Advice), text(string(warnings)), e.run.ID)
	e.fail(err)
	e.fail(e.log.Close())
	if e.worst != nil {
		return unusable(e.j.where, e.worst)
	}
	return nil
}

// Settle notes of runs that go on no more that they were killed, and gives them.
func (j *Journal) Settle(ctx context.Context) (killed []Run, err error) {
	list, err := j.Runs(ctx, Filter{Results: []Result{Running}})
	if err != nil {
		return nil, err
	}
	host := hostName()
	for _, r := range list {
		if r.Host == host && j.ours(r) { // its log tells at once
			if j.alive(r) {
				continue
			}
		} else if clock.Since(r.Progress.At) < silence {
			continue
		}
		r.Ended, r.Result, r.Code = r.Progress.At, Killed, "killed"
		r.Reason = fmt.Sprintf("its process %d on %s ended without a word", r.PID, r.Host)
		done, err := j.exec(ctx,
			"UPDATE run SET ended = ?, result = ?, code = ?, reason = ? WHERE id = ? AND result = ?",
			micros(r.Ended), string(r.Result), r.Code, r.Reason, r.ID, string(Running))
		if err != nil {
			return killed, unusable(j.where, err)
		}
		if n, err := done.RowsAffected(); err == nil && n == 1 {
			killed = append(killed, r)
		}
	}
	return killed, nil
}

// Log opens the log of a run. What a journal says chooses no file: only the logs of this machine are opened. It
// fails with os.ErrNotExist for another's.
func (j *Journal) Log(r Run) (*os.File, error) {
	if !j.ours(r) {
		return nil, os.ErrNotExist
	}
	f, err := os.OpenFile(r.Log, os.O_RDONLY|system.NoFollow|system.NoWait, 0)
	if err != nil {
		return nil, err
	}
	if st, err := f.Stat(); err != nil || !st.Mode().IsRegular() {
		return nil, errors.Join(err, f.Close(), os.ErrInvalid)
	}
	return f, nil
}

// ours says whether a run's log is one of this journal's folder.
func (j *Journal) ours(r Run) bool { return filepath.Dir(r.Log) == filepath.Join(j.folder, logsName) }

// alive says whether a run of this machine goes on: its process has its log locked.
func (j *Journal) alive(r Run) bool {
	f, err := j.Log(r)
	if err != nil {
		return !errors.Is(err, os.ErrNotExist) && system.Alive(r.PID)
	}
	defer f.Close()
	return system.LockShared(f) != nil
}

// Prune removes the runs that began before a time, with their logs, once a day at most. Those that go on stay.
func (j *Journal) Prune(ctx context.Context, before time.Time) error {
	day := clock.Now().UTC().Format(time.DateOnly)
	done, err := j.exec(ctx,
		"INSERT INTO meta (name, value) VALUES ('pruned', ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value "+
			"WHERE meta.value <> excluded.value", day)
	if err != nil {
		return unusable(j.where, err)
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return err
	}
	rows, err := j.query(ctx, "SELECT log FROM run WHERE started < ? AND result <> 'running' AND host = ?",
		micros(before), hostName())
	if err != nil {
		return unusable(j.where, err)
	}
	defer rows.Close()
	for rows.Next() {
		var path string
		if err := rows.Scan(&path); err != nil {
			return unusable(j.where, err)
		}
		if filepath.Dir(path) != filepath.Join(j.folder, logsName) { // written by somebody else
			continue
		}
		if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
			return unusable(j.where, err)
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return unusable(j.where, err)
	}
	old := []string{"DELETE FROM part WHERE run IN (SELECT id FROM run WHERE started < ? AND result <> 'running')",
		"DELETE FROM run WHERE started < ? AND result <> 'running'", "DELETE FROM read_back WHERE at < ?"}
	if j.shared {
		old = append(old, "DELETE FROM turn WHERE due < ?")
	}
	for _, s := range old {
		if _, err := j.exec(ctx, s, micros(before)); err != nil {
			return unusable(j.where, err)
		}
	}
	return nil
}

func hostName() string {
	name, _ := os.Hostname()
	return name
}
