package keep

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/seal"
	"grainkeep/internal/store"
)

// Dump is a dump found in a keep.
type Dump struct {
	ID       string // the manifest's SHA-256
	Manifest *manifest.Manifest
	Err      error // why it cannot be read; then ID and Manifest are empty
	Proofs   []Proof
	ProofErr error // why its newest proof cannot be read; then none counts
	Keep     *Keep // nil for a dump outside a keep

	files store.Reader
	dir   string // in the keep: JOB/DATABASE/TIME-KIND; what cannot be read may be less of it

	outer *manifest.Manifest // what is around a sealed dump whose manifest is known from inside
	key   *seal.Key          // which opens its files; nil: only what this machine remembers of it can be read
}

// Path is where the dump lies, as people and scripts write it.
func (d *Dump) Path() string {
	if d.files == nil {
		return "" // it lies nowhere yet
	}
	return d.files.Where("")
}

// Folder is the name of the folder in which the dump lies.
func (d *Dump) Folder() string {
	if d.dir == "" { // it is in no keep
		return filepath.Base(d.Path())
	}
	return path.Base(d.dir)
}

// Short is the part of a dump's id that people type.
func (d *Dump) Short() string { return d.ID[:min(10, len(d.ID))] }

// Name is JOB/DATABASE, or the path when the manifest cannot be read.
func (d *Dump) Name() string {
	if d.Manifest == nil {
		return d.Path()
	}
	return d.Manifest.Job + "/" + d.Manifest.Database
}

// MayBeOf says whether the dump is of a job, and of a database unless that is empty, or
// may be, where it cannot be read.
func (d *Dump) MayBeOf(job, database string) bool {
	if d.Manifest != nil {
		return d.Manifest.Job == job && (database == "" || d.Manifest.Database == database)
	}
	parts := strings.Split(d.dir, "/")
	return parts[0] == job && (database == "" || len(parts) < 2 || parts[1] == DatabaseFolder(database))
}

// When is the dump's moment; of one that cannot be read, the last instant of the second
// that its name tells, or the zero time if it tells none.
func (d *Dump) When() time.Time {
	if d.Manifest != nil {
		return d.Manifest.Moment
	}
	t, ok := phrase.FolderTime(d.dir[strings.LastIndexByte(d.dir, '/')+1:])
	if !ok {
		return time.Time{}
	}
	return t.Add(time.Second - time.Nanosecond)
}

// Stat looks at a file of the dump as it is stored.
func (d *Dump) Stat(ctx context.Context, path string) (store.Entry, error) {
	return d.files.Stat(ctx, path)
}

// Raw opens a file of the dump as it is stored.
func (d *Dump) Raw(ctx context.Context, path string) (io.ReadCloser, error) {
	return d.files.Open(ctx, path, 0, -1)
}

// ReadAll reads a file of the dump, of at most limit bytes, whole, as it is stored.
func (d *Dump) ReadAll(ctx context.Context, path string, limit int64) ([]byte, error) {
	return store.ReadAll(ctx, d.files, path, limit)
}

// List visits the files and folders of the dump as they are stored.
func (d *Dump) List(ctx context.Context, folder string, visit func(store.Entry) error) error {
	return d.files.List(ctx, folder, visit)
}

// Open opens a file of the dump for its text. It gives no more of it than the manifest
// says that there is.
func (d *Dump) Open(ctx context.Context, path string) (*blob.Source, error) {
	f, ok := d.Manifest.File(path)
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: d.files.Where(path), Err: fs.ErrNotExist}
	}
	r, err := d.opened(ctx, f)
	if err != nil {
		return nil, err
	}
	return blob.Open(r, d.compression(path), blob.Bounds{Stored: f.Bytes, Raw: f.Raw})
}

// compression is that of a file: the few that people read are never compressed.
func (d *Dump) compression(path string) blob.Compression {
	c := blob.Compression(d.Manifest.Compression)
	if strings.HasSuffix(path, c.Ending()) {
		return c
	}
	return blob.None
}

// Dumps lists the dumps of a keep, oldest first, with their proofs. What cannot be read
// is in the list too, with its error: nothing is passed over.
func (k *Keep) Dumps(ctx context.Context) ([]*Dump, error) {
	var dumps []*Dump
	folders := func(of string, visit func(name string) error) error {
		err := k.st.List(ctx, of, func(e store.Entry) error {
			base := e.Name[strings.LastIndexByte(e.Name, '/')+1:]
			if of == "" && !IsJob(base) || base[0] == '.' {
				return nil
			}
			if !e.Folder {
				if e.Foreign {
					dumps = append(dumps, k.unreadable(e.Name, foreignError(k.st.Where(e.Name))))
				}
				return nil
			}
			return visit(e.Name)
		})
		if err == nil || of == "" || ctx.Err() != nil {
			return err
		}
		if errors.Is(err, fs.ErrNotExist) { // it went meanwhile
			return nil
		}
		dumps = append(dumps, k.unreadable(of, folderUnreadable(k.st.Where(of), err)))
		return nil
	}
	err := folders("", func(job string) error {
		return folders(job, func(database string) error {
			list, err := k.dumpsIn(ctx, database, func(name string) {
				dumps = append(dumps, k.unreadable(name, foreignError(k.st.Where(name))))
			})
			dumps = append(dumps, list...)
			if err == nil || ctx.Err() != nil || errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			dumps = append(dumps, k.unreadable(database, folderUnreadable(k.st.Where(database), err)))
			return nil
		})
	})
	if err == nil {
		err = context.Cause(ctx)
	}
	if err == nil {
		err = k.addProofs(ctx, dumps)
	}
	if err != nil {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		return nil, fault.New("keep-unreadable", err, "cannot look into the keep %s", k.Where())
	}
	k.settle()
	Sort(dumps)
	return dumps, nil
}

func folderUnreadable(where string, err error) error {
	return fault.New("folder-unreadable", err, "cannot look into %s", where).
		Advise("dumps may be in it; check who owns it, and the drive")
}

func foreignError(where string) error {
	return fault.New("folder-foreign", store.ErrNotRegular, "%s", where).
		Advise("a link, a pipe or a device does not belong in a keep; see who put it there")
}

func (k *Keep) unreadable(dir string, err error) *Dump {
	return &Dump{Err: err, Keep: k, files: store.Sub(k.st, dir), dir: dir}
}

// Sort sorts dumps, also of several keeps, oldest first.
func Sort(dumps []*Dump) {
	slices.SortStableFunc(dumps, func(a, b *Dump) int {
		if n := a.When().Compare(b.When()); n != 0 {
			return n
		}
		return b.closing() - a.closing() // the full that begins the next chain is the newer one
	})
}

// closing is 1 for a dump that closes a chain.
func (d *Dump) closing() int {
	if d.Manifest != nil && d.Manifest.Closes != "" {
		return 1
	}
	return 0
}

// read gives the dump in a folder; nil where there is no manifest, so no dump. The error
// is of the context only.
func (k *Keep) read(ctx context.Context, dir string) (*Dump, error) {
	d, err := readDump(ctx, store.Sub(k.st, dir), k.Trusted)
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return k.unreadable(dir, err), nil
	}
	d.Keep, d.dir = k, dir
	d.Manifest.Brief() // most are only listed
	return d, nil
}

// Whole reads the manifest of a dump whose listing left its tables and files out, or which is sealed.
func (d *Dump) Whole(ctx context.Context) error {
	if d.Manifest == nil || !d.Manifest.IsBrief() && !d.Manifest.Locked() {
		return nil
	}
	m, err := d.stored(ctx)
	if err != nil {
		return err
	}
	if m.Seal != nil {
		return d.unlock(ctx, m)
	}
	d.Manifest = m
	return nil
}

// Stored is the manifest that lies in the keep, with its files: of a sealed dump what is around it.
func (d *Dump) Stored(ctx context.Context) (*manifest.Manifest, error) {
	switch {
	case d.outer != nil:
		return d.outer, nil
	case d.Manifest != nil && !d.Manifest.IsBrief():
		return d.Manifest, nil
	}
	return d.stored(ctx)
}

func (d *Dump) stored(ctx context.Context) (*manifest.Manifest, error) {
	now, err := readDump(ctx, d.files, d.trusted())
	switch {
	case ctx.Err() != nil:
		return nil, context.Cause(ctx)
	case err != nil:
		return nil, fmt.Errorf("%s: %w", d.Path(), err)
	case now.ID != d.ID:
		return nil, d.changed()
	}
	return now.Manifest, nil
}

// trusted are those whose signatures count in the dump's keep.
func (d *Dump) trusted() seal.Trusted {
	if d.Keep == nil {
		return nil
	}
	return d.Keep.Trusted
}

// Origin is the id of the dump itself, sealed or not: copies of it have the same one.
func (d *Dump) Origin() string {
	if d.Manifest != nil && d.Manifest.Seal != nil {
		return d.Manifest.Seal.Of
	}
	return d.ID
}

// changed says that the dump's manifest is another one than it was.
func (d *Dump) changed() error {
	return fault.New("manifest-damaged", nil, "%s is not the manifest that it was when it was listed",
		d.files.Where(manifest.Name)).
		Exit(fault.ProvenBad).Advise("somebody changed it: 'grainkeep verify' looks at the dump")
}

func readDump(ctx context.Context, files store.Reader, trusted seal.Trusted) (*Dump, error) {
	data, err := readSmall(ctx, files, manifest.Name, manifest.MaxBytes)
	if err != nil {
		return nil, err
	}
	m, id, err := manifest.Decode(data)
	if err != nil {
		return nil, err
	}
	if len(trusted) > 0 {
		if err := checkSignature(ctx, files, manifest.Name, data, trusted); err != nil {
			return nil, err
		}
	}
	return &Dump{ID: id, Manifest: m, files: files}, nil
}

// readSmall reads a file whole. What is no regular file, or too large, is damage; what
// could not be read is not.
func readSmall(ctx context.Context, files store.Reader, name string, limit int64) ([]byte, error) {
	data, err := store.ReadAll(ctx, files, name, limit)
	var large *store.TooLargeError
	switch {
	case err == nil || errors.Is(err, fs.ErrNotExist):
		return data, err
	case errors.Is(err, store.ErrNotRegular), errors.As(err, &large):
		return nil, fault.New("manifest-damaged", err, "%s is damaged", name).Exit(fault.ProvenBad)
	}
	return nil, fault.New("dump-unreadable", err, "cannot read %s", files.Where(name)).
		Advise("that says nothing about the dump: check who owns it, and the drive")
}

// DumpAt reads the dump at a path, with its proofs if it lies in a keep, or at a URL of a store, where it must lie in one.
//
// known is told of the keep before anything of the dump is read, and may set it up; it may be nil.
func DumpAt(ctx context.Context, path string, known func(*Keep) error) (*Dump, error) {
	if known == nil {
		known = func(*Keep) error { return nil }
	}
	if strings.Contains(path, "://") {
		return dumpAtURL(ctx, path, known)
	}
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	absent := fault.Wrong("dump-absent", "%s is not a dump: it has no %s", path, manifest.Name)
	if k, dir := around(ctx, path); k != nil {
		if err := known(k); err != nil {
			return nil, err
		}
		return k.at(ctx, dir, absent)
	}
	st, err := store.Open(ctx, path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, absent
	}
	if err != nil {
		return nil, fault.New("dump-unreadable", err, "cannot look into %s", path)
	}
	files := store.Sub(st, "")
	d, err := readDump(ctx, files, nil)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, absent
	case err != nil:
		return &Dump{Err: err, files: files}, nil
	}
	return d, nil
}

// dumpAtURL reads the dump at a URL: that of a keep, and a job, a database and a folder in it.
func dumpAtURL(ctx context.Context, at string, known func(*Keep) error) (*Dump, error) {
	place, options, _ := strings.Cut(at, "?")
	parts := strings.Split(strings.TrimSuffix(place, "/"), "/")
	n := len(parts) - 3
	if n < 4 {
		return nil, fault.Wrong("dump-absent", "%s is not a dump's URL", phrase.Redact(at)).
			Advise("'grainkeep list --from' shows what is in a keep")
	}
	in := strings.Join(parts[:n], "/")
	if options != "" {
		in += "?" + options
	}
	k, err := Open(ctx, in)
	if err == nil {
		err = known(k)
	}
	if err != nil {
		return nil, err
	}
	dir := strings.Join(parts[n:], "/")
	if err := store.CheckName(dir); err != nil {
		return nil, fault.Wrong("dump-absent", "%s is not a dump's URL: %v", phrase.Redact(at), err)
	}
	return k.at(ctx, dir, fault.Wrong("dump-absent", "%s is not a dump: it has no %s", phrase.Redact(at), manifest.Name))
}

// at reads the dump in a folder of the keep, with its proofs.
func (k *Keep) at(ctx context.Context, dir string, absent error) (*Dump, error) {
	d, err := k.read(ctx, dir)
	if d == nil && err == nil {
		err = absent
	}
	if err == nil && d.Manifest != nil {
		d.Proofs, d.ProofErr = k.proofs(ctx, d.ID)
	}
	return d, err
}

// around finds the keep that a folder lies in, and the folder's name in it.
func around(ctx context.Context, path string) (*Keep, string) {
	for dir := filepath.Dir(path); ; dir = filepath.Dir(dir) {
		if k, err := Open(ctx, dir); err == nil {
			name, err := filepath.Rel(dir, path)
			if err != nil || store.CheckName(filepath.ToSlash(name)) != nil {
				return nil, ""
			}
			return k, filepath.ToSlash(name)
		}
		if dir == filepath.Dir(dir) {
			return nil, ""
		}
	}
}

// State is what is known of a dump's restoring.
type State string

// The states. The newest drill counts.
const (
	Proven      State = "proven"
	Unproven    State = "unproven"
	Failed      State = "failed its drill"
	Doubtful    State = "failed an audit"
	Undrillable State = "cannot be drilled"
)

// Bad says whether a dump in this state is not to be relied on.
func (s State) Bad() bool { return s == Failed || s == Doubtful }

// State tells what is known of the dump's restoring.
func (d *Dump) State() State {
	switch p := d.LastProof(); {
	case d.ProofErr != nil:
		return Unproven
	case d.Audit() != nil:
		return Doubtful
	case p == nil && d.Manifest != nil && !d.Drillable():
		return Undrillable
	case p == nil:
		return Unproven
	case p.Proven:
		return Proven
	}
	return Failed
}

// Drillable says whether a drill can test the dump.
func (d *Dump) Drillable() bool {
	if m := d.Manifest; m.Locked() && m.Payload.Type == manifest.TypeStream {
		return m.Seal.Restorable
	}
	s := d.Manifest.Payload.Stream
	return d.Manifest.Database != engine.ServerWide && (s == nil || s.Restorable)
}

// Audit is the record of an audit that failed, or nil. No drill takes that back: it holds a dump against what the same log
// told.
func (d *Dump) Audit() *Proof {
	if i := slices.IndexFunc(d.Proofs, func(p Proof) bool { return p.Audit }); i >= 0 {
		return &d.Proofs[i]
	}
	return nil
}

// LastProof is the newest drill's record, or nil.
func (d *Dump) LastProof() *Proof {
	if len(d.Proofs) == 0 || d.ProofErr != nil {
		return nil
	}
	return &d.Proofs[len(d.Proofs)-1]
}

// Readable fails for a dump whose manifest cannot be read.
func (d *Dump) Readable() error {
	if d.Err != nil {
		return fmt.Errorf("%s: %w", d.Path(), d.Err)
	}
	return nil
}

// JobName is the job that the dump is of, or may be of where it cannot be read.
func (d *Dump) JobName() string {
	if d.Manifest != nil {
		return d.Manifest.Job
	}
	job, _, _ := strings.Cut(d.dir, "/")
	return job
}
