package payload

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"sync"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/record"
	"grainkeep/internal/store"
	"grainkeep/internal/verify"
)

func tooLarge(path string, bytes int64) error {
	return fault.New("metadata-too-large", nil, "%s would have %d bytes, and at most %d are read", path, bytes,
		MaxMetadata).
		Advise("the database has too many objects for one dump")
}

// Damage is the error about a dump whose own files are at fault.
func Damage(d *keep.Dump, what string) error {
	return fault.New("dump-damaged", errors.New(what), "the dump %s of %s cannot be used", d.Short(), d.Name()).
		Advise("use another dump; 'grainkeep list' shows them")
}

// Damaged says whether an error means that the dump's own files are at fault.
func Damaged(err error) bool { return fault.HasCode(err, "dump-damaged") }

// Reader reads the payload of one dump: its objects with their SQL, and its rows. Its
// methods may be called side by side.
type Reader struct {
	d *keep.Dump

	mu   sync.Mutex
	text map[string][]byte // of the files that hold objects
}

func newReader(d *keep.Dump) *Reader { return &Reader{d: d, text: map[string][]byte{}} }

// objectsOf is the path of a dump's list of objects.
func objectsOf(d *keep.Dump) string {
	return manifest.ObjectsOf + blob.Compression(d.Manifest.Compression).Ending()
}

// Has says whether the dump has a file of a section.
func (r *Reader) Has(section engine.Section) bool { return r.d.Manifest.Has(section) }

// Index reads the list of objects, in load order. The error says what is damaged.
func (r *Reader) Index(ctx context.Context) (list []manifest.ObjectEntry, err error) {
	data, err := r.whole(ctx, objectsOf(r.d))
	if err != nil {
		return nil, err
	}
	if list, err = parseIndex(data); err != nil {
		return nil, Damage(r.d, "its list of objects cannot be read: "+err.Error())
	}
	return list, nil
}

// parseIndex reads a list of objects.
func parseIndex(data []byte) (list []manifest.ObjectEntry, err error) {
	if err := record.Unmarshal(data, &list); err != nil {
		return nil, err
	}
	for _, o := range list {
		if !slices.Contains(engine.Structure, o.Section) || o.Kind == "" {
			return nil, fmt.Errorf("it has one of no known section: %.80q", o.ID())
		}
	}
	return list, nil
}

// cut gives the SQL of an object out of the text of its file.
func cut(text []byte, o manifest.ObjectEntry) (string, error) {
	if o.Offset < 0 || o.Length < 0 || o.Length > int64(len(text)) || o.Offset > int64(len(text))-o.Length {
		return "", fmt.Errorf("its list of objects points outside %s", o.File)
	}
	return string(text[o.Offset : o.Offset+o.Length]), nil
}

// SQL cuts an object's SQL out of its file.
func (r *Reader) SQL(ctx context.Context, o manifest.ObjectEntry) (string, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	text, ok := r.text[o.File]
	if !ok {
		var err error
		if text, err = r.whole(ctx, o.File); err != nil {
			return "", err
		}
		r.text[o.File] = text
	}
	sql, err := cut(text, o)
	if err != nil {
		return "", Damage(r.d, err.Error())
	}
	return sql, nil
}

// Objects reads the dump's objects with their SQL, in load order.
func (r *Reader) Objects(ctx context.Context) ([]engine.Object, error) {
	index, err := r.Index(ctx)
	if err != nil {
		return nil, err
	}
	list := make([]engine.Object, len(index))
	for i, o := range index {
		list[i] = o.Object
		if list[i].SQL, err = r.SQL(ctx, o); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// whole gives the text of a file, checked against the manifest.
func (r *Reader) whole(ctx context.Context, path string) ([]byte, error) {
	if f, ok := r.d.Manifest.File(path); !ok {
		return nil, Damage(r.d, fmt.Sprintf("it has no file %.80q", path))
	} else if f.Raw > MaxMetadata {
		return nil, Damage(r.d, fmt.Sprintf("%s has %d bytes of text, and at most %d are read", path, f.Raw,
			MaxMetadata))
	}
	f, err := r.Open(ctx, path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(f)
	if err != nil {
		return nil, r.Trouble(ctx, path, err)
	}
	return text, r.CheckSum(ctx, path, f)
}

// Open opens a file of the dump for its text.
func (r *Reader) Open(ctx context.Context, path string) (*blob.Source, error) {
	f, err := r.d.Open(ctx, path)
	if err != nil {
		return nil, r.Trouble(ctx, path, err)
	}
	return f, nil
}

// CheckSum fails unless what was read of a file, to its end, is what the manifest says.
func (r *Reader) CheckSum(ctx context.Context, path string, f *blob.Source) error {
	sum, err := f.Sum()
	if err != nil {
		return r.Trouble(ctx, path, err)
	}
	if known, ok := r.d.Manifest.File(path); !ok || known.SHA256 != sum {
		return Damage(r.d, path+" does not match its digest")
	}
	if n := f.Short(); n > 0 {
		return Damage(r.d, fmt.Sprintf("%s unpacks to %d bytes less than it says", path, n))
	}
	return nil
}

// Trouble tells a damaged file from other causes: the digest decides.
func (r *Reader) Trouble(ctx context.Context, path string, cause error) error {
	var more *blob.ExcessError
	if errors.As(cause, &more) {
		return Damage(r.d, path+" "+more.Error())
	}
	if errors.Is(cause, fs.ErrNotExist) || errors.Is(cause, store.ErrNotRegular) {
		return Damage(r.d, verify.Absent(path, cause))
	}
	if f, ok := r.d.StoredFile(path); ok {
		if finding, err := verify.File(ctx, r.d, f, nil); err == nil && finding != "" {
			return Damage(r.d, finding)
		}
	}
	return fmt.Errorf("%s: %w", path, cause)
}

// Whole gives a function the text of a file of a dump, whatever its payload, and fails unless all of it is what the
// manifest says: also what the function leaves unread.
func Whole(ctx context.Context, d *keep.Dump, path string, use func(io.Reader) error) error {
	r := &Reader{d: d}
	f, err := r.Open(ctx, path)
	if err != nil {
		return err
	}
	defer f.Close()
	w := &watched{r: f}
	if err := use(w); err != nil {
		if w.err != nil || fault.HasCode(err, "tar-damaged") {
			return r.Trouble(ctx, path, err)
		}
		return err
	}
	if _, err := io.Copy(io.Discard, f); err != nil {
		return r.Trouble(ctx, path, err)
	}
	return r.CheckSum(ctx, path, f)
}

// watched remembers whether its reader failed.
type watched struct {
	r   io.Reader
	err error
}

// Read implements io.Reader.
func (w *watched) Read(p []byte) (int, error) {
	n, err := w.r.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		w.err = err
	}
	return n, err
}
