package keep

import (
	"context"
	"errors"
	"io/fs"
	"strings"
	"sync"
	"time"

	"grainkeep/internal/clock"
	"grainkeep/internal/manifest"
	"grainkeep/internal/rows"
	"grainkeep/internal/store"
)

// An index remembers what manifests, records and proofs say, since they never change: so a keep with many dumps is
// listed by looking at its folders. It is a convenience beside the journal, and never part of the keep: what it says
// is shown, and whatever is restored, drilled or verified is read from the keep itself.

// Index keeps the bytes of an index under the id of its keep.
type Index interface {
	Read(keep string) ([]byte, error)
	Write(keep string, data []byte) error
}

// settled is how old a folder's time must be to be relied on: in the same instant, more may have come.
const settled = 3 * time.Second

// indexed is what an index remembers.
type indexed struct {
	dumps   map[string]*knownDump  // by folder
	records map[string]knownRecord // by name
	proofs  map[string]knownProofs // by dump
}

type knownDump struct {
	bytes    int64
	time     int64 // of the manifest, nanoseconds
	id       string
	manifest *manifest.Manifest // brief; shared by all who list it, and never changed
}

type knownRecord struct {
	Bytes   int64
	Dumps   []Placed
	Removed []string // ids
}

type knownProofs struct {
	Time   int64 // of the folder, nanoseconds
	Proofs []Proof
}

// memory is the index of an open keep, and what of it has changed.
type memory struct {
	in Index

	mu    sync.Mutex
	known *indexed // nil: it has not been read
	dirty bool
}

// Remember gives the keep an index.
func (k *Keep) Remember(in Index) { k.memory = &memory{in: in} }

// load gives what is remembered; of an index that cannot be used, nothing. mu is held.
func (m *memory) load(id string) *indexed {
	if m.known == nil {
		data, err := m.in.Read(id)
		if err == nil {
			m.known, err = unpackIndex(data)
		}
		if err != nil {
			m.known = &indexed{map[string]*knownDump{}, map[string]knownRecord{}, map[string]knownProofs{}}
		}
	}
	return m.known
}

// save writes the index where it has changed. That it could not be written only costs time. mu is held.
func (m *memory) save(id string) {
	if !m.dirty {
		return
	}
	data, err := packIndex(m.known)
	if err == nil && m.in.Write(id, data) == nil {
		m.dirty = false
	}
}

// dumpsIn gives the dumps in the folder of a database: those that are remembered, and the others read side by side.
func (k *Keep) dumpsIn(ctx context.Context, database string, foreign func(name string)) (list []*Dump, err error) {
	peeker, ok := k.st.(store.Peeker)
	if !ok {
		return k.dumpsListed(ctx, database, foreign)
	}
	var unread []string
	seen := map[string]bool{}
	err = peeker.Peek(ctx, database, manifest.Name, func(folder string, e store.Entry) error {
		if strings.HasPrefix(folder, ".") {
			return nil
		}
		dir := database + "/" + folder
		if e.Foreign && e.Name == dir {
			foreign(dir)
			return nil
		}
		seen[dir] = true
		if d := k.remembered(dir, e); d != nil {
			list = append(list, d)
		} else {
			unread = append(unread, dir)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	k.forgetOthers(database, seen)
	read := make([]*Dump, len(unread))
	at := make([]int, len(unread))
	for i := range at {
		at[i] = i
	}
	err = rows.InParallel(ctx, readers, at, func(ctx context.Context, next func() (int, bool)) error {
		for i, ok := next(); ok; i, ok = next() {
			d, err := k.read(ctx, unread[i])
			if err != nil {
				return err
			}
			if d != nil {
				k.note(ctx, d)
			}
			read[i] = d
		}
		return nil
	})
	for _, d := range read {
		if d != nil {
			list = append(list, d)
		}
	}
	return list, err
}

// indexName is the name of the keep's index: what was taken for good with other signatories is not remembered as good.
func (k *Keep) indexName() string {
	if len(k.Trusted) == 0 {
		return k.ID
	}
	return k.ID + "-" + k.Trusted.Digest()[:16]
}

// readers is how many manifests are read at the same time.
const readers = 4

// dumpsListed gives the dumps in the folder of a database of a store that cannot look at many files at once.
func (k *Keep) dumpsListed(ctx context.Context, database string, foreign func(name string)) (list []*Dump, err error) {
	err = k.st.List(ctx, database, func(e store.Entry) error {
		switch base := e.Name[len(database)+1:]; {
		case base[0] == '.' || !e.Folder && !e.Foreign:
			return nil
		case e.Foreign:
			foreign(e.Name)
			return nil
		}
		d, err := k.read(ctx, e.Name)
		if d != nil {
			list = append(list, d)
		}
		return err
	})
	return list, err
}

// remembered gives a dump whose manifest is as it was; nil: it is to be read.
func (k *Keep) remembered(dir string, e store.Entry) *Dump {
	if k.memory == nil || e.Foreign {
		return nil
	}
	k.memory.mu.Lock()
	defer k.memory.mu.Unlock()
	x := k.memory.load(k.indexName()).dumps[dir]
	if x == nil || x.bytes != e.Bytes || x.time != e.Time.UnixNano() {
		return nil
	}
	return &Dump{ID: x.id, Manifest: x.manifest, Keep: k, files: store.Sub(k.st, dir), dir: dir}
}

// note remembers a dump.
func (k *Keep) note(ctx context.Context, d *Dump) {
	if k.memory == nil || d.Manifest == nil {
		return
	}
	e, err := d.files.Stat(ctx, manifest.Name)
	if err != nil {
		return
	}
	k.memory.mu.Lock()
	defer k.memory.mu.Unlock()
	k.memory.load(k.indexName()).dumps[d.dir] = &knownDump{e.Bytes, e.Time.UnixNano(), d.ID, d.Manifest}
	k.memory.dirty = true
}

// forgetOthers forgets the dumps of a database that are there no more.
func (k *Keep) forgetOthers(database string, seen map[string]bool) {
	if k.memory == nil {
		return
	}
	k.memory.mu.Lock()
	defer k.memory.mu.Unlock()
	for dir := range k.memory.load(k.indexName()).dumps {
		if strings.HasPrefix(dir, database+"/") && !seen[dir] {
			delete(k.memory.known.dumps, dir)
			k.memory.dirty = true
		}
	}
}

// settle writes what has been remembered.
func (k *Keep) settle() {
	if k.memory != nil {
		k.memory.mu.Lock()
		defer k.memory.mu.Unlock()
		k.memory.save(k.indexName())
	}
}

// addProofs gives each dump its proofs. Only dumps that have any cost a look.
func (k *Keep) addProofs(ctx context.Context, dumps []*Dump) error {
	peeker, ok := k.st.(store.Peeker)
	if !ok {
		for _, d := range dumps {
			if d.Manifest != nil {
				d.Proofs, d.ProofErr = k.proofs(ctx, d.ID)
			}
		}
		return nil
	}
	have := map[string]store.Entry{}
	err := peeker.Peek(ctx, proofsName, "", func(id string, e store.Entry) error {
		have[id] = e
		return nil
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, d := range dumps {
		if e, any := have[d.ID]; any && d.Manifest != nil {
			k.proofsOf(ctx, d, e.Time)
		}
	}
	return nil
}

func (k *Keep) proofsOf(ctx context.Context, d *Dump, at time.Time) {
	if k.memory != nil {
		k.memory.mu.Lock()
		x, ok := k.memory.load(k.indexName()).proofs[d.ID]
		k.memory.mu.Unlock()
		if ok && x.Time == at.UnixNano() {
			d.Proofs = x.Proofs
			return
		}
	}
	d.Proofs, d.ProofErr = k.proofs(ctx, d.ID)
	if k.memory != nil && d.ProofErr == nil && clock.Since(at) > settled {
		k.memory.mu.Lock()
		defer k.memory.mu.Unlock()
		k.memory.load(k.indexName()).proofs[d.ID] = knownProofs{at.UnixNano(), d.Proofs}
		k.memory.dirty = true
	}
}

// recordOf gives what a record says; it is read once.
func (k *Keep) recordOf(ctx context.Context, e store.Entry) (knownRecord, error) {
	name := e.Name
	if k.memory != nil && !e.Foreign {
		k.memory.mu.Lock()
		x, ok := k.memory.load(k.indexName()).records[name]
		k.memory.mu.Unlock()
		if ok && x.Bytes == e.Bytes {
			return x, nil
		}
	}
	r, err := k.readRecord(ctx, name)
	if err != nil {
		return knownRecord{}, err
	}
	x := knownRecord{Bytes: e.Bytes, Dumps: r.Dumps}
	for _, p := range r.Removed {
		x.Removed = append(x.Removed, p.ID)
	}
	if k.memory != nil {
		k.memory.mu.Lock()
		defer k.memory.mu.Unlock()
		k.memory.load(k.indexName()).records[name] = x
		k.memory.dirty = true
	}
	return x, nil
}
