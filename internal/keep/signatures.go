package keep

import (
	"context"
	"errors"
	"io/fs"

	"grainkeep/internal/clock"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/seal"
	"grainkeep/internal/store"
)

// signer gives what a record says of its signature, and what makes it; nothing, where nobody signs.
func (k *Keep) signer() (*manifest.Signed, func([]byte) ([]byte, error), error) {
	if k.Sign == nil {
		return nil, func([]byte) ([]byte, error) { return nil, nil }, nil
	}
	s, err := k.Sign()
	if err != nil {
		return nil, nil, err
	}
	sign := func(data []byte) ([]byte, error) {
		signature, err := s.Sign(data)
		if err != nil {
			return nil, fault.New("signing-failed", err, "what was written cannot be signed")
		}
		return signature, nil
	}
	return &manifest.Signed{At: clock.Now().UTC(), By: s.Name()}, sign, nil
}

// checkSignature fails unless somebody who is trusted has signed a file.
func checkSignature(ctx context.Context, files store.Reader, name string, data []byte, trusted seal.Trusted) error {
	refused := func(why error) error {
		return fault.New("signature-bad", why, "%s is refused: this keep demands signatures", files.Where(name)).
			Exit(fault.ProvenBad).
			Advise("somebody may have planted or rebuilt it; if it is good, see signed_by in the configuration of the keep")
	}
	signature, err := store.ReadAll(ctx, files, name+manifest.Signature, seal.MaxSignature)
	var large *store.TooLargeError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return refused(errors.New("it is not signed"))
	case errors.Is(err, store.ErrNotRegular), errors.As(err, &large):
		return refused(errors.New("its signature is none"))
	case err != nil:
		return fault.New("dump-unreadable", err, "cannot read %s", files.Where(name+manifest.Signature)).
			Advise("that says nothing about the dump: check who owns it, and the drive")
	}
	if _, err := trusted.Verify(data, signature); err != nil {
		return refused(err)
	}
	return nil
}
