package job

import (
	"os"
	"slices"
	"strings"

	"grainkeep/internal/config"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
	"grainkeep/internal/seal"
)

// SealFor gives the recipients that a keep or a job names.
func (s Set) SealFor(where string, names config.Seal, lone bool) (list []seal.Recipient, err error) {
	for _, name := range names {
		more, err := s.recipients(name)
		if err != nil {
			return nil, fault.Wrong("seal-unclear", "%s: seal: %s: %v", where, phrase.Clean(name), err).
				Advise("'grainkeep key' makes keys; see docs/guide.md")
		}
		list = append(list, more...)
	}
	if err := seal.Check(list); err != nil {
		return nil, fault.Wrong("seal-unclear", "%s: seal: %v", where, err)
	}
	if len(list) == 1 && !lone {
		return nil, fault.Wrong("seal-lone", "%s: seal has one recipient: if that key is lost, so are all dumps", where).
			Advise("name a second one, whose key lies elsewhere; or say that it is meant: one_recipient = true (--one-recipient)")
	}
	return list, nil
}

func (s Set) recipients(name string) ([]seal.Recipient, error) {
	if place, is := strings.CutPrefix(name, "passphrase:"); is {
		secret, err := s.secretAt(place)
		if err != nil {
			return nil, err
		}
		r, err := seal.ForPassphrase(secret.Reveal())
		return []seal.Recipient{r}, err
	}
	path, is := strings.CutPrefix(name, "file:")
	if !is {
		r, err := seal.ParseRecipient(name)
		return []seal.Recipient{r}, err
	}
	f, err := os.Open(s.absolute(path))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return seal.ReadRecipients(f)
}

// absolute is a path of the configuration, or of the working folder.
func (s Set) absolute(path string) string {
	if s.f == nil {
		return path
	}
	return s.f.Absolute(path)
}

// secretAt fetches a secret; a relative path is one from the configuration's folder.
func (s Set) secretAt(place string) (engine.Secret, error) {
	if path, is := strings.CutPrefix(place, "file:"); is {
		place = "file:" + s.absolute(path)
	}
	return fetchSecret(place)
}

// seals tells a keep how what comes into it is sealed and signed, and whose signatures count.
func (s Set) seals(k *keep.Keep, name string) (err error) {
	c := s.f.Keep[name]
	if len(c.Seal) > 0 {
		k.Seal = func() ([]seal.Recipient, error) { return s.SealFor("keep."+name, c.Seal, c.Lone) }
	}
	if c.Sign != "" {
		k.Sign = func() (*seal.Signer, error) {
			pem, err := s.secretAt("file:" + c.Sign)
			if err != nil {
				return nil, err
			}
			signer, err := seal.ParseSigner([]byte(pem.Reveal()+"\n"), nil)
			if err != nil {
				return nil, fault.Wrong("sign-key-bad", "keep.%s: sign: %v", name, err).
					Advise("'grainkeep key --sign' makes one, or 'ssh-keygen -t ed25519'; it must have no passphrase")
			}
			return signer, nil
		}
	}
	for _, one := range c.Signed {
		more, err := s.signatories(one)
		if err != nil {
			return fault.Wrong("signed-by-unclear", "keep.%s: signed_by: %s: %v", name, phrase.Clean(one), err)
		}
		k.Trusted = slices.Concat(k.Trusted, more)
	}
	return nil
}

// Settle sets a keep up that was opened by its place: with what this machine remembers, and as the configuration has it, if
// it is one of those that stand there.
func (s Set) Settle(k *keep.Keep) error {
	s.Remember(k)
	if s.f == nil {
		return nil
	}
	for _, name := range s.f.Keeps() {
		if c := s.f.Keep[name]; c.Store != "" && c.Store == k.Where() || c.Folder != "" && same(s.f.Absolute(c.Folder), k.Where()) {
			return s.seals(k, name)
		}
	}
	return nil
}

// same says whether two paths are of the same folder.
func same(one, other string) bool {
	a, err := os.Stat(one)
	if err != nil {
		return false
	}
	b, err := os.Stat(other)
	return err == nil && os.SameFile(a, b)
}

func (s Set) signatories(one string) (seal.Trusted, error) {
	path, is := strings.CutPrefix(one, "file:")
	if !is {
		who, err := seal.ParseSignatory(one)
		return seal.Trusted{who}, err
	}
	f, err := os.Open(s.f.Absolute(path))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return seal.ReadSignatories(f)
}

// AddKey adds a private key to a ring: of a file that is the configuration's, for this user alone, or a passphrase.
func (s Set) AddKey(r *seal.Ring, name string, ask seal.Ask) error {
	place, secret := strings.CutPrefix(name, "passphrase:")
	if !secret && !strings.HasPrefix(place, "env:") {
		place = "file:" + strings.TrimPrefix(place, "file:")
	}
	got, err := s.secretAt(place)
	if err != nil {
		return err
	}
	if secret {
		return r.AddPassphrase(got.Reveal())
	}
	if err := r.Add([]byte(got.Reveal()+"\n"), ask); err != nil {
		return fault.Wrong("key-unusable", "the key %s cannot be used: %v", phrase.Clean(name), err)
	}
	return nil
}
