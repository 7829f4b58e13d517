//go:build unix

package system

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"syscall"

	"golang.org/x/sys/unix"
)

// What this system can do.
const (
	Programs = true // other programs run in groups of their own, and are asked to end
	Owners   = true // files have owners and rights that others are kept out by
	Folders  = true // a name in a folder is made durable, and takes the place of none
)

// How a file is opened that others may have put there. FolderOnly is for folders.
const (
	NoFollow   = unix.O_NOFOLLOW // no link in its last part
	NoWait     = unix.O_NONBLOCK // a pipe does not hold it up
	FolderOnly = unix.O_DIRECTORY
)

// Lock locks an open file for this process alone until it is closed, or the process ends in whatever way. It does not
// wait: ErrLocked.
func Lock(f *os.File) error { return flock(f, unix.LOCK_EX|unix.LOCK_NB) }

// LockShared locks an open file against Lock, for any number of processes, and turns a lock into a shared one: ErrLocked.
func LockShared(f *os.File) error { return flock(f, unix.LOCK_SH|unix.LOCK_NB) }

func flock(f *os.File, how int) error {
	for {
		err := unix.Flock(int(f.Fd()), how)
		switch {
		case errors.Is(err, unix.EWOULDBLOCK):
			return ErrLocked
		case !errors.Is(err, unix.EINTR):
			return err
		}
	}
}

// LockFolder locks a folder until what it gives is closed, or the process ends in whatever way: ErrLocked.
func LockFolder(path string) (*os.File, error) { return locked(os.Open(path)) }

// IsLock says whether a lock is that of the folder which has the path now.
func IsLock(lock *os.File, path string) bool { return Still(lock, path) }

// RemoveLocked removes a folder with all that is in it, and gives up its lock.
func RemoveLocked(path string, lock *os.File) error {
	return errors.Join(os.RemoveAll(path), lock.Close())
}

// Alive says whether a process of this machine is there, whoever's it is.
func Alive(pid int) bool { return !errors.Is(unix.Kill(pid, 0), unix.ESRCH) }

// Group makes a program that is to be started the first of a group of its own.
func Group(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

// EndGroup asks a program's group to end.
func EndGroup(p *os.Process) error { return unix.Kill(-p.Pid, unix.SIGTERM) }

// KillGroup ends what is left of a program's group at once.
func KillGroup(p *os.Process) error { return unix.Kill(-p.Pid, unix.SIGKILL) }

// End asks a program to end.
func End(p *os.Process) error { return p.Signal(unix.SIGTERM) }

// Room gives the bytes that are free for this user, and all, on the file system of a path.
func Room(path string) (free, total int64, err error) {
	var st unix.Statfs_t
	if err := unix.Statfs(path, &st); err != nil {
		return 0, 0, roomUnknown(path, err)
	}
	size := int64(st.Bsize)
	return int64(st.Bavail) * size, int64(st.Blocks) * size, nil
}

// Writable says whether this user may write to a folder or a file.
func Writable(path string) bool { return unix.Access(path, unix.W_OK) == nil }

// Full says whether an error means that a drive, or this user's share of it, is full.
func Full(err error) bool { return errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) }

// SyncFolder makes the names in a folder durable; some file systems know no such thing.
func SyncFolder(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	err = d.Sync()
	if errors.Is(err, unix.EINVAL) {
		err = nil
	}
	return errors.Join(err, d.Close())
}

// Drive tells the file systems of this machine apart; empty: that of a path cannot be told.
func Drive(path string) string {
	st, err := os.Stat(path)
	if err != nil {
		return ""
	}
	f, known := FactsOf(st)
	if !known {
		return ""
	}
	return fmt.Sprintf("file system %d:%d", unix.Major(f.Device), unix.Minor(f.Device))
}

// FactsOf gives what is known of a file that was looked at.
func FactsOf(st fs.FileInfo) (Facts, bool) {
	sys, ok := st.Sys().(*syscall.Stat_t)
	if !ok {
		return Facts{}, false
	}
	return Facts{Device: uint64(sys.Dev), Inode: sys.Ino, Links: uint64(sys.Nlink), UID: int(sys.Uid), GID: int(sys.Gid),
		Allocated: sys.Blocks * 512, Changed: changed(sys)}, true
}
