// Package system is what operating systems do each in its own way: locks of files, processes, drives, and what is known
// of a file beyond Go's own. Its functions may be called side by side. What a system cannot do is a constant that says
// so; docs/architecture.md says what follows.
package system

import (
	"errors"
	"fmt"
	"io/fs"
	"os"

	"grainkeep/internal/fault"
)

// ErrLocked says that somebody else has a file locked.
var ErrLocked = errors.New("it is locked by another process")

// Facts are what a file system knows of a file beyond its size, mode and time.
type Facts struct {
	Device, Inode, Links uint64
	UID, GID             int
	Allocated            int64 // bytes that it takes on the drive
	Changed              int64 // when anything about it was changed last, name and rights included: nanoseconds since 1970
}

// Belongs says whether a file belongs to this user, or to root; also where files have no owners that could be told.
func Belongs(st fs.FileInfo) bool {
	f, known := FactsOf(st)
	return !known || f.UID == 0 || f.UID == os.Getuid()
}

// Still says whether an open file is what has the path now; a link is followed neither way.
func Still(f *os.File, path string) bool {
	there, err := os.Lstat(path)
	if err != nil {
		return false
	}
	here, err := f.Stat()
	return err == nil && os.SameFile(there, here)
}

// locked locks what was opened for it.
func locked(f *os.File, err error) (*os.File, error) {
	if err != nil {
		return nil, err
	}
	if err := Lock(f); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// SameDrive says whether two paths are on one file system; known is false where that cannot be told.
func SameDrive(a, b string) (same, known bool) {
	x, y := Drive(a), Drive(b)
	return x == y, x != "" && y != ""
}

// Unsynced is the error about what would be written into a keep in a folder where Folders is false.
func Unsynced() error {
	return Lacks("keeps in folders are only read", "dump into a keep in a bucket, or on another machine by SFTP")
}

// Lacks is the error about something that cannot be done on this system at all.
func Lacks(what string, advice string) error {
	return fault.Wrong("not-on-this-system", "%s on %s", what, Name).Advise("%s", advice)
}

func roomUnknown(path string, err error) error {
	return fmt.Errorf("the free space of %s cannot be read: %w", path, err)
}
