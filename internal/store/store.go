// Package store is where a keep's files lie: one small interface, behind which a
// folder stands today, and other machines and object stores can. Nothing above it
// touches a file of a keep.
//
// A store is safe by construction: names are in an alphabet of our own, no link is
// followed, and only regular files are opened, whoever put what where.
package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"time"
)

// ErrNotRegular is what a store says of a link, a pipe, a device or a folder that
// stands where a file should, and of anything but a folder where a folder should.
var ErrNotRegular = errors.New("is not a regular file")

// Entry is one file or folder of a store.
type Entry struct {
	Name    string // from the store's root
	Bytes   int64
	Folder  bool
	Foreign bool      // a link, a pipe, a device: nothing that a keep writes
	Time    time.Time // of its last change; zero where it was not asked for
}

// Store is where a keep's files lie. Names are checked by CheckName. Errors about
// what is not there, what is there already and what may not be read match
// fs.ErrNotExist, fs.ErrExist and fs.ErrPermission; what is no regular file matches
// ErrNotRegular. All methods may be called side by side.
type Store interface {
	// Open reads a regular file from an offset; up to length bytes, or to its end
	// where length is negative.
	Open(ctx context.Context, name string, offset, length int64) (io.ReadCloser, error)
	// Stat looks at a file or a folder, and follows no link.
	Stat(ctx context.Context, name string) (Entry, error)
	// List visits what is in a folder (the root: ""), sorted by name. An error of the
	// folder or of visit ends it and is returned; nothing is passed over. A folder
	// that is not there is an error.
	List(ctx context.Context, folder string, visit func(Entry) error) error
	// Create begins a file. It fails with fs.ErrExist if the name is taken, at the
	// latest in Commit; until then nobody sees it.
	Create(ctx context.Context, name string) (Writer, error)
	// Remove removes a file, or a folder that is empty.
	Remove(ctx context.Context, name string) error
	// Where is a name as people and scripts write it: a path, a URL.
	Where(name string) string
}

// Writer takes the bytes of one file. One goroutine uses it. One of Commit and Abort
// is always called.
type Writer interface {
	io.Writer
	Commit() error // after it the file is durable
	Abort() error
}

// Roomy is a store that knows its room.
type Roomy interface {
	// Room gives the bytes that are free for this user, and all.
	Room(ctx context.Context) (free, total int64, err error)
}

// Placed is a store that knows on what its files lie.
type Placed interface {
	// Medium tells drives, machines and services apart; away says that it is none of this machine's.
	Medium() (medium string, away bool)
}

// Replacer is a store that can put new bytes in the place of a file at once.
type Replacer interface {
	Replace(ctx context.Context, name string, data []byte) error
}

// Peeker is a store that can look at a file of each folder in a folder at once.
type Peeker interface {
	// Peek visits the folders right in one, with what a name in each of them means; those that lack it are left
	// out. Without a name, it is the folder itself. What is no folder and no file is visited as a foreign entry.
	Peek(ctx context.Context, folder, name string, visit func(base string, e Entry) error) error
}

// Stager is a store that can move many finished files into place at once.
type Stager interface {
	// Stage makes a hidden folder; it fails with fs.ErrExist if it is there.
	Stage(ctx context.Context, name string) (Stage, error)
	// Clear removes a hidden folder of a stage with all that is in it. It follows no
	// link, and fails for a name that no stage has.
	Clear(ctx context.Context, name string) error
}

// Stage is a hidden folder in which files are written before they count. Create, as
// with a store; what it makes is durable only once it is placed.
type Stage interface {
	Create(ctx context.Context, name string) (Writer, error)
	Stat(ctx context.Context, name string) (Entry, error)
	// Place syncs a folder of the stage and moves it to a name of the store. It never
	// replaces anything: fs.ErrExist.
	Place(ctx context.Context, folder, to string) error
	// Exposed says that others on this machine can read what is made here.
	Exposed() bool
}

// Holder is who holds a lease, for messages.
type Holder struct {
	PID   int       `json:"pid"`
	Host  string    `json:"host"`
	Boot  string    `json:"boot"` // tells machines apart, whatever their names
	Since time.Time `json:"since"`
}

// HeldError says who holds a lease.
type HeldError struct {
	Holder Holder
	Silent time.Duration // since its last heartbeat, by the store's clock
	Here   bool          // on this machine
}

func (e *HeldError) Error() string {
	if e.Holder.PID == 0 {
		return "another process holds it"
	}
	s := fmt.Sprintf("process %d on %s holds it", e.Holder.PID, e.Holder.Host)
	if !e.Holder.Since.IsZero() {
		s += ", since " + e.Holder.Since.Local().Format("2006-01-02 15:04:05")
	}
	return s
}

// Leaser is a store that has locks with a holder and a heartbeat: also two machines
// over a shared mount exclude each other with them.
type Leaser interface {
	// Lease takes a lease, or fails with a *HeldError. A lease whose holder is dead,
	// or was silent for longer than Expiry, is taken over.
	Lease(ctx context.Context, name string) (Lease, error)
}

// Lease is a lock that this process holds.
type Lease interface {
	// Held fails once the lease is not this process's any more.
	Held() error
	// Release gives it up and removes its file.
	Release() error
}

// Heartbeat is how often a holder shows that it is alive, Expiry the silence after
// which it counts as dead.
const (
	Heartbeat = 15 * time.Second
	Expiry    = 2 * time.Minute
)

// maxName bounds a whole name, maxPart each part of it; file systems allow 255 bytes.
const (
	maxName = 1024 // bytes
	maxPart = 255  // bytes
)

// CheckName fails for a name that a store does not take: it is relative, of letters,
// digits and "._%~+-", without empty parts, "." or "..".
func CheckName(name string) error {
	bad := func(why string) error { return fmt.Errorf("the name %q %s", name, why) }
	if len(name) > maxName {
		return fmt.Errorf("a name of %d bytes is too long", len(name))
	}
	part := 0
	for i := 0; i <= len(name); i++ {
		if i == len(name) || name[i] == '/' {
			switch s := name[part:i]; {
			case s == "":
				return bad("has an empty part")
			case s == "." || s == "..":
				return bad("leads elsewhere")
			case len(s) > maxPart:
				return bad("has a part that is too long")
			}
			part = i + 1
			continue
		}
		if !allowed(name[i]) {
			return bad("has a character that no keep writes")
		}
	}
	return nil
}

func allowed(c byte) bool {
	switch {
	case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9':
		return true
	}
	switch c {
	case '.', '_', '%', '~', '+', '-':
		return true
	}
	return false
}

// TooLargeError is what ReadAll says of a file that is larger than its bound.
type TooLargeError struct {
	Name  string
	Bytes int64
	Limit int64
}

func (e *TooLargeError) Error() string {
	return fmt.Sprintf("%s has %d bytes; at most %d are read", e.Name, e.Bytes, e.Limit)
}

// ReadAll reads a file of at most limit bytes whole.
func ReadAll(ctx context.Context, s Reader, name string, limit int64) ([]byte, error) {
	e, err := s.Stat(ctx, name)
	switch {
	case err != nil:
		return nil, err
	case e.Folder || e.Foreign:
		return nil, &fs.PathError{Op: "open", Path: s.Where(name), Err: ErrNotRegular}
	case e.Bytes > limit:
		return nil, &TooLargeError{name, e.Bytes, limit}
	}
	f, err := s.Open(ctx, name, 0, -1)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return ReadBounded(f, name, limit) // it may have grown
}

// ReadBounded reads what has a name whole. It is a TooLargeError that it has more than limit bytes.
func ReadBounded(r io.Reader, name string, limit int64) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err == nil && int64(len(data)) > limit {
		err = &TooLargeError{name, int64(len(data)), limit}
	}
	return data, err
}

// WriteNew writes a file that is not there yet.
func WriteNew(ctx context.Context, s interface {
	Create(context.Context, string) (Writer, error)
}, name string, data []byte) error {
	w, err := s.Create(ctx, name)
	if err != nil {
		return err
	}
	if _, err := w.Write(data); err != nil {
		return errors.Join(err, w.Abort())
	}
	return w.Commit()
}

// RemoveBelow removes a folder and all that is in it.
func RemoveBelow(ctx context.Context, s Store, folder string) error {
	var names []Entry
	err := s.List(ctx, folder, func(e Entry) error {
		names = append(names, e)
		return nil
	})
	if err != nil {
		return err
	}
	for _, e := range names {
		if e.Folder {
			err = RemoveBelow(ctx, s, e.Name)
		} else {
			err = s.Remove(ctx, e.Name)
		}
		if err != nil {
			return err
		}
	}
	return s.Remove(ctx, folder)
}

// IgnoreAbsent makes no error of it that something is not there, for who removes it.
func IgnoreAbsent(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Exists says whether something has a name.
func Exists(ctx context.Context, s Reader, name string) (bool, error) {
	_, err := s.Stat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}
