package config

import (
	"slices"
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

// checkCopies looks at where a job's dumps are copied to, and from where they are drilled.
func (f *File) checkCopies(where string, j Job) error {
	for _, name := range j.CopyTo {
		if _, ok := f.Keep[name]; !ok || name == j.Keep {
			return f.wrong(where, "copy_to names %q, which is no other keep", name).Advise("the keeps are: %s",
				strings.Join(sorted(f.Keep), ", "))
		}
	}
	if j.Copy != nil && len(j.CopyTo) == 0 {
		return f.wrong(where, "copy says when, and nothing says where to").Advise("name the keeps: copy_to = [\"vault\"]")
	}
	for _, name := range j.DrillFrom {
		if name != j.Keep && !slices.Contains(j.CopyTo, name) {
			return f.wrong(where, "drill_from names %q, which has no dumps of the job", name).
				Advise("name its keep %q, or one of copy_to", j.Keep)
		}
	}
	return nil
}
