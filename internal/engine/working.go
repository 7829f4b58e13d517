package engine

import (
	"os"
	"path/filepath"
	"strings"
	"time"

	"grainkeep/internal/system"
)

// MakeLocked makes a working folder and marks it as in use. Whoever sweeps just then may take it for left behind, before it
// is marked: then it is made again.
func MakeLocked(make func() (string, error)) (path string, lock *os.File, err error) {
	for range 50 {
		if path, err = make(); err != nil {
			return "", nil, err
		}
		if lock, err = system.LockFolder(path); err == nil {
			if system.IsLock(lock, path) {
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
		if f, err := system.LockFolder(path); err == nil {
			_ = system.RemoveLocked(path, f)
		}
	}
}
