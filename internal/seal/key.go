package seal

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"filippo.io/age"
)

// Key is one that seals files, and opens them. A dump has one of its own: its files are sealed for it, and it is sealed
// for the recipients. So other recipients need only that to be sealed again. It may be used side by side.
type Key struct {
	id   age.Identity
	to   age.Recipient
	text string
}

// NewKey makes a key. It is a post-quantum one where that of the recipients are.
func NewKey(quantum bool) (*Key, error) {
	if quantum {
		id, err := age.GenerateHybridIdentity()
		if err != nil {
			return nil, err
		}
		return &Key{id, id.Recipient(), id.String()}, nil
	}
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	return &Key{id, id.Recipient(), id.String()}, nil
}

// ParseKey reads a key as String writes it.
func ParseKey(text string) (*Key, error) {
	text = strings.TrimSpace(text)
	if strings.HasPrefix(text, "AGE-SECRET-KEY-PQ-") {
		id, err := age.ParseHybridIdentity(text)
		if err != nil {
			return nil, errors.New("it is no key")
		}
		return &Key{id, id.Recipient(), text}, nil
	}
	id, err := age.ParseX25519Identity(text)
	if err != nil {
		return nil, errors.New("it is no key")
	}
	return &Key{id, id.Recipient(), text}, nil
}

// KeyFor makes the key of a dump for recipients, and seals it for them.
func KeyFor(list []Recipient) (key *Key, sealed []byte, err error) {
	if err := Check(list); err != nil {
		return nil, nil, err
	}
	if key, err = NewKey(list[0].Kind == Quantum); err == nil {
		sealed, err = key.SealFor(list)
	}
	return key, sealed, err
}

// SealFor seals the key itself for recipients.
func (k *Key) SealFor(list []Recipient) ([]byte, error) {
	return Bytes([]byte(k.text+"\n"), list)
}

func sealAll(data []byte, to ...age.Recipient) ([]byte, error) {
	var b bytes.Buffer
	w, err := age.Encrypt(&b, to...)
	if err == nil {
		_, err = w.Write(data)
	}
	if err == nil {
		err = w.Close()
	}
	return b.Bytes(), err
}

// Bytes seals a small thing for recipients.
func Bytes(data []byte, list []Recipient) ([]byte, error) {
	if err := Check(list); err != nil {
		return nil, err
	}
	var to []age.Recipient
	for _, r := range list {
		to = append(to, r.to)
	}
	return sealAll(data, to...)
}

// ErrOthers says that something is sealed for others than those whose keys are here.
var ErrOthers = errors.New("it is sealed for others")

// KeysError says that the keys of a ring could not be fetched.
type KeysError struct{ Err error }

func (e *KeysError) Error() string { return e.Err.Error() }

// Unwrap gives the cause.
func (e *KeysError) Unwrap() error { return e.Err }

// MaxKey bounds a sealed key, in bytes: one header, with a line for each recipient.
const MaxKey = 256 << 10

// Open opens a key that is sealed for recipients, with what is on the ring. The error is ErrOthers where that does not
// open it.
func (r *Ring) Open(sealed []byte) (*Key, error) {
	text, err := r.Unseal(sealed, maxLine)
	if err != nil {
		return nil, err
	}
	return ParseKey(string(text))
}

// Unseal opens a small thing, of at most limit bytes. The error is ErrOthers where nothing on the ring opens it.
func (r *Ring) Unseal(sealed []byte, limit int64) ([]byte, error) {
	keys, err := r.keys()
	if err != nil {
		return nil, &KeysError{err}
	}
	if len(keys) == 0 {
		return nil, ErrOthers
	}
	in, err := age.Decrypt(bytes.NewReader(sealed), keys...)
	var none *age.NoIdentityMatchError
	if errors.As(err, &none) {
		return nil, errors.Join(ErrOthers, unusual(none))
	}
	var text []byte
	if err == nil {
		text, err = io.ReadAll(io.LimitReader(in, limit+1))
	}
	switch {
	case err != nil:
		return nil, fmt.Errorf("it cannot be opened: %w", err)
	case int64(len(text)) > limit:
		return nil, errors.New("it is too large")
	}
	return text, nil
}

// unusual are reasons why a key did not open something, besides that it is another one.
func unusual(none *age.NoIdentityMatchError) error {
	var list []error
	for _, err := range none.Errors {
		if err != nil && !errors.Is(err, age.ErrIncorrectIdentity) {
			list = append(list, err)
		}
	}
	return errors.Join(list...)
}

// Seal gives a writer that seals what is written for the key. Close ends it, and leaves w open.
func (k *Key) Seal(w io.Writer) (io.WriteCloser, error) { return age.Encrypt(w, k.to) }

// Unseal gives the text of what was sealed for the key. A reader that comes to its end has found that nothing is missing
// or changed.
func (k *Key) Unseal(r io.Reader) (io.Reader, error) { return age.Decrypt(r, k.id) }

// SealBytes seals a small thing for the key.
func (k *Key) SealBytes(data []byte) ([]byte, error) { return sealAll(data, k.to) }

// String is the key as age writes it. It is a secret.
func (k *Key) String() string { return k.text }

// Public is the public key that belongs to it.
func (k *Key) Public() string { return fmt.Sprint(k.to) }
