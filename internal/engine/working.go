package engine

import (
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// LockFolder marks a working folder as in use until the file that it gives is closed, or
// the process ends in whatever way.
func LockFolder(path string) (*os.File, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// MakeLocked makes a working folder and marks it as in use. Whoever sweeps just then may take it for left behind, before it
// is marked: then it is made again.
func MakeLocked(make func() (string, error)) (path string, lock *os.File, err error) {
	for range 50 {
		if path, err = make(); err != nil {
			return "", nil, err
		}
		if lock, err = LockFolder(path); err == nil {
			st, gone := os.Stat(path)
			if mine, e := lock.Stat(); gone == nil && e == nil && os.SameFile(st, mine) {
				return path, lock, nil
			}
			lock.Close()
			continue
		}
		os.Remove(path)
		time.Sleep(2 * time.Millisecond)
	}
	return "", nil, err
}

// SweepFolders removes the working folders of a prefix whose makers were killed: nobody
// holds their lock. What cannot be removed now is left to the next.
func SweepFolders(home, prefix string) {
	entries, err := os.ReadDir(home)
	if err != nil {
		return
	}
	for _, e := range entries {
		if !e.IsDir() || !strings.HasPrefix(e.Name(), prefix) {
			continue
		}
		path := filepath.Join(home, e.Name())
		if f, err := LockFolder(path); err == nil {
			os.RemoveAll(path)
			f.Close()
		}
	}
}
