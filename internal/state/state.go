// Package state makes the files of this machine's own: the journal, logs, notes about steps. They are for one user
// alone. What root makes in a folder of another user is given to that user, who works with it the next night.
package state

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"grainkeep/internal/system"
)

// OpenFile is os.OpenFile for such a file.
func OpenFile(path string, flag int) (*os.File, error) {
	_, before := os.Lstat(path)
	f, err := os.OpenFile(path, flag, 0o600)
	if err != nil || !errors.Is(before, fs.ErrNotExist) {
		return f, err
	}
	return f, errors.Join(give(f, filepath.Dir(path)))
}

// Temporary makes a file beside others, to be renamed once it is whole.
func Temporary(folder string) (*os.File, error) {
	f, err := os.CreateTemp(folder, ".new-")
	if err != nil {
		return nil, err
	}
	return f, give(f, folder)
}

// Folder makes a folder, and those above it.
func Folder(path string) error {
	if st, err := os.Stat(path); err == nil && st.IsDir() {
		return nil
	}
	if above := filepath.Dir(path); above != path {
		if err := Folder(above); err != nil {
			return err
		}
	}
	if err := os.Mkdir(path, 0o700); err != nil {
		if errors.Is(err, fs.ErrExist) { // somebody else has made it
			return nil
		}
		return err
	}
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(give(f, filepath.Dir(path)), f.Close())
}

// give gives what root made to the owner of the folder that it is in.
func give(f *os.File, folder string) error {
	if os.Getuid() != 0 {
		return nil
	}
	st, err := os.Stat(folder)
	if err != nil {
		return err
	}
	if sys, ok := system.FactsOf(st); ok && sys.UID != 0 {
		return f.Chown(sys.UID, sys.GID)
	}
	return nil
}
