package system

import (
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/windows"
)

// Name is the system's, for people.
const Name = "Windows"

// What this system can do.
const (
	Programs = false // a program is not asked to end, it is ended
	Owners   = false // rights are access lists, which are not read here
	Folders  = false // folders cannot be synced
)

// There are no such ways to open a file here; links need rights of their own.
const (
	NoFollow   = 0
	NoWait     = 0
	FolderOnly = 0
)

// A lock of a file is one of a byte that no file has: what is in it stays readable for others.
const lockedByte = 1 << 30 // times 4 GiB

// Lock locks an open file for this process alone until it is closed, or the process ends in whatever way. It does not
// wait: ErrLocked.
func Lock(f *os.File) error {
	return lock(f, windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY)
}

// LockShared locks an open file against Lock, for any number of processes: ErrLocked.
func LockShared(f *os.File) error { return lock(f, windows.LOCKFILE_FAIL_IMMEDIATELY) }

func lock(f *os.File, how uint32) error {
	err := windows.LockFileEx(windows.Handle(f.Fd()), how, 0, 1, 0, &windows.Overlapped{OffsetHigh: lockedByte})
	if errors.Is(err, windows.ERROR_LOCK_VIOLATION) || errors.Is(err, windows.ERROR_IO_PENDING) {
		return ErrLocked
	}
	return err
}

// folderLock ends the name of a file beside a folder that is locked for it: folders themselves cannot be, and what is open
// cannot be removed.
const folderLock = ".in-use"

// LockFolder locks a folder until what it gives is closed, or the process ends in whatever way: ErrLocked.
func LockFolder(path string) (*os.File, error) {
	return locked(os.OpenFile(path+folderLock, os.O_RDWR|os.O_CREATE, 0o600))
}

// IsLock says whether a lock is that of the folder which has the path now.
func IsLock(lock *os.File, path string) bool {
	_, err := os.Stat(path)
	return err == nil && Still(lock, path+folderLock)
}

// RemoveLocked removes a folder with all that is in it, and gives up its lock.
func RemoveLocked(path string, lock *os.File) error {
	return errors.Join(os.RemoveAll(path), lock.Close(), os.Remove(path+folderLock))
}

// Alive says whether a process of this machine is there, whoever's it is.
func Alive(pid int) bool {
	const goesOn = 259 // instead of an exit code
	p, err := windows.OpenProcess(windows.PROCESS_QUERY_LIMITED_INFORMATION, false, uint32(pid))
	if err != nil {
		return errors.Is(err, windows.ERROR_ACCESS_DENIED)
	}
	defer windows.CloseHandle(p)
	var code uint32
	return windows.GetExitCodeProcess(p, &code) != nil || code == goesOn
}

// Group does nothing: see Programs.
func Group(*exec.Cmd) {}

// EndGroup ends a program.
func EndGroup(p *os.Process) error { return p.Kill() }

// KillGroup ends a program.
func KillGroup(p *os.Process) error { return p.Kill() }

// End ends a program.
func End(p *os.Process) error { return p.Kill() }

// Room gives the bytes that are free for this user, and all, on the drive of a path.
func Room(path string) (free, total int64, err error) {
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return 0, 0, roomUnknown(path, err)
	}
	var f, all uint64
	if err := windows.GetDiskFreeSpaceEx(name, &f, &all, nil); err != nil {
		return 0, 0, roomUnknown(path, err)
	}
	return int64(f), int64(all), nil
}

// Writable says whether this user may write to a folder or a file, as far as its attributes tell.
func Writable(path string) bool {
	st, err := os.Stat(path)
	return err == nil && st.Mode().Perm()&0o200 != 0
}

// Full says whether an error means that a drive is full.
func Full(err error) bool {
	return errors.Is(err, windows.ERROR_DISK_FULL) || errors.Is(err, windows.ERROR_HANDLE_DISK_FULL)
}

// SyncFolder does nothing: names become durable when the file system writes its own journal.
func SyncFolder(string) error { return nil }

// Drive tells the drives of this machine apart; empty: that of a path cannot be told.
func Drive(path string) string {
	full, err := filepath.Abs(path)
	if err != nil || filepath.VolumeName(full) == "" {
		return ""
	}
	return "drive " + strings.ToUpper(filepath.VolumeName(full))
}

// FactsOf gives nothing: Go asks this system for none of it.
func FactsOf(fs.FileInfo) (Facts, bool) { return Facts{}, false }

// Boot tells this start of this machine from every other, to the minute; empty: it is not known.
func Boot() string {
	host, err := os.Hostname()
	if err != nil {
		return ""
	}
	return host + " " + strconv.FormatInt(time.Now().Add(-windows.DurationSinceBoot()).Round(time.Minute).Unix(), 10)
}
