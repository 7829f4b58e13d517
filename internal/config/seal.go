package config

import (
	"strings"

	"grainkeep/internal/seal"
)

// checkSeal looks at the keys of a seal that stand in the configuration itself.
func (f *File) checkSeal(where string, s Seal, lone bool) error {
	files := 0
	for _, one := range s {
		switch {
		case strings.HasPrefix(one, "file:"):
			files++
		case strings.HasPrefix(one, "passphrase:file:"), strings.HasPrefix(one, "passphrase:env:"):
			if len(s) > 1 {
				return f.wrong(where, "seal: a passphrase cannot be one recipient among several").
					Advise("name public keys only, or the passphrase only; 'grainkeep key' makes keys")
			}
		default:
			if _, err := seal.ParseRecipient(one); err != nil {
				return f.wrong(where, "seal: %.60q: %v", one, err).
					Advise("'grainkeep key' makes keys; file:PATH is a file with public ones")
			}
		}
	}
	if lone && len(s) == 0 {
		return f.wrong(where, "one_recipient goes with seal")
	}
	if len(s) == 1 && files == 0 && !lone {
		return f.wrong(where, "seal has one recipient: if that key is lost, so are all dumps").
			Advise("name a second one, whose key lies elsewhere, such as on a recovery sheet; or say that it is meant: " +
				"one_recipient = true")
	}
	return nil
}
