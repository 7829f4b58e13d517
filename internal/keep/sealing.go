package keep

import (
	"context"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"strings"
	"sync"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/record"
	"grainkeep/internal/seal"
	"grainkeep/internal/store"
)

// A sealed dump is an ordinary dump, each file of it sealed, manifest and digests among them. So what is opened by hand is
// an ordinary dump again, and a dump that is sealed on its way to another keep stays the same one.

// sealing is what a draft has that is to be sealed. Its methods may be called side by side.
type sealing struct {
	key       *seal.Key
	sealedKey []byte
	names     []string // of the recipients
	// it is sealed with a passphrase, which is asked for
	passphrase bool
	memory     *rememberedDump // nil: nothing of it is remembered

	mu      sync.Mutex
	next    int
	numbers map[string]string // of the files, by their names
	files   []manifest.File   // the sealed ones
}

func newSealing(to []seal.Recipient) (*sealing, error) {
	key, sealed, err := seal.KeyFor(to)
	if err != nil {
		return nil, fault.New("seal-failed", err, "the dump cannot be sealed")
	}
	return &sealing{key: key, sealedKey: sealed, names: seal.Names(to), passphrase: to[0].Kind == seal.Passphrase,
		numbers: map[string]string{}}, nil
}

// number gives a file its number.
func (s *sealing) number(name string) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.next == manifest.MostSealed {
		return "", fault.New("files-too-many", nil, "a sealed dump has at most %d files", manifest.MostSealed)
	}
	s.next++
	s.numbers[name] = manifest.SealedFile(s.next)
	return s.numbers[name], nil
}

func (s *sealing) has(f manifest.File) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.files = append(s.files, f)
}

// create begins a sealed file in a draft.
func (s *sealing) create(ctx context.Context, d *Draft, name string) (store.Writer, error) {
	number, err := s.number(name)
	if err != nil {
		return nil, err
	}
	w, err := d.begin(ctx, number)
	if err != nil {
		return nil, err
	}
	sealed := &sealedWriter{w: w, digest: sha256.New(), of: s, name: number}
	if sealed.z, err = s.key.Seal(sealed.inner()); err != nil {
		return nil, errors.Join(err, w.Abort())
	}
	if s.memory != nil && manifest.ForNext(name) {
		if sealed.memory, err = s.memory.create(ctx, number); err != nil {
			s.memory.failed(err)
		}
	}
	return sealed, nil
}

// sealedWriter seals what is written, and counts and digests what comes of it.
type sealedWriter struct {
	w      store.Writer
	z      io.WriteCloser
	memory *rememberedWriter // nil: it is not remembered
	digest hash.Hash
	bytes  int64
	of     *sealing
	name   string
}

// inner is where the sealed bytes go.
func (w *sealedWriter) inner() io.Writer {
	return writerFunc(func(p []byte) (int, error) {
		w.digest.Write(p)
		n, err := w.w.Write(p)
		w.bytes += int64(n)
		return n, err
	})
}

type writerFunc func([]byte) (int, error)

// Write implements io.Writer.
func (f writerFunc) Write(p []byte) (int, error) { return f(p) }

// Write implements io.Writer.
func (w *sealedWriter) Write(p []byte) (int, error) {
	if w.memory != nil {
		w.memory.write(p)
	}
	return w.z.Write(p)
}

// Hint tells the disk to begin with bytes that were written.
func (w *sealedWriter) Hint(offset, length int64) {
	if h, ok := w.w.(interface{ Hint(offset, length int64) }); ok {
		h.Hint(offset, length)
	}
}

// Commit implements store.Writer.
func (w *sealedWriter) Commit() error {
	if err := w.z.Close(); err != nil {
		return errors.Join(err, w.Abort())
	}
	if w.memory != nil {
		w.memory.commit()
	}
	err := w.w.Commit()
	if err == nil {
		w.of.has(manifest.File{Path: w.name, Bytes: w.bytes, SHA256: hex.EncodeToString(w.digest.Sum(nil))})
	}
	return err
}

// Abort implements store.Writer.
func (w *sealedWriter) Abort() error {
	if w.memory != nil {
		w.memory.abort()
	}
	return w.w.Abort()
}

// plain writes a file of a sealed dump that is not sealed by its key.
func (s *sealing) plain(ctx context.Context, d *Draft, name string, data []byte) error {
	s.has(manifest.File{Path: name, Bytes: int64(len(data)), SHA256: record.ID(data)})
	return d.write(ctx, name, data)
}

// placeSealed seals what a draft is of, and puts it where dumps live.
func (d *Draft) placeSealed(ctx context.Context) (*Dump, error) {
	inner := *d.m
	if n := len(d.chain); n > 0 {
		inner.Base = d.chain[n-1].Origin()
	}
	data, id, err := inner.Encode()
	if err != nil {
		return nil, err
	}
	return d.enclose(ctx, data, id)
}

// enclose writes what goes around a dump that is inside of a seal, and puts it where dumps live. data is its manifest.
func (d *Draft) enclose(ctx context.Context, data []byte, id string) (*Dump, error) {
	s := d.sealing
	for name, text := range map[string][]byte{manifest.Sums: []byte(d.m.SumLines(id)), manifest.Name: data} {
		if err := store.WriteNew(ctx, d, name, text); err != nil {
			return nil, err
		}
	}
	names := manifest.NameList(s.numbers)
	if len(names) > manifest.MaxNames {
		return nil, fault.New("files-too-many", nil, "the dump has more files than a sealed one can have")
	}
	sealedNames, err := s.key.SealBytes(names)
	if err != nil {
		return nil, err
	}
	for name, text := range map[string][]byte{manifest.SealedKey: s.sealedKey, manifest.SealedNames: sealedNames,
		manifest.Readme: d.outerReadme()} {
		if err := s.plain(ctx, d, name, text); err != nil {
			return nil, err
		}
	}
	outer := d.m.Outside(id, s.names, s.files)
	done, err := d.finish(ctx, outer)
	if err != nil {
		return nil, err
	}
	if s.memory != nil {
		if err := s.memory.keep(ctx, done.ID, data, names); err != nil {
			d.s.forgot = err
		}
	}
	joined, err := outer.Unlock(data, names)
	if err != nil {
		return nil, err
	}
	done.Manifest, done.outer, done.key = joined, outer, s.key
	return done, nil
}

// calledBy is what the files of dumps on top of this one call its folder.
func (d *Dump) calledBy() string {
	if m := d.Manifest; m != nil && m.Seal != nil && m.Seal.Folder != "" {
		return m.Seal.Folder
	}
	return d.Folder()
}

//go:embed sealed-readme.txt
var sealedReadme string

// outerReadme says how the seal is opened by hand.
func (d *Draft) outerReadme() []byte {
	m := d.m
	what := "the database " + phrase.Clean(m.Database)
	if m.Payload.Type != manifest.TypeSQL {
		what = phrase.Clean(m.Database)
	}
	if m.Database == engine.ServerWide {
		what = "what belongs to the server itself"
	}
	zone, err := time.LoadLocation(m.Zone)
	if err != nil {
		zone = time.UTC
	}
	called := d.called
	if called == "" {
		called = `$(basename "$(pwd)")`
	}
	folders := `".:$name"`
	for _, on := range d.chain {
		folders += " ../" + on.Folder() + ":" + on.calledBy()
	}
	var names []string
	for _, name := range d.sealing.names {
		names = append(names, phrase.Clean(name))
	}
	opens, set, option := "One of their private keys opens it.", "KEY to the file with your private key, and OPEN", ` -i "$KEY"`
	if d.sealing.passphrase {
		opens, set, option = "That opens it; age asks for it.", "OPEN", ""
	}
	age := "age 1.0 or newer"
	if strings.HasPrefix(d.sealing.key.String(), "AGE-SECRET-KEY-PQ-") {
		age = "age 1.3 or newer"
	}
	return fmt.Appendf(nil, sealedReadme, m.KindWord(), what, m.Job, phrase.Both(m.Moment, zone),
		strings.Join(names, "\n              "), opens, age, set, called, folders, option)
}
