package seal

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"strings"
	"time"

	"filippo.io/age"
	"filippo.io/age/armor"
	"golang.org/x/crypto/ssh"
)

// Pair is a private key as it lies in a file, and the public key that belongs to it.
type Pair struct {
	File   []byte
	Public string
}

// MakePair makes a key that opens what is sealed for it, as age writes one. With a passphrase the file is itself sealed.
func MakePair(quantum bool, passphrase string, now time.Time) (p Pair, err error) {
	key, err := NewKey(quantum)
	if err != nil {
		return p, err
	}
	p.Public = key.Public()
	p.File = fmt.Appendf(nil, "# created: %s\n# public key: %s\n%s\n", now.Format(time.RFC3339), p.Public, key)
	if passphrase == "" {
		return p, nil
	}
	to, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return p, err
	}
	var b bytes.Buffer
	a := armor.NewWriter(&b)
	w, err := age.Encrypt(a, to)
	if err == nil {
		_, err = w.Write(p.File)
	}
	if err == nil {
		err = w.Close()
	}
	if err == nil {
		err = a.Close()
	}
	p.File = b.Bytes()
	return p, err
}

// MakeSigner makes a key that signs, as OpenSSH writes one.
func MakeSigner(comment string) (p Pair, err error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return p, err
	}
	block, err := ssh.MarshalPrivateKey(private, comment)
	if err != nil {
		return p, err
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		return p, err
	}
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
	return Pair{pem.EncodeToMemory(block), strings.TrimSpace(line + " " + comment)}, nil
}

// Lines gives the private keys of a file of age keys, with the public key of each, for a sheet of paper. Those of OpenSSH
// are too long for one.
func Lines(file []byte, ask Ask) (list [][2]string, err error) {
	text := string(file)
	if strings.HasPrefix(text, "-----BEGIN AGE ENCRYPTED FILE-----") {
		inside, err := openProtected(armor.NewReader(strings.NewReader(text)), ask)
		if err != nil {
			return nil, err
		}
		text = string(inside)
	}
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line == "" || line[0] == '#' {
			continue
		}
		key, err := ParseKey(line)
		if err != nil {
			return nil, fmt.Errorf("it is no file of age keys")
		}
		list = append(list, [2]string{key.String(), key.Public()})
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("it has no private key")
	}
	return list, nil
}
