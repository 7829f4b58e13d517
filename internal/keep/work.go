package keep

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/gofrs/flock"
	"golang.org/x/sys/unix"

	"grainkeep/internal/fault"
)

// Holder is who holds a lock, for messages.
type Holder struct {
	PID   int       `json:"pid"`
	Host  string    `json:"host"`
	Since time.Time `json:"since"`
}

// Lock is a lock file in the keep's working folder, gone once it is released.
type Lock struct {
	path string
	l    *flock.Flock
}

// tryLock takes a lock file. The file may be removed by its last holder at any
// time, so after locking it must still be the one at the path.
func tryLock(path string) (*Lock, error) {
	for {
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return nil, err
		}
		l := flock.New(path, flock.SetPermissions(0o600), flock.SetFlag(os.O_CREATE|os.O_RDWR))
		ok, err := l.TryLock()
		if errors.Is(err, fs.ErrNotExist) {
			continue // the last to leave removed the folder
		}
		if err != nil {
			return nil, err
		}
		if !ok {
			l.Close()
			return nil, nil
		}
		here, err1 := l.Stat()
		there, err2 := os.Stat(path)
		if err1 == nil && err2 == nil && os.SameFile(here, there) {
			host, _ := os.Hostname()
			data, _ := json.Marshal(Holder{PID: os.Getpid(), Host: host, Since: time.Now().UTC().Truncate(time.Second)})
			if err := os.WriteFile(path, data, 0o600); err != nil {
				l.Close()
				return nil, err
			}
			return &Lock{path: path, l: l}, nil
		}
		l.Close()
	}
}

// takeLock takes a lock file, and tries again for a moment: a clean-up holds each
// lock that it finds for as long as it takes to look.
func takeLock(path string) (*Lock, error) {
	for range 5 {
		if l, err := tryLock(path); l != nil || err != nil {
			return l, err
		}
		time.Sleep(20 * time.Millisecond)
	}
	return nil, nil
}

// Release gives the lock up and removes its file, and the folder of the locks if
// nothing else is in it.
func (l *Lock) Release() {
	os.Remove(l.path)
	l.l.Close()
	os.Remove(filepath.Dir(l.path))
}

// LockJob takes the lock that a job's runs exclude each other with.
func (k *Keep) LockJob(job string) (*Lock, error) {
	path := filepath.Join(k.workFolder(), "job-"+job+".lock")
	l, err := takeLock(path)
	if err != nil {
		return nil, unwritable(k.Folder, err)
	}
	if l == nil {
		var h Holder
		data, _ := os.ReadFile(path)
		who := "another process"
		if json.Unmarshal(data, &h) == nil && h.PID != 0 {
			who = fmt.Sprintf("process %d on %s, since %s", h.PID, h.Host, h.Since.Local().Format("2006-01-02 15:04:05"))
		}
		return nil, fault.New("job-running", nil, "the job %s is already running: %s", job, who).Exit(fault.Running).
			Advise("wait for it to end; nothing was done now")
	}
	return l, nil
}

func (k *Keep) workFolder() string { return filepath.Join(k.Folder, workName) }

// Work is a hidden working folder on the keep's file system.
type Work struct {
	Folder string
	keep   *Keep
	lock   *Lock
}

// NewWork makes a working folder that is known to be alive until Close.
func (k *Keep) NewWork(run string) (*Work, error) {
	lock, err := takeLock(filepath.Join(k.workFolder(), run+".lock"))
	if err == nil && lock == nil {
		err = errors.New("its lock is held")
	}
	if err != nil {
		return nil, unwritable(k.Folder, err)
	}
	w := &Work{Folder: filepath.Join(k.workFolder(), run), keep: k, lock: lock}
	if err := os.Mkdir(w.Folder, 0o700); err != nil {
		lock.Release()
		return nil, unwritable(k.Folder, err)
	}
	return w, nil
}

// Exposed says that the file system does not keep permissions: others can read
// what is made here.
func (w *Work) Exposed() bool {
	st, err := os.Stat(w.Folder)
	return err == nil && st.Mode().Perm()&0o077 != 0
}

// Close removes the working folder and what is in it.
func (w *Work) Close() error {
	err := os.RemoveAll(w.Folder)
	w.lock.Release()
	return err
}

// Sweep removes what killed runs left: working folders and locks that nobody
// holds. It gives the names of the folders.
func (k *Keep) Sweep() ([]string, error) {
	entries, err := os.ReadDir(k.workFolder())
	if err != nil {
		return nil, nil //nolint:nilerr // no working folder, nothing to sweep
	}
	names := map[string]bool{}
	for _, e := range entries {
		names[strings.TrimSuffix(e.Name(), ".lock")] = true
	}
	var removed []string
	if len(names) == 0 {
		os.Remove(k.workFolder())
	}
	for name := range names {
		lock, err := tryLock(filepath.Join(k.workFolder(), name+".lock"))
		if err != nil {
			return removed, unwritable(k.Folder, err)
		}
		if lock == nil {
			continue // alive
		}
		folder := filepath.Join(k.workFolder(), name)
		if _, err := os.Stat(folder); err == nil {
			removed = append(removed, name)
		}
		err = os.RemoveAll(folder)
		lock.Release()
		if err != nil {
			return removed, unwritable(k.Folder, err)
		}
	}
	return removed, nil
}

// Place moves a finished dump from the working folder to where dumps live. It
// never replaces anything, and gives the path.
func (w *Work) Place(from, job, database string, moment time.Time, kind string) (string, error) {
	if err := w.keep.Present(); err != nil {
		return "", err
	}
	if err := syncTree(from); err != nil {
		return "", unwritable(w.keep.Folder, err)
	}
	parent := filepath.Join(w.keep.Folder, job, DatabaseFolder(database))
	if err := os.MkdirAll(parent, 0o700); err != nil {
		return "", unwritable(w.keep.Folder, err)
	}
	for n := 1; n < 1000; n++ {
		path := filepath.Join(parent, DumpFolder(moment, kind))
		if n > 1 {
			path += fmt.Sprintf("-%d", n)
		}
		err := renameNew(from, path)
		if errors.Is(err, syscall.EEXIST) || errors.Is(err, syscall.ENOTEMPTY) {
			continue
		}
		if err != nil {
			return "", unwritable(w.keep.Folder, err)
		}
		for _, dir := range []string{parent, filepath.Dir(parent), w.keep.Folder} {
			if err := syncFolder(dir); err != nil {
				return "", unwritable(w.keep.Folder, err)
			}
		}
		return path, nil
	}
	return "", fault.New("name-taken", nil, "every name for this second is taken in %s", parent)
}

// renameNew renames only if nothing is there.
func renameNew(from, to string) error {
	err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE)
	if errors.Is(err, syscall.EINVAL) || errors.Is(err, syscall.ENOSYS) {
		// A file system without it: the job's lock keeps other writers away.
		if _, e := os.Lstat(to); e == nil {
			return syscall.EEXIST
		}
		return os.Rename(from, to)
	}
	return err
}

// NewRun makes the id of a run.
func NewRun() string {
	var b [6]byte
	rand.Read(b[:])
	return hex.EncodeToString(b[:])
}
