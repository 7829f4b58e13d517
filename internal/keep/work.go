package keep

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/store"
)

const leaseEnding = ".lease"

// LockJob takes the lease that a job's runs exclude each other with, on all machines.
func (k *Keep) LockJob(ctx context.Context, job string) (store.Lease, error) {
	st, ok := k.st.(store.Leaser)
	if !ok {
		return nil, errors.New("this kind of store has no leases")
	}
	l, err := take(ctx, st, workName+"/job-"+job+leaseEnding)
	var held *store.HeldError
	if errors.As(err, &held) {
		e := fault.New("job-running", held, "the job %s is already running", job).Exit(fault.Running)
		if held.Here {
			return nil, e.Advise("wait for it to end; nothing was done now")
		}
		return nil,
			e.Advise("wait for it to end; if that machine is gone, its lease expires %s after its last sign of "+
				"life (%s ago)",
				store.Expiry, held.Silent.Round(time.Second))
	}
	if err != nil {
		return nil, k.unwritable(err)
	}
	return l, nil
}

// take takes a lease, and tries again for a moment: a clean-up holds each lease that it
// finds for as long as it takes to look.
func take(ctx context.Context, st store.Leaser, name string) (store.Lease, error) {
	for n := 0; ; n++ {
		l, err := st.Lease(ctx, name)
		var held *store.HeldError
		if !errors.As(err, &held) || n == 4 {
			return l, err
		}
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Session is a run's hidden place in the keep, in which its dumps are made.
type Session struct {
	k     *Keep
	run   string
	lease store.Lease
	stage store.Stage
}

// Begin makes the hidden place of a run, which is known to be alive until Close.
func (k *Keep) Begin(ctx context.Context, run string) (*Session, error) {
	leaser, ok1 := k.st.(store.Leaser)
	stager, ok2 := k.st.(store.Stager)
	if !ok1 || !ok2 {
		return nil, errors.New("dumps cannot be made in this kind of store")
	}
	lease, err := take(ctx, leaser, workName+"/"+run+leaseEnding)
	if err != nil {
		return nil, k.unwritable(err)
	}
	stage, err := stager.Stage(ctx, workName+"/"+run)
	if err != nil {
		return nil, k.unwritable(errors.Join(err, lease.Release()))
	}
	return &Session{k: k, run: run, lease: lease, stage: stage}, nil
}

// Exposed says that others on this machine can read what is made here.
func (s *Session) Exposed() bool { return s.stage.Exposed() }

// Close removes the hidden place and what is in it.
func (s *Session) Close(ctx context.Context) error {
	err := s.k.st.(store.Stager).Clear(ctx, workName+"/"+s.run)
	return errors.Join(err, s.lease.Release())
}

// Draft is a dump that is being made. Create may be called side by side.
type Draft struct {
	s      *Session
	folder string
}

// Draft begins the dump of a database.
func (s *Session) Draft(database string) *Draft { return &Draft{s, DatabaseFolder(database)} }

// Create implements blob.Creator.
func (d *Draft) Create(ctx context.Context, name string) (store.Writer, error) {
	return d.s.stage.Create(ctx, d.folder+"/"+name)
}

// intents is the folder of a stage that names, by their ids, the dumps that were put
// in place or were about to be: who cleans up after a killed run records them.
const intents = "+placing"

// Place writes the digests and, last of all, the manifest, and moves the dump to where
// dumps live. Before that it looks at every file that the manifest names. It never
// replaces anything.
func (d *Draft) Place(ctx context.Context, m *manifest.Manifest, name phrase.FolderName) (*Dump, error) {
	data, id, err := m.Encode()
	if err != nil {
		return nil, err
	}
	if err := store.WriteNew(ctx, d, manifest.Sums, []byte(m.SumLines(id))); err != nil {
		return nil, err
	}
	if err := store.WriteNew(ctx, d, manifest.Name, data); err != nil {
		return nil, err
	}
	if err := d.look(ctx, m, int64(len(data)), int64(len(m.SumLines(id)))); err != nil {
		return nil, err
	}
	if err := store.WriteNew(ctx, d.s.stage, intents+"/"+id, nil); err != nil {
		return nil, err
	}
	dir, err := d.move(ctx, m, name)
	if err != nil {
		return nil, err
	}
	return &Dump{Keep: d.s.k, files: store.Sub(d.s.k.st, dir), dir: dir, ID: id, Manifest: m}, nil
}

// look fails unless every file of the dump is there, in full, and the run is still
// the one that it was: somebody else's clean-up must not leave half a dump.
func (d *Draft) look(ctx context.Context, m *manifest.Manifest, bytes, sums int64) error {
	if err := d.s.k.Present(ctx); err != nil {
		return err
	}
	if err := d.s.lease.Held(); err != nil {
		return lostFiles(d.s.k, err)
	}
	files := append([]manifest.File{{Path: manifest.Name, Bytes: bytes}, {Path: manifest.Sums, Bytes: sums}},
		m.Files...)
	for _, f := range files {
		e, err := d.s.stage.Stat(ctx, d.folder+"/"+f.Path)
		if err != nil {
			return lostFiles(d.s.k, err)
		}
		if e.Folder || e.Foreign || e.Bytes != f.Bytes {
			return lostFiles(d.s.k, fmt.Errorf("%s has %d bytes, and %d were written", f.Path, e.Bytes, f.Bytes))
		}
	}
	return nil
}

func lostFiles(k *Keep, err error) error {
	return fault.New("work-vanished", err, "the files of the unfinished dump in %s did not stay as they were written",
		k.Where()).
		Advise("something removes or changes files in the keep's hidden folder %s; look for it, then take the "+
			"dump again", workName)
}

// move gives the dump its name.
func (d *Draft) move(ctx context.Context, m *manifest.Manifest, name phrase.FolderName) (string, error) {
	parent := m.Job + "/" + DatabaseFolder(m.Database)
	for n := 1; n < 1000; n++ {
		dir := parent + "/" + DumpFolder(m, name)
		if n > 1 {
			dir += fmt.Sprintf("-%d", n)
		}
		err := d.s.stage.Place(ctx, d.folder, dir)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return "", d.s.k.unwritable(err)
		}
		return dir, nil
	}
	return "", fault.New("name-taken", nil, "every name for this second is taken in %s", d.s.k.st.Where(parent))
}

// Sweep removes what killed runs left, on this machine or, after their leases have
// expired, on another; their dumps that came into place are recorded. It tells how many
// runs they were.
func (k *Keep) Sweep(ctx context.Context) (runs int, err error) {
	leaser, ok := k.st.(store.Leaser)
	if !ok {
		return 0, nil
	}
	names := map[string]bool{}
	err = k.st.List(ctx, workName, func(e store.Entry) error {
		if base := strings.TrimPrefix(e.Name, workName+"/"); ours(base) {
			names[strings.TrimSuffix(base, leaseEnding)] = true
		}
		return nil
	})
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, k.unwritable(err)
	}
	for name := range names {
		lease, err := leaser.Lease(ctx, workName+"/"+name+leaseEnding)
		var held *store.HeldError
		if errors.As(err, &held) {
			continue // alive
		}
		if err != nil {
			return runs, k.unwritable(err)
		}
		there, err := k.clear(ctx, name)
		if err = errors.Join(err, lease.Release()); err != nil {
			return runs, k.unwritable(err)
		}
		if there {
			runs++
		}
	}
	return runs, nil
}

// ours says whether a name in the hidden folder is one that a keep gives there.
func ours(name string) bool {
	name, isLease := strings.CutSuffix(name, leaseEnding)
	if id, ok := strings.CutPrefix(name, pinStart); ok {
		return isLease && hexID(strings.ReplaceAll(id, "-", ""))
	}
	if job, ok := strings.CutPrefix(name, "job-"); ok {
		return isLease && IsJob(job)
	}
	return hexID(name)
}

// clear removes the hidden place of a run that is dead, and says whether it had one.
func (k *Keep) clear(ctx context.Context, run string) (there bool, err error) {
	name := workName + "/" + run
	if there, err = store.Exists(ctx, k.st, name); !there || err != nil {
		return there, err
	}
	var ids []string
	err = k.st.List(ctx, name+"/"+intents, func(e store.Entry) error {
		ids = append(ids, e.Name[strings.LastIndexByte(e.Name, '/')+1:])
		return nil
	})
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return true, err
	}
	if len(ids) > 0 {
		if err := k.recordKilled(ctx, run, ids); err != nil {
			return true, err
		}
	}
	return true, k.st.(store.Stager).Clear(ctx, name)
}
