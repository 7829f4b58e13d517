package sqlite

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// Freezable implements engine.Freezer.
func (s *source) Freezable(context.Context) error { return nil }

// Freeze implements engine.Freezer: the file's owner and everybody else may only read it.
func (s *source) Freeze(_ context.Context, database string) error {
	path := filepath.Join(s.folder, database)
	st, err := os.Stat(path)
	if err != nil {
		return err
	}
	return os.Chmod(path, st.Mode().Perm()&^0o222)
}

// Drop implements engine.Dropper: the file goes, with its journals.
func (s *source) Drop(_ context.Context, database string) error {
	path := filepath.Join(s.folder, database)
	for _, beside := range []string{"-journal", "-wal", "-shm"} {
		if err := os.Remove(path + beside); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return os.Remove(path)
}
