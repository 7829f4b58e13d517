package job

import (
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/system"
)

// SecretAt fetches a secret from "file:PATH" or "env:NAME".
func SecretAt(place string) (engine.Secret, error) { return fetchSecret(place) }

// fetchSecret reads a secret from "file:PATH" or "env:NAME". A file that others can
// read or exchange is refused.
func fetchSecret(place string) (engine.Secret, error) {
	if name, ok := strings.CutPrefix(place, "env:"); ok {
		v, ok := os.LookupEnv(name)
		if !ok {
			return engine.Secret{}, fault.Wrong("secret-absent",
				"the environment variable %s, which holds the secret, is not set", name)
		}
		return engine.NewSecret(v), nil
	}
	path := strings.TrimPrefix(place, "file:")
	unreadable := fault.Wrong("secret-absent", "the secret file %s cannot be read",
		path).Advise("check its path and its owner")
	st, err := os.Lstat(path)
	if err != nil {
		return engine.Secret{}, unreadable
	}
	if why := exposed(path, st); why != "" {
		return engine.Secret{}, fault.Wrong("secret-exposed", "the secret file %s is not used: %s", path, why).
			Advise("put it into a folder of your own as a file of mode 600, not a link: chmod 600 %s",
				engine.ShellQuote(path))
	}
	data, err := readSecret(path)
	if err != nil {
		return engine.Secret{}, unreadable
	}
	return engine.NewSecret(strings.TrimRight(string(data), "\r\n")), nil
}

const maxSecret = 64 << 10 // bytes

func readSecret(path string) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|system.NoFollow|system.NoWait, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, maxSecret))
}

// exposed says in which way others could read a secret file, or put another in its place.
func exposed(path string, st fs.FileInfo) string {
	switch {
	case st.Mode()&fs.ModeSymlink != 0:
		return "it is a link, which can be made to point elsewhere"
	case !st.Mode().IsRegular():
		return "it is not a regular file"
	case !system.Owners:
		return "who may read it cannot be told on " + system.Name
	case !system.Belongs(st):
		return "it belongs to another user"
	case st.Mode().Perm()&0o077 != 0:
		return "others can read it"
	}
	full, err := filepath.Abs(path)
	if err != nil {
		return err.Error()
	}
	for dir := filepath.Dir(full); ; dir = filepath.Dir(dir) {
		st, err := os.Stat(dir)
		switch {
		case err != nil:
			return err.Error()
		case !system.Belongs(st):
			return "the folder " + dir + " belongs to another user"
		case st.Mode().Perm()&0o022 != 0 && st.Mode()&fs.ModeSticky == 0:
			return "others can write to the folder " + dir
		}
		if dir == filepath.Dir(dir) {
			return ""
		}
	}
}
