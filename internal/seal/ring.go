package seal

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"filippo.io/age/armor"
	"golang.org/x/crypto/ssh"
)

// Ring holds private keys that open what is sealed. It may be used side by side once nothing is added any more; nil is an
// empty one.
type Ring struct {
	ids  []age.Identity
	load func(*Ring) error
	once sync.Once
	err  error
}

// Later is a ring whose keys are fetched when the first of them is needed.
func Later(load func(*Ring) error) *Ring { return &Ring{load: load} }

// keys are those of the ring.
func (r *Ring) keys() ([]age.Identity, error) {
	if r == nil {
		return nil, nil
	}
	r.once.Do(func() {
		if r.load != nil {
			r.err = r.load(r)
		}
	})
	return r.ids, r.err
}

// Ask asks somebody for the passphrase of a key.
type Ask func() (string, error)

// Add adds the private keys of a file: of age, one a line; one of OpenSSH; or either of them, protected by a passphrase.
func (r *Ring) Add(file []byte, ask Ask) error {
	text := strings.TrimSpace(string(file))
	switch {
	case strings.HasPrefix(text, "-----BEGIN AGE ENCRYPTED FILE-----"):
		return r.addProtected(armor.NewReader(strings.NewReader(text)), ask)
	case strings.HasPrefix(text, "age-encryption.org/"):
		return r.addProtected(bytes.NewReader(file), ask)
	case strings.HasPrefix(text, "-----BEGIN"):
		return r.addSSH([]byte(text+"\n"), ask)
	case strings.HasPrefix(text, "age1"), strings.HasPrefix(text, "ssh-"):
		return errors.New("it is a public key: to open a seal takes the private one")
	}
	ids, err := age.ParseIdentities(strings.NewReader(text))
	if err != nil {
		return errors.New("it is no file of private keys: of age ones, which begin with AGE-SECRET-KEY-, or of OpenSSH")
	}
	r.ids = append(r.ids, ids...)
	return nil
}

// addProtected adds the keys of a file that is itself sealed with a passphrase.
func (r *Ring) addProtected(sealed io.Reader, ask Ask) error {
	text, err := openProtected(sealed, ask)
	if err != nil {
		return err
	}
	if strings.HasPrefix(string(text), "age-encryption.org/") {
		return errors.New("it is sealed twice")
	}
	return r.Add(text, ask)
}

// openProtected gives the text of a file of keys that is sealed with a passphrase.
func openProtected(sealed io.Reader, ask Ask) ([]byte, error) {
	id, err := askedFor(ask)
	if err != nil {
		return nil, err
	}
	in, err := age.Decrypt(sealed, id)
	if err != nil {
		return nil, errors.New("the passphrase does not open it")
	}
	return io.ReadAll(io.LimitReader(in, 1<<20))
}

// maxWork bounds the work that somebody else's header can ask of this machine: 2^20 take some four seconds.
const maxWork = 20

func askedFor(ask Ask) (*age.ScryptIdentity, error) {
	if ask == nil {
		return nil, errors.New("it is protected by a passphrase, and nobody can be asked for it")
	}
	secret, err := ask()
	if err != nil {
		return nil, err
	}
	return scryptOf(secret)
}

func scryptOf(secret string) (*age.ScryptIdentity, error) {
	id, err := age.NewScryptIdentity(secret)
	if err == nil {
		id.SetMaxWorkFactor(maxWork)
	}
	return id, err
}

func (r *Ring) addSSH(pem []byte, ask Ask) error {
	id, err := agessh.ParseIdentity(pem)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		if ask == nil {
			return errors.New("it is protected by a passphrase, and nobody can be asked for it")
		}
		if locked.PublicKey == nil {
			return errors.New("it is protected by a passphrase and of an old form; 'ssh-keygen -p' writes it anew")
		}
		id, err = agessh.NewEncryptedSSHIdentity(locked.PublicKey, pem, func() ([]byte, error) {
			secret, err := ask()
			return []byte(secret), err
		})
	}
	if err != nil {
		return fmt.Errorf("it is no private key of OpenSSH that can open a seal: %.200v", err)
	}
	r.ids = append(r.ids, id)
	return nil
}

// AddPassphrase adds a passphrase for which things were sealed.
func (r *Ring) AddPassphrase(secret string) error {
	id, err := scryptOf(secret)
	if err == nil {
		r.ids = append(r.ids, id)
	}
	return err
}

type ringKey struct{}

// With gives work the keys that it may open seals with. They go with the context, since any step of a command may come
// upon a sealed dump, and none but that one has to do with keys.
func With(ctx context.Context, r *Ring) context.Context { return context.WithValue(ctx, ringKey{}, r) }

// Held is the ring that work was given; nil: none.
func Held(ctx context.Context) *Ring {
	r, _ := ctx.Value(ringKey{}).(*Ring)
	return r
}
