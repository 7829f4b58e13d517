package config

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"grainkeep/internal/fault"
	"grainkeep/internal/system"
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
		if err := trusted(path); err != nil {
			return nil, err
		}
		f, err := load(path)
		if !errors.Is(err, fs.ErrNotExist) {
			return f, err
		}
	}
	return nil, nil
}

// trusted refuses a configuration that nobody named and that somebody else could have
// put there: it chooses servers, secrets and files.
func trusted(path string) error {
	st, err := os.Lstat(path)
	if err != nil {
		return nil // it is not there; reading it says the rest
	}
	full, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	why, advice := "", "if it is yours, own it and 'chmod go-w' it; or name it: --config %s"
	sys, _ := system.FactsOf(st)
	switch {
	case !st.Mode().IsRegular():
		why = "it is a link or no file at all"
	case !system.Owners:
		why, advice = "who may write to it cannot be told on "+system.Name, "if it is yours, name it: --config %s"
	case !system.Belongs(st):
		why = fmt.Sprintf("it belongs to another user (number %d)", sys.UID)
	case st.Mode().Perm()&0o022 != 0:
		why = fmt.Sprintf("other users can write to it (mode %04o)", st.Mode().Perm())
	default:
		return nil
	}
	return fault.Wrong("config-untrusted", "the configuration %s is not used: %s", full, why).
		Advise(advice, full)
}

func load(path string) (*File, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	data, err := readFile(path)
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

// maxFile bounds a configuration.
const maxFile = 4 << 20 // bytes

func readFile(path string) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|system.NoWait, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, maxFile+1))
	if err == nil && len(data) > maxFile {
		err = &os.PathError{Op: "read", Path: path, Err: errors.New("it is too large for a configuration")}
	}
	return data, err
}
