package keep

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"time"

	"grainkeep/internal/clock"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/record"
	"grainkeep/internal/store"
)

// A keep knows what it holds: each run leaves a record that names its dumps, and each
// removal one that names what went. What is there without a record, or is not there
// although a record names it, is told.

// RunRecord is what a run, or a removal, did to a keep.
type RunRecord struct {
	Format  int       `json:"format"`
	Keep    string    `json:"keep"`
	Run     string    `json:"run"`
	Job     string    `json:"job"`
	Ended   time.Time `json:"ended"`
	Killed  bool      `json:"killed,omitempty"` // written by the one who cleaned up
	Dumps   []Placed  `json:"dumps,omitempty"`
	Failed  []string  `json:"failed,omitempty"` // databases
	Removed []Placed  `json:"removed,omitempty"`
	Why     string    `json:"why,omitempty"` // it was removed
}

// Placed is a dump in a record.
type Placed struct {
	ID       string    `json:"id"`
	Path     string    `json:"path"` // in the keep
	Database string    `json:"database"`
	Moment   time.Time `json:"moment"`
}

// placed is a dump as records name it.
func (d *Dump) placed() Placed {
	return Placed{ID: d.ID, Path: d.dir, Database: d.Manifest.Database, Moment: d.Manifest.Moment}
}

const recordEnding = ".json"

// RecordRun writes what came of a run.
func (k *Keep) RecordRun(ctx context.Context, run, job string, dumps []*Dump, failed []string) error {
	r := RunRecord{Run: run, Job: job, Failed: failed}
	for _, d := range dumps {
		r.Dumps = append(r.Dumps, d.placed())
	}
	return k.writeRecord(ctx, r)
}

func (k *Keep) writeRecord(ctx context.Context, r RunRecord) error {
	r.Format, r.Keep, r.Ended = formatNow, k.ID, clock.Now().UTC()
	data, _, err := record.Encode(r)
	if err != nil {
		return err
	}
	name := fmt.Sprintf("%s/%s-%s%s", runsName, r.Ended.Format("20060102T150405.000Z"), r.Run, recordEnding)
	if err := store.WriteNew(ctx, k.st, name, data); err != nil {
		return k.unwritable(err)
	}
	return nil
}

// recordKilled records, for a run that was killed, those of some dumps that are in place
// and in no record yet.
func (k *Keep) recordKilled(ctx context.Context, run string, ids []string) error {
	dumps, err := k.Dumps(ctx)
	if err != nil {
		return err
	}
	held, err := k.holdings(ctx)
	if err != nil {
		return err
	}
	r := RunRecord{Run: run, Killed: true}
	for _, d := range dumps {
		if _, known := held.placed[d.ID]; d.Manifest != nil && slices.Contains(ids, d.ID) && !known {
			r.Job = d.Manifest.Job
			r.Dumps = append(r.Dumps, d.placed())
		}
	}
	if len(r.Dumps) == 0 {
		return nil
	}
	return k.writeRecord(ctx, r)
}

// holdings are what the records say.
type holdings struct {
	placed  map[string]Placed
	removed map[string]bool
	broken  []error // records that cannot be read
}

func (k *Keep) holdings(ctx context.Context) (*holdings, error) {
	h := &holdings{placed: map[string]Placed{}, removed: map[string]bool{}}
	err := k.st.List(ctx, runsName, func(e store.Entry) error {
		if base := e.Name[strings.LastIndexByte(e.Name, '/')+1:]; base[0] == '.' || !strings.HasSuffix(base,
			recordEnding) {
			return nil
		}
		r, err := k.recordOf(ctx, e)
		if err != nil {
			h.broken = append(h.broken, fault.New("record-damaged", err, "the record %s cannot be used",
				k.st.Where(e.Name)).
				Advise("dumps that it names would not be missed if they vanished"))
			return nil
		}
		for _, p := range r.Dumps {
			h.placed[p.ID] = p
		}
		for _, id := range r.Removed {
			h.removed[id] = true
		}
		return nil
	})
	k.settle()
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	if err != nil {
		err = fault.New("keep-unreadable", err, "cannot look into %s", k.st.Where(runsName))
	}
	return h, err
}

// Removed gives the ids of the dumps that were removed from the keep, as its records say.
func (k *Keep) Removed(ctx context.Context) (map[string]bool, error) {
	h, err := k.holdings(ctx)
	if err != nil {
		return nil, err
	}
	return h.removed, errors.Join(h.broken...)
}

// readRecord reads one record.
func (k *Keep) readRecord(ctx context.Context, name string) (r RunRecord, err error) {
	data, err := store.ReadAll(ctx, k.st, name, maxSmall)
	if err == nil {
		err = record.Decode(data, &r)
	}
	return r, err
}

// Absence is what the records of a keep and what lies in it do not agree on.
type Absence struct {
	Missing []Placed // recorded, and not there
	Unknown []*Dump  // there, and in no record
	Moved   []*Dump  // there, under another path than recorded
	Broken  []error  // records that cannot be read
}

// Audit holds what lies in the keep against its records.
func (k *Keep) Audit(ctx context.Context, dumps []*Dump) (*Absence, error) {
	h, err := k.holdings(ctx)
	if err != nil {
		return nil, err
	}
	a := &Absence{Broken: h.broken}
	placing, err := k.placing(ctx)
	if err != nil {
		return nil, err
	}
	there := map[string]bool{}
	unread := map[string]bool{} // folders that have something, whatever it is
	for _, d := range dumps {
		if d.Keep != k {
			continue
		}
		if d.Manifest == nil {
			unread[d.dir] = true
			continue
		}
		there[d.ID] = true
		switch p, known := h.placed[d.ID]; {
		case !known && placing[d.ID]: // its run is under way, or was killed
		case !known:
			a.Unknown = append(a.Unknown, d)
		case p.Path != d.dir:
			a.Moved = append(a.Moved, d)
		}
	}
	for id, p := range h.placed {
		if !there[id] && !h.removed[id] && !within(unread, p.Path) {
			a.Missing = append(a.Missing, p)
		}
	}
	slices.SortFunc(a.Missing, func(x, y Placed) int { return strings.Compare(x.Path, y.Path) })
	return a, nil
}

// placing are the ids of dumps of runs that are under way, or were killed and not cleaned
// up after yet.
func (k *Keep) placing(ctx context.Context) (map[string]bool, error) {
	ids := map[string]bool{}
	err := k.st.List(ctx, workName, func(run store.Entry) error {
		if !run.Folder || !ours(strings.TrimPrefix(run.Name, workName+"/")) {
			return nil
		}
		err := k.st.List(ctx, run.Name+"/"+intents, func(e store.Entry) error {
			ids[e.Name[strings.LastIndexByte(e.Name, '/')+1:]] = true
			return nil
		})
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	})
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, store.ErrNotRegular) { // a link: who dumps says so
		return ids, nil
	}
	if err != nil {
		err = fault.New("keep-unreadable", err, "cannot look into %s", k.st.Where(workName))
	}
	return ids, err
}

// within says whether a path or a folder above it is in a set: it is told otherwise then.
func within(set map[string]bool, path string) bool {
	for {
		if set[path] {
			return true
		}
		at := strings.LastIndexByte(path, '/')
		if at < 0 {
			return false
		}
		path = path[:at]
	}
}

// Remove removes a dump: its manifest first, so that a crash leaves no half dump, then
// the rest of it, and records that.
func (k *Keep) Remove(ctx context.Context, d *Dump, why string) error {
	p := d.placed()
	if err := k.st.Remove(ctx, d.dir+"/"+manifest.Name); err != nil {
		return k.unwritable(err)
	}
	if err := k.Forget(ctx, d.Manifest.Job, p, why); err != nil {
		return err
	}
	if err := store.RemoveBelow(context.WithoutCancel(ctx), k.st, d.dir); err != nil {
		return k.unwritable(err)
	}
	return nil
}

// Forget records that a dump was removed.
func (k *Keep) Forget(ctx context.Context, job string, p Placed, why string) error {
	return k.writeRecord(ctx, RunRecord{Run: NewRun(), Job: job, Removed: []Placed{p}, Why: why})
}

// Check looks at the keep's own files: the marker was read when it was opened, and is
// looked at again here. Each finding names a file.
func (k *Keep) Check(ctx context.Context) (findings []string, err error) {
	find := func(format string, args ...any) { findings = append(findings, fmt.Sprintf(format, args...)) }
	if _, err := readMarker(ctx, k.st); err != nil {
		find("%v", err)
	}
	data, err := store.ReadAll(ctx, k.st, startName, maxSmall)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		find("%s is missing", startName)
	case err != nil:
		find("%s cannot be read: %v", startName, err)
	case record.ID(data) != k.start:
		find("%s is not as it was written", startName)
	}
	err = k.st.List(ctx, jobsName, func(e store.Entry) error {
		job := strings.TrimSuffix(strings.TrimPrefix(e.Name, jobsName+"/"), ".toml")
		if !IsJob(job) {
			return nil
		}
		if _, err := k.Job(ctx, job); err != nil {
			find("%v", err)
		}
		return nil
	})
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return findings, err
	}
	holds, err := k.Holds(ctx)
	for _, id := range slices.Sorted(maps.Keys(holds)) {
		if h := holds[id]; h.Format == 0 { // it could not be read
			find("the hold of %s: %s", id[:min(10, len(id))], h.Why)
		}
	}
	return findings, err
}
