package config

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"grainkeep/internal/fault"
)

// FileName is the configuration's name in a working folder.
const FileName = "grainkeep.toml"

// Variable is the environment variable that names a configuration file.
const Variable = "GRAINKEEP_CONFIG"

// SystemFile is where a machine's configuration is.
const SystemFile = "/etc/grainkeep/" + FileName

// Find reads the configuration: the named file, else the one that the environment
// names, else the one in the working folder, else the system's. Without any it
// gives nil.
func Find(named string) (*File, error) {
	if named == "" {
		named = os.Getenv(Variable)
	}
	if named != "" {
		return load(named)
	}
	for _, path := range []string{FileName, SystemFile} {
		f, err := load(path)
		if !errors.Is(err, fs.ErrNotExist) {
			return f, err
		}
	}
	return nil, nil
}

func load(path string) (*File, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(path)
	if err != nil {
		e := fault.Wrong("config-absent", "cannot read the configuration %s", path).
			Advise("'grainkeep init' writes a starter configuration")
		e.Err = errors.Unwrap(err)
		return nil, e
	}
	return Parse(data, path)
}

// Path is where the configuration was read from.
func (f *File) Path() string { return f.path }
