package cli

import (
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
