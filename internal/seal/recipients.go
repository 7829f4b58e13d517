// Package seal encrypts dumps and signs records, in open formats: age (age-encryption.org/v1), and SSH signatures as
// 'ssh-keygen -Y' makes them. It knows nothing of keeps or configurations.
package seal

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"

	"filippo.io/age"
	"filippo.io/age/agessh"
)

// Kind says what a recipient's key is.
type Kind string

// The kinds of keys.
const (
	Classic    Kind = "X25519"
	Quantum    Kind = "post-quantum" // ML-KEM-768 with X25519
	SSH        Kind = "SSH"
	Passphrase Kind = "passphrase"
)

// Recipient is somebody who can open what is sealed for them.
type Recipient struct {
	Kind Kind
	Name string // as people know it, no secret: the public key, shortened where it is long, and its comment
	to   age.Recipient
}

// maxLine bounds a line with a key: post-quantum ones have some two thousand characters.
const maxLine = 16 << 10

// ParseRecipient reads a public key, as age and OpenSSH write it. What follows it on the line is its comment.
func ParseRecipient(line string) (Recipient, error) {
	line = strings.TrimSpace(line)
	key, comment, _ := strings.Cut(line, " ")
	r := Recipient{}
	var err error
	switch {
	case len(line) > maxLine:
		return r, errors.New("it is too long")
	case strings.HasPrefix(key, "age1pq1"):
		r.Kind = Quantum
		r.to, err = age.ParseHybridRecipient(key)
	case strings.HasPrefix(key, "age1"):
		r.Kind = Classic
		r.to, err = age.ParseX25519Recipient(key)
	case strings.HasPrefix(key, "ssh-"):
		r.Kind = SSH
		r.to, err = agessh.ParseRecipient(line)
		body, rest, _ := strings.Cut(strings.TrimSpace(comment), " ")
		key, comment = key+" "+body, rest
	case strings.HasPrefix(key, "AGE-SECRET-KEY-"), strings.HasPrefix(key, "-----BEGIN"):
		return r, errors.New("it is a private key: a seal takes public ones, and the private one stays away from here")
	default:
		return r, errors.New("it is no public key that is known here: they begin with age1, ssh-ed25519 or ssh-rsa")
	}
	if err != nil {
		return r, errors.New("it is no such public key: " + plain(err))
	}
	r.Name = strings.TrimSpace(shortened(key) + " " + comment)
	return r, nil
}

// plain is an error of the library without its own name in front.
func plain(err error) string {
	text := err.Error()
	for _, lead := range []string{"malformed recipient ", "malformed SSH recipient: "} {
		text = strings.TrimPrefix(text, lead)
	}
	return fmt.Sprintf("%.200s", text)
}

// shortened is a public key as people compare it.
func shortened(key string) string {
	const most = 100
	if len(key) <= most {
		return key
	}
	return key[:40] + "…" + key[len(key)-20:]
}

// ReadRecipients reads public keys, one a line; empty lines and those that begin with # are passed over.
func ReadRecipients(r io.Reader) ([]Recipient, error) { return readLines(r, ParseRecipient) }

// readLines reads what stands one a line; it is an error if nothing does.
func readLines[T any](r io.Reader, parse func(string) (T, error)) (list []T, err error) {
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, maxLine)
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || line[0] == '#' {
			continue
		}
		one, err := parse(line)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
		list = append(list, one)
	}
	if err := lines.Err(); err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, errors.New("it has no public key")
	}
	return list, nil
}

// ForPassphrase is a recipient who knows a passphrase.
func ForPassphrase(secret string) (Recipient, error) {
	to, err := age.NewScryptRecipient(secret)
	return Recipient{Kind: Passphrase, Name: "a passphrase", to: to}, err
}

// Check fails for recipients who cannot be those of one seal.
func Check(list []Recipient) error {
	kinds := map[Kind]int{}
	for _, r := range list {
		kinds[r.Kind]++
	}
	switch {
	case len(list) == 0:
		return errors.New("there is no recipient")
	case kinds[Passphrase] > 0 && len(list) > 1:
		return errors.New("a passphrase cannot be one recipient among several")
	case kinds[Quantum] > 0 && kinds[Quantum] < len(list):
		return errors.New("post-quantum keys and others do not go together: the others would make them worthless")
	}
	return nil
}

// Names are the recipients as people know them.
func Names(list []Recipient) (names []string) {
	for _, r := range list {
		names = append(names, r.Name)
	}
	return names
}
