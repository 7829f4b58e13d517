// Package keep is the place where dumps live: its marker, its layout, its
// working folders and locks, and how a finished dump comes into place.
package keep

import (
	"crypto/rand"
	_ "embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"grainkeep/internal/fault"
)

const (
	markerName = "grainkeep.json"
	startName  = "START-HERE.txt"
	workName   = ".work"
	jobsName   = "jobs"
	proofsName = "proofs"
	formatNow  = 1
)

//go:embed start-here.txt
var startHere []byte

// Keep is an open keep.
type Keep struct {
	Folder   string // absolute
	ID       string
	Founded  time.Time
	Floor    Floor
	ReadOnly bool // nothing can be written here now
}

type marker struct {
	Format  int       `json:"format"`
	ID      string    `json:"id"`
	Founded time.Time `json:"founded"`
	Note    string    `json:"note"`
}

// Create founds a keep: it makes the folder if need be, then the marker. A
// folder with other things in it becomes a keep only with anyway set.
func Create(folder string, anyway bool) (*Keep, error) {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(folder)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return nil, unwritable(folder, err)
		}
	case err != nil:
		return nil, fault.New("keep-unreadable", err, "cannot look into %s", folder)
	}
	for _, e := range entries {
		if e.Name() == markerName {
			return nil, fault.New("keep-exists", nil, "%s is a keep already", folder).
				Advise("nothing needs to be done; 'grainkeep list --from' shows what is in it")
		}
	}
	if foreign := foreignEntries(entries); len(foreign) > 0 && !anyway {
		return nil, fault.New("keep-not-empty", nil, "%s holds other things (%s)", folder, foreign[0]).
			Advise("choose an empty folder, or add --found to make this one a keep all the same; nothing in it is touched")
	}
	var id [8]byte
	rand.Read(id[:])
	m := marker{Format: formatNow, ID: hex.EncodeToString(id[:]), Founded: time.Now().UTC().Truncate(time.Second),
		Note: "This folder is a keep of Grain Keep. See START-HERE.txt."}
	data, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return nil, err
	}
	if err := WriteNew(filepath.Join(folder, startName), startHere); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, unwritable(folder, err)
	}
	if err := WriteNew(filepath.Join(folder, markerName), append(data, '\n')); err != nil {
		return nil, unwritable(folder, err)
	}
	return &Keep{Folder: folder, ID: m.ID, Founded: m.Founded}, syncFolder(folder)
}

// foreignEntries are what a new file system or an earlier try may not have left.
func foreignEntries(entries []fs.DirEntry) (names []string) {
	for _, e := range entries {
		if n := e.Name(); n != "lost+found" && n != startName {
			names = append(names, n)
		}
	}
	return names
}

func unwritable(folder string, err error) error {
	return fault.New("keep-unwritable", err, "cannot write to the keep %s", folder).
		Advise("check that the drive is mounted and writable, and that %s may be written by this user", folder)
}

// Open opens the keep in a folder. A folder without a marker is not a keep, even
// if it is empty: a drive may not be mounted there.
func Open(folder string) (*Keep, error) {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(filepath.Join(folder, markerName))
	if errors.Is(err, fs.ErrNotExist) {
		if _, err := os.Stat(folder); err != nil {
			return nil, fault.New("keep-absent", nil, "there is no folder %s", folder).
				Advise("mount its drive, or found a keep there with 'grainkeep keep create %s'", folder)
		}
		return nil, fault.New("keep-not-founded", nil, "%s is not a keep: it has no %s", folder, markerName).
			Advise("if a drive belongs there, it may not be mounted; if this is really the place, found it with 'grainkeep keep create %s'", folder)
	}
	if err != nil {
		return nil, fault.New("keep-unreadable", err, "cannot read the keep %s", folder)
	}
	var m marker
	if err := json.Unmarshal(data, &m); err != nil || m.ID == "" {
		return nil, fault.New("keep-marker-damaged", err, "%s in %s is damaged", markerName, folder).
			Advise("the dumps themselves may be whole: give 'verify' the path of a dump's folder")
	}
	if m.Format > formatNow {
		return nil, fault.New("format-too-new", nil, "the keep %s has format %d, and this program knows formats up to %d", folder, m.Format, formatNow).
			Advise("use a newer grainkeep")
	}
	k := &Keep{Folder: folder, ID: m.ID, Founded: m.Founded}
	k.ReadOnly = unix.Access(folder, unix.W_OK) != nil
	return k, nil
}

// Around finds the keep that a dump's folder lies in, or nil.
func Around(path string) *Keep {
	for dir := filepath.Dir(path); ; dir = filepath.Dir(dir) {
		if k, err := Open(dir); err == nil {
			return k
		}
		if dir == filepath.Dir(dir) {
			return nil
		}
	}
}

// Present fails when the keep's folder no longer carries its marker: its drive
// went away while somebody was writing.
func (k *Keep) Present() error {
	if now, err := Open(k.Folder); err != nil || now.ID != k.ID {
		return fault.New("keep-vanished", nil, "the keep %s went away while a dump was written", k.Folder).
			Advise("check its drive and its mount; the dump that was being written does not count")
	}
	return nil
}

// SaveJob keeps the job's configuration as last run, without secrets.
func (k *Keep) SaveJob(job string, text []byte) error {
	path := k.JobFile(job)
	if old, err := os.ReadFile(path); err == nil && string(old) == string(text) {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return unwritable(k.Folder, err)
	}
	temp := filepath.Join(filepath.Dir(path), ".new-"+job)
	os.Remove(temp)
	if err := WriteNew(temp, text); err != nil {
		return unwritable(k.Folder, err)
	}
	return os.Rename(temp, path)
}

// JobFile is where a job's configuration is kept.
func (k *Keep) JobFile(job string) string {
	return filepath.Join(k.Folder, jobsName, job+".toml")
}

// WriteNew writes a file that does not exist yet and syncs it.
func WriteNew(path string, data []byte) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	return err
}

func syncFolder(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := f.Sync(); err != nil && !errors.Is(err, syscall.EINVAL) {
		return err // EINVAL: a file system that does not sync folders
	}
	return nil
}

// syncTree syncs every folder below and including path; files are synced when
// they are written.
func syncTree(path string) error {
	return filepath.WalkDir(path, func(p string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return err
		}
		return syncFolder(p)
	})
}
