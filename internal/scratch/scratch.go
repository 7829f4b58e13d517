// Package scratch gives engines folders of this machine to work in, never in a keep:
// for the copy that a file is read from, for the file that a drill restores.
package scratch

import (
	"fmt"
	"os"
	"path/filepath"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/system"
)

const prefix = "run-"

// Folder is a scratch folder that is known to be alive until Close.
type Folder struct {
	Path string
	lock *os.File
}

// Base is where scratch folders are made: TMPDIR, else /var/tmp, which unlike /tmp is
// on a disk everywhere.
func Base() string {
	if dir := os.Getenv("TMPDIR"); dir != "" {
		return dir
	}
	if st, err := os.Stat("/var/tmp"); err == nil && st.IsDir() && system.Writable("/var/tmp") {
		return "/var/tmp"
	}
	return os.TempDir()
}

// New makes a scratch folder, and removes those whose makers are gone. Only this user
// can look into it.
func New() (*Folder, error) {
	home, err := own()
	if err != nil {
		return nil, unusable(err)
	}
	engine.SweepFolders(home, prefix)
	path, lock, err := engine.MakeLocked(func() (string, error) { return os.MkdirTemp(home, prefix) })
	if err != nil {
		return nil, unusable(err)
	}
	return &Folder{Path: path, lock: lock}, nil
}

func unusable(err error) error {
	return fault.New("scratch-unwritable", err, "no scratch folder can be made in %s", Base()).
		Advise("set TMPDIR to a folder with room for the largest database file")
}

// own is this user's folder in a place where everybody can write: it must really be
// this user's, and no link.
func own() (string, error) {
	path := filepath.Join(Base(), fmt.Sprintf("grainkeep-%d", os.Getuid()))
	if err := os.Mkdir(path, 0o700); err != nil && !os.IsExist(err) {
		return "", err
	}
	st, err := os.Lstat(path)
	if err != nil {
		return "", err
	}
	sys, ok := system.FactsOf(st)
	if !st.IsDir() || ok && sys.UID != os.Getuid() || system.Owners && st.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("%s is not this user's own folder", path)
	}
	return path, nil
}

// Room is how many bytes are free for this user.
func (f *Folder) Room() (int64, error) {
	free, _, err := system.Room(f.Path)
	return free, err
}

// Close removes the folder and what is in it.
func (f *Folder) Close() error {
	return system.RemoveLocked(f.Path, f.lock)
}

// Sub makes a folder in it.
func (f *Folder) Sub(name string) (string, error) {
	path := filepath.Join(f.Path, name)
	return path, os.Mkdir(path, 0o700)
}
