package keep

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"

	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/seal"
	"grainkeep/internal/store"
)

// Whoever makes sealed dumps needs no key that opens them. What the next dump needs of the last one, its manifest and the
// digests of what it holds, stays on this machine, sealed for a key of this machine's own. It is a convenience: where it
// is lost, a full is taken.

// sealedMemory is what this machine remembers of the sealed dumps that it made. nil remembers nothing. The layout is
// KEEP/JOB/DATABASE/ID/ with manifest, names, and sealed files under their numbers.
type sealedMemory struct {
	open func() (store.Store, *seal.Key, error)

	once sync.Once
	st   store.Store
	key  *seal.Key
	err  error
}

// RememberSealed says where this machine remembers what its next dumps need of sealed ones, and with which key. open is
// called when that is first needed.
func (k *Keep) RememberSealed(open func() (store.Store, *seal.Key, error)) {
	k.sealed = &sealedMemory{open: open}
}

func (m *sealedMemory) ready() error {
	m.once.Do(func() { m.st, m.key, m.err = m.open() })
	if m.err != nil {
		return fault.New("state-unusable", m.err, "what the next sealed dump needs of this one cannot be remembered on this machine")
	}
	return nil
}

// Names of what is remembered of a dump, besides files under their numbers.
const (
	memoryManifest = "manifest"
	memoryNames    = "names"
	memoryStage    = ".new"
)

// rememberedDump is what is being noted of a dump that is made.
type rememberedDump struct {
	of     *sealedMemory
	folder string // KEEP/JOB/DATABASE
	stage  store.Stage
	name   string // of the stage

	mu  sync.Mutex
	err error // the first failure: then nothing is remembered of this dump
}

// begin begins to note what is to be remembered of a dump.
func (m *sealedMemory) begin(ctx context.Context, keepID, job, database string) (*rememberedDump, error) {
	if m == nil {
		return nil, nil
	}
	if err := m.ready(); err != nil {
		return nil, err
	}
	r := &rememberedDump{of: m, folder: keepID + "/" + job + "/" + DatabaseFolder(database),
		name: memoryStage + "/" + keepID + "-" + job} // which the job's lease keeps for us alone
	return r, m.st.(store.Stager).Clear(ctx, r.name)
}

func (r *rememberedDump) failed(err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.err == nil && err != nil {
		r.err = err
	}
}

// rememberedWriter notes one file of a dump. What fails is not the dump's failure.
type rememberedWriter struct {
	of *rememberedDump
	w  store.Writer
	z  io.WriteCloser
}

func (r *rememberedDump) create(ctx context.Context, name string) (*rememberedWriter, error) {
	r.mu.Lock()
	var err error
	if r.stage == nil {
		r.stage, err = r.of.st.(store.Stager).Stage(ctx, r.name)
	}
	r.mu.Unlock()
	if err != nil {
		return nil, err
	}
	w, err := r.stage.Create(ctx, "dump/"+name)
	if err != nil {
		return nil, err
	}
	z, err := r.of.key.Seal(w)
	if err != nil {
		return nil, errors.Join(err, w.Abort())
	}
	return &rememberedWriter{r, w, z}, nil
}

func (w *rememberedWriter) write(p []byte) {
	_, err := w.z.Write(p)
	w.of.failed(err)
}

func (w *rememberedWriter) commit() {
	w.of.failed(w.z.Close())
	w.of.failed(w.w.Commit())
}

func (w *rememberedWriter) abort() {
	w.of.failed(errors.New("the file was not finished"))
	w.of.failed(w.w.Abort())
}

// keep remembers a dump that is in place. Where that fails, the next one is a full, and this one is as good as any.
func (r *rememberedDump) keep(ctx context.Context, id string, manifestBytes, names []byte) error {
	for name, data := range map[string][]byte{memoryManifest: manifestBytes, memoryNames: names} {
		w, err := r.create(ctx, name)
		if err != nil {
			r.failed(err)
			continue
		}
		w.write(data)
		w.commit()
	}
	if r.err == nil {
		r.failed(r.stage.Place(ctx, "dump", r.folder+"/"+id))
	}
	if r.stage != nil {
		r.failed(r.of.st.(store.Stager).Clear(ctx, r.name))
	}
	return r.err
}

// folderOf is where a dump is remembered.
func (m *sealedMemory) folderOf(d *Dump) string {
	return d.Keep.ID + "/" + d.Manifest.Job + "/" + DatabaseFolder(d.Manifest.Database) + "/" + d.ID
}

// recall opens a file of a dump that is remembered; fs.ErrNotExist: it is not.
func (m *sealedMemory) recall(ctx context.Context, d *Dump, name string) (io.ReadCloser, error) {
	if m == nil {
		return nil, fs.ErrNotExist
	}
	if err := m.ready(); err != nil {
		return nil, err
	}
	f, err := m.st.Open(ctx, m.folderOf(d)+"/"+name, 0, -1)
	if err != nil {
		return nil, err
	}
	text, err := m.key.Unseal(f)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("what this machine remembers of the dump cannot be read: %w", err), f.Close())
	}
	return readCloser{text, f}, nil
}

// readCloser reads from one and closes the other.
type readCloser struct {
	io.Reader
	io.Closer
}

// recallAll reads a file of a dump that is remembered whole.
func (m *sealedMemory) recallAll(ctx context.Context, d *Dump, name string, limit int64) ([]byte, error) {
	f, err := m.recall(ctx, d, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return store.ReadBounded(f, name, limit)
}

// ForgetSealed forgets of a job's sealed dumps on this machine what no dump will build on: all but those of the newest
// chain of each database. dumps are all of the keep.
func (k *Keep) ForgetSealed(ctx context.Context, job string, dumps []*Dump) error {
	if k.sealed == nil {
		return nil
	}
	newest := map[string]*Dump{} // the newest baseline, by database
	any := false
	for _, d := range dumps {
		if d.Manifest == nil || d.Manifest.Job != job || d.Manifest.Seal == nil {
			continue
		}
		any = true
		if d.Manifest.Kind == manifest.Full && !d.Manifest.Alone {
			newest[DatabaseFolder(d.Manifest.Database)] = d
		}
	}
	if !any {
		return nil
	}
	if err := k.sealed.ready(); err != nil {
		return err
	}
	wanted := map[string]bool{}
	last := map[string]*Dump{}
	for _, d := range dumps {
		if d.Manifest == nil || d.Manifest.Job != job {
			continue
		}
		of := DatabaseFolder(d.Manifest.Database)
		if full := newest[of]; full != nil && !d.Manifest.Moment.Before(full.Manifest.Moment) {
			wanted[k.sealed.folderOf(d)] = true
		}
		last[of] = d
	}
	for _, d := range last { // which the next is held against
		wanted[k.sealed.folderOf(d)] = true
	}
	var gone []string
	st := k.sealed.st
	err := st.List(ctx, k.ID+"/"+job, func(database store.Entry) error {
		return st.List(ctx, database.Name, func(e store.Entry) error {
			if !wanted[e.Name] {
				gone = append(gone, e.Name)
			}
			return nil
		})
	})
	if err = store.IgnoreAbsent(err); err != nil {
		return err
	}
	for _, name := range gone {
		if err := store.RemoveBelow(ctx, st, name); err != nil {
			return err
		}
	}
	return nil
}
