package config

import (
	"os"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// fetchSecret reads a secret from "file:PATH" or "env:NAME". A file that others
// can read is refused.
func fetchSecret(place string) (engine.Secret, error) {
	if name, ok := strings.CutPrefix(place, "env:"); ok {
		v, ok := os.LookupEnv(name)
		if !ok {
			return engine.Secret{}, fault.Wrong("secret-absent", "the environment variable %s, which holds the secret, is not set", name)
		}
		return engine.NewSecret(v), nil
	}
	path := strings.TrimPrefix(place, "file:")
	st, err := os.Stat(path)
	if err != nil {
		return engine.Secret{}, fault.Wrong("secret-absent", "the secret file %s cannot be read", path).
			Advise("check its path and its owner")
	}
	if st.Mode().Perm()&0o077 != 0 {
		return engine.Secret{}, fault.Wrong("secret-exposed", "others can read the secret file %s", path).
			Advise("chmod 600 %s", engine.ShellQuote(path))
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return engine.Secret{}, fault.Wrong("secret-absent", "the secret file %s cannot be read", path).
			Advise("check its path and its owner")
	}
	return engine.NewSecret(strings.TrimRight(string(data), "\r\n")), nil
}
