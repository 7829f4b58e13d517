package seal

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/hiddeco/sshsig"
	"golang.org/x/crypto/ssh"
)

// Namespace is that of our signatures: one made for something else does not count.
const Namespace = "grainkeep"

// MaxSignature bounds the text of a signature, in bytes.
const MaxSignature = 16 << 10

// Signer signs with a private key of OpenSSH. It may be used side by side.
type Signer struct{ key ssh.Signer }

// ParseSigner reads a private key. ask is for the passphrase of one that has one.
func ParseSigner(pem []byte, ask Ask) (*Signer, error) {
	key, err := ssh.ParsePrivateKey(pem)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) && ask != nil {
		var secret string
		if secret, err = ask(); err == nil {
			key, err = ssh.ParsePrivateKeyWithPassphrase(pem, []byte(secret))
		}
	}
	if err != nil {
		return nil, fmt.Errorf("it is no private key of OpenSSH that can sign: %.200v", err)
	}
	return &Signer{key}, nil
}

// Name tells the key from others: its fingerprint, as ssh-keygen -l shows it.
func (s *Signer) Name() string { return ssh.FingerprintSHA256(s.key.PublicKey()) }

// Public is the public key, as a line of OpenSSH.
func (s *Signer) Public() string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(s.key.PublicKey())))
}

// Sign gives the signature of some bytes, as a text that ssh-keygen reads.
func (s *Signer) Sign(data []byte) ([]byte, error) {
	sig, err := sshsig.Sign(bytes.NewReader(data), s.key, sshsig.HashSHA512, Namespace)
	if err != nil {
		return nil, err
	}
	return sshsig.Armor(sig), nil
}

// Trusted are those whose signatures count.
type Trusted []Signatory

// Signatory is somebody whose signature counts.
type Signatory struct {
	Name string
	key  ssh.PublicKey
}

// ParseSignatory reads a public key of OpenSSH, with a name behind it, or in front as in a file of allowed signers.
func ParseSignatory(line string) (Signatory, error) {
	line = strings.TrimSpace(line)
	name := ""
	if first, rest, ok := strings.Cut(line, " "); ok && !strings.HasPrefix(first, "ssh-") && !strings.HasPrefix(first, "ecdsa-") &&
		!strings.HasPrefix(first, "sk-") {
		name, line = first, strings.TrimSpace(rest)
		if option, rest, ok := strings.Cut(line, " "); ok && strings.HasPrefix(option, "namespaces=") {
			line = rest
		}
	}
	key, comment, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil {
		return Signatory{}, errors.New("it is no public key of OpenSSH")
	}
	if name == "" {
		name = comment
	}
	if name == "" {
		name = ssh.FingerprintSHA256(key)
	}
	return Signatory{name, key}, nil
}

// ReadSignatories reads public keys, one a line; empty lines and those that begin with # are passed over.
func ReadSignatories(r io.Reader) (Trusted, error) { return readLines(r, ParseSignatory) }

// Digest tells some who are trusted from others.
func (t Trusted) Digest() string {
	h := sha256.New()
	for _, s := range t {
		fmt.Fprintf(h, "%q\n", s.key.Marshal())
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Verify says who of the trusted signed some bytes. The error says why nobody did.
func (t Trusted) Verify(data, signature []byte) (string, error) {
	if len(signature) > MaxSignature {
		return "", errors.New("its signature is too long to be one")
	}
	sig, err := sshsig.Unarmor(signature)
	if err != nil {
		return "", errors.New("its signature is none")
	}
	for _, s := range t {
		if ssh.FingerprintSHA256(s.key) != ssh.FingerprintSHA256(sig.PublicKey) {
			continue
		}
		if err := sshsig.Verify(bytes.NewReader(data), sig, s.key, sig.HashAlgorithm, Namespace); err != nil {
			return "", fmt.Errorf("its signature by %s is not of these bytes", s.Name)
		}
		return s.Name, nil
	}
	return "", fmt.Errorf("it is signed with the key %s, which is not one that is trusted here",
		ssh.FingerprintSHA256(sig.PublicKey))
}

// SignedBy tells the key of a signature from others, without saying whether it is good; empty: it is none.
func SignedBy(signature []byte) string {
	if len(signature) > MaxSignature {
		return ""
	}
	sig, err := sshsig.Unarmor(signature)
	if err != nil {
		return ""
	}
	return ssh.FingerprintSHA256(sig.PublicKey)
}
