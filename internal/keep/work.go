package keep

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"sync"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/rows"
	"grainkeep/internal/seal"
	"grainkeep/internal/store"
)

const leaseEnding = ".lease"

// LockJob takes the lease that a job's runs exclude each other with, on all machines.
func (k *Keep) LockJob(ctx context.Context, job string) (store.Lease, error) {
	if k.blind {
		return noLease{}, nil
	}
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

// Session is a run's hidden place in the keep. Where files can be moved, its dumps are made there, and then moved to
// where dumps live. Elsewhere they are made where they will be, and do not count before their manifest is there.
type Session struct {
	Seal []seal.Recipient // for whom dumps are sealed; as the keep says, unless it is set before the first draft

	k     *Keep
	run   string
	lease store.Lease
	stage store.Stage // nil: the store moves nothing

	forgot error
	begun  map[string]string // the folders of copies that were begun before, by the ids of the dumps

	mu   sync.Mutex
	into int // folders in which dumps were begun
}

// Begin makes the hidden place of a run, which is known to be alive until Close.
func (k *Keep) Begin(ctx context.Context, run string) (*Session, error) {
	leaser, ok := k.st.(store.Leaser)
	if !ok {
		return nil, errors.New("dumps cannot be made in this kind of store")
	}
	var to []seal.Recipient
	if k.Seal != nil {
		var err error
		if to, err = k.Seal(); err != nil {
			return nil, err
		}
	}
	if k.blind {
		return &Session{Seal: to, k: k, run: run, lease: noLease{}}, nil
	}
	lease, err := take(ctx, leaser, workName+"/"+run+leaseEnding)
	if err != nil {
		return nil, k.unwritable(err)
	}
	s := &Session{Seal: to, k: k, run: run, lease: lease}
	if stager, ok := k.st.(store.Stager); ok {
		if s.stage, err = stager.Stage(ctx, workName+"/"+run); err != nil {
			return nil, k.unwritable(errors.Join(err, lease.Release()))
		}
	}
	return s, nil
}

// Exposed says that others on this machine can read what is made here.
func (s *Session) Exposed() bool { return s.stage != nil && s.stage.Exposed() }

// Close removes the hidden place and what is in it.
func (s *Session) Close(ctx context.Context) error {
	if s.k.blind {
		return nil
	}
	err := s.k.clearWork(ctx, workName+"/"+s.run, true)
	return errors.Join(err, s.lease.Release())
}

// Draft is a dump that is being made. Create may be called side by side.
type Draft struct {
	s    *Session
	m    *manifest.Manifest
	name phrase.FolderName
	base string // of the folder, where it is a copy's; else the name tells

	chain   []*Dump  // what it builds on, in the same keep
	copyOf  string   // the id of the dump that it is the same as; empty: of none
	adopted bool     // it goes on with a copy that was begun before
	called  string   // what dumps on top of it call its folder; empty: by the name that it gets
	sealing *sealing // nil: it is not sealed

	mu     sync.Mutex
	folder string // in the stage; where the store moves nothing, in the keep, as soon as something is made in it
}

// Draft begins the dump that a manifest is of. What its folder's name tells is settled before anything is made in it.
func (s *Session) Draft(ctx context.Context, m *manifest.Manifest, name phrase.FolderName) (d *Draft, err error) {
	d = s.draft(m, name)
	if len(s.Seal) > 0 {
		if d.sealing, err = newSealing(s.Seal); err == nil {
			var e error
			if d.sealing.memory, e = s.k.sealed.begin(ctx, s.k.ID, m.Job, m.Database); e != nil {
				d.sealing.memory, s.forgot = nil, e
			}
		}
	}
	return d, err
}

// Forgot says why this machine does not remember what the next sealed dump needs of these; nil: it does.
func (s *Session) Forgot() error { return s.forgot }

// draft is a draft of what is not sealed, or is so already.
func (s *Session) draft(m *manifest.Manifest, name phrase.FolderName) *Draft {
	d := &Draft{s: s, m: m, name: name}
	if s.stage != nil {
		d.folder = DatabaseFolder(m.Database)
	}
	return d
}

// On tells what the dump builds on, in its keep, from the full on.
func (d *Draft) On(chain []*Dump) { d.chain = chain }

// Create implements blob.Creator.
func (d *Draft) Create(ctx context.Context, name string) (store.Writer, error) {
	if d.sealing != nil {
		return d.sealing.create(ctx, d, name)
	}
	return d.begin(ctx, name)
}

// begin begins a file of the draft as it is stored.
func (d *Draft) begin(ctx context.Context, name string) (store.Writer, error) {
	if d.s.stage != nil {
		return d.s.stage.Create(ctx, d.folder+"/"+name)
	}
	if err := d.settle(ctx); err != nil {
		return nil, err
	}
	return d.s.k.st.Create(ctx, d.folder+"/"+name)
}

// begunIn is the folder of a run's hidden place that names the folders in which it has begun dumps.
const begunIn = "+into"

// settle chooses the dump's folder in the keep, and notes that it is begun there: who cleans up after a killed run looks
// there.
func (d *Draft) settle(ctx context.Context) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.folder != "" {
		return nil
	}
	k := d.s.k
	if k.blind { // a name that is taken shows when a file is made
		d.folder = d.named(1)
		return nil
	}
	for n := 1; n < mostNames; n++ {
		dir := d.named(n)
		taken, err := k.taken(ctx, dir)
		if err != nil {
			return k.unwritable(err)
		}
		if taken {
			continue
		}
		note := []byte(dir)
		if d.copyOf != "" {
			note = begunCopy(dir, d.copyOf)
		}
		if err := d.s.note(ctx, note); err != nil {
			return err
		}
		d.folder = dir
		return nil
	}
	return d.nameTaken()
}

// taken says whether something is in a folder of the keep.
func (k *Keep) taken(ctx context.Context, dir string) (bool, error) {
	any := errors.New("something")
	err := k.st.List(ctx, dir, func(store.Entry) error { return any })
	switch {
	case err == nil || errors.Is(err, fs.ErrNotExist):
		return false, nil
	case errors.Is(err, any):
		return true, nil
	}
	return false, err
}

// mostNames bounds the dumps of one second in one folder.
const mostNames = 1000

// named is the n-th name that the dump may have in the keep.
func (d *Draft) named(n int) string {
	base := d.base
	if base == "" {
		base = DumpFolder(d.m, d.name)
	}
	dir := d.m.Job + "/" + DatabaseFolder(d.m.Database) + "/" + base
	if n > 1 {
		dir += fmt.Sprintf("-%d", n)
	}
	return dir
}

func (d *Draft) nameTaken() error {
	return fault.New("name-taken", nil, "every name for this second is taken in %s",
		d.s.k.st.Where(d.m.Job+"/"+DatabaseFolder(d.m.Database)))
}

// intents is the folder of a stage that names, by their ids, the dumps that were put
// in place or were about to be: who cleans up after a killed run records them.
const intents = "+placing"

// Place writes the digests and, last of all, the manifest, and moves the dump to where
// dumps live. Before that it looks at every file that the manifest names. It never
// replaces anything.
func (d *Draft) Place(ctx context.Context) (*Dump, error) {
	if d.sealing != nil {
		return d.placeSealed(ctx)
	}
	return d.finish(ctx, d.m)
}

// finish signs the manifest of a dump, where that is wanted, and places it.
func (d *Draft) finish(ctx context.Context, m *manifest.Manifest) (*Dump, error) {
	signed, sign, err := d.s.k.signer()
	if err != nil {
		return nil, err
	}
	m.Signed = signed
	data, id, err := m.Encode()
	if err != nil {
		return nil, err
	}
	signature, err := sign(data)
	if err != nil {
		return nil, err
	}
	return d.place(ctx, m, data, id, signature)
}

// place is the same with the manifest's own bytes, and its signature, if there is one.
func (d *Draft) place(ctx context.Context, m *manifest.Manifest, data []byte, id string, signature []byte) (*Dump, error) {
	sums := m.SumLines(id)
	beside := []manifest.File{{Path: manifest.Sums, Bytes: int64(len(sums))}}
	if err := d.write(ctx, manifest.Sums, []byte(sums)); err != nil {
		return nil, err
	}
	if len(signature) > 0 {
		name := manifest.Name + manifest.Signature
		if err := d.write(ctx, name, signature); err != nil {
			return nil, err
		}
		beside = append(beside, manifest.File{Path: name, Bytes: int64(len(signature))})
	}
	files := append(beside, m.Files...)
	if d.s.stage == nil {
		return d.complete(ctx, m, data, id, files)
	}
	if err := d.write(ctx, manifest.Name, data); err != nil {
		return nil, err
	}
	if err := d.look(ctx, append(files, manifest.File{Path: manifest.Name, Bytes: int64(len(data))})); err != nil {
		return nil, err
	}
	if err := store.WriteNew(ctx, d.s.stage, intents+"/"+id, nil); err != nil {
		return nil, err
	}
	dir, err := d.move(ctx)
	if err != nil {
		return nil, err
	}
	return d.placed(dir, m, id), nil
}

// write writes a small file of the draft as it is stored.
func (d *Draft) write(ctx context.Context, name string, data []byte) error {
	w, err := d.begin(ctx, name)
	if err != nil {
		return err
	}
	if _, err := w.Write(data); err != nil {
		return errors.Join(err, w.Abort())
	}
	return w.Commit()
}

func (d *Draft) placed(dir string, m *manifest.Manifest, id string) *Dump {
	return &Dump{Keep: d.s.k, files: store.Sub(d.s.k.st, dir), dir: dir, ID: id, Manifest: m}
}

// complete makes a dump count that lies where it will be: with its manifest, which is made only if there is none.
func (d *Draft) complete(ctx context.Context, m *manifest.Manifest, data []byte, id string, files []manifest.File) (*Dump,
	error) {
	k := d.s.k
	if !k.blind {
		if err := d.look(ctx, files); err != nil {
			return nil, err
		}
		if err := store.WriteNew(ctx, k.st, workName+"/"+d.s.run+"/"+intents+"/"+id, nil); err != nil {
			return nil, k.unwritable(err)
		}
	}
	if err := store.WriteNew(ctx, k.st, d.folder+"/"+manifest.Name, data); err != nil {
		return nil, k.unwritable(err)
	}
	return d.placed(d.folder, m, id), nil
}

// look fails unless every file of the dump is there, in full, and the run is still
// the one that it was: somebody else's clean-up must not leave half a dump.
func (d *Draft) look(ctx context.Context, files []manifest.File) error {
	if err := d.s.k.Present(ctx); err != nil {
		return err
	}
	if err := d.s.lease.Held(); err != nil {
		return lostFiles(d.s.k, err)
	}
	return rows.InParallel(ctx, readers, files, func(ctx context.Context, next func() (manifest.File, bool)) error {
		for f, ok := next(); ok; f, ok = next() {
			e, err := d.stat(ctx, f.Path)
			if err != nil {
				return lostFiles(d.s.k, err)
			}
			if e.Folder || e.Foreign || e.Bytes != f.Bytes {
				return lostFiles(d.s.k, fmt.Errorf("%s has %d bytes, and %d were written", f.Path, e.Bytes, f.Bytes))
			}
		}
		return nil
	})
}

func (d *Draft) stat(ctx context.Context, path string) (store.Entry, error) {
	if d.s.stage != nil {
		return d.s.stage.Stat(ctx, d.folder+"/"+path)
	}
	return d.s.k.st.Stat(ctx, d.folder+"/"+path)
}

func lostFiles(k *Keep, err error) error {
	return fault.New("work-vanished", err, "the files of the unfinished dump in %s did not stay as they were written",
		k.Where()).
		Advise("something removes or changes files in the keep's hidden folder %s; look for it, then take the "+
			"dump again", workName)
}

// move gives the dump its name.
func (d *Draft) move(ctx context.Context) (string, error) {
	for n := 1; n < mostNames; n++ {
		dir := d.named(n)
		err := d.s.stage.Place(ctx, d.folder, dir)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return "", d.s.k.unwritable(err)
		}
		return dir, nil
	}
	return "", d.nameTaken()
}

// Sweep removes what killed runs left, on this machine or, after their leases have
// expired, on another; their dumps that came into place are recorded. It tells how many
// runs they were.
func (k *Keep) Sweep(ctx context.Context) (runs int, err error) {
	leaser, ok := k.st.(store.Leaser)
	if !ok || k.blind {
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
	return true, k.clearWork(ctx, name, false)
}

// clearWork removes the hidden place of a run, and what it has begun in the keep and not completed. Copies that were begun
// stay, and the notes of them, where they may go on.
func (k *Keep) clearWork(ctx context.Context, name string, mayGoOn bool) error {
	if stager, ok := k.st.(store.Stager); ok {
		return stager.Clear(ctx, name)
	}
	var notes []string
	left := false // something may go on
	err := k.st.List(ctx, name+"/"+begunIn, func(e store.Entry) error {
		notes = append(notes, e.Name)
		return nil
	})
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, note := range notes {
		text, err := store.ReadAll(ctx, k.st, note, maxSmall)
		if err != nil {
			return err
		}
		dir, _, isCopy := strings.Cut(string(text), "\n")
		if isCopy && mayGoOn {
			complete, err := store.Exists(ctx, k.st, dir+"/"+manifest.Name)
			if err != nil {
				return err
			}
			if left = left || !complete; !complete {
				continue
			}
		}
		if err := k.clearBegun(ctx, dir); err != nil {
			return err
		}
	}
	if left {
		return nil
	}
	return store.IgnoreAbsent(store.RemoveBelow(ctx, k.st, name))
}

// clearBegun removes what lies in a folder in which a dump was begun, if it is no dump. The name comes from the keep, and
// is not trusted.
func (k *Keep) clearBegun(ctx context.Context, dir string) error {
	if !begunFolder(dir) {
		return nil // it is none of ours
	}
	complete, err := store.Exists(ctx, k.st, dir+"/"+manifest.Name)
	if complete || err != nil {
		return err
	}
	return store.IgnoreAbsent(store.RemoveBelow(ctx, k.st, dir))
}
