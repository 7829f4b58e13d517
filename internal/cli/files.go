package cli

import (
	"errors"
	"os"
	"path/filepath"

	"grainkeep/internal/engine"
)

func isFolder(path string) bool {
	st, err := os.Stat(path)
	return err == nil && st.IsDir()
}

// sqliteFile is the path of a database file in a source.
func sqliteFile(at engine.Location, name string) string {
	folder := at.Path
	if !isFolder(folder) {
		folder = filepath.Dir(folder)
	}
	path, err := filepath.Abs(filepath.Join(folder, name))
	if err != nil {
		return name
	}
	return path
}

// writeNew writes a file of this machine that does not exist yet, and syncs it.
func writeNew(path string, data []byte) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}
