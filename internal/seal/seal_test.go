package seal

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// opens says whether a key that was sealed for recipients is opened by a ring, and is the same.
func opens(t *testing.T, sealed []byte, key *Key, r *Ring) bool {
	t.Helper()
	got, err := r.Open(sealed)
	if err != nil {
		require.ErrorIs(t, err, ErrOthers)
		return false
	}
	require.Equal(t, key.String(), got.String())
	return true
}

func TestEachKindOfKeyOpensWhatIsSealedForIt(t *testing.T) {
	dir := t.TempDir()
	now := time.Date(2026, 11, 27, 6, 0, 0, 0, time.UTC)
	secret := func() (string, error) { return "five words of a ferry line", nil }
	classic, err := MakePair(false, "", now)
	require.NoError(t, err)
	quantum, err := MakePair(true, "", now)
	require.NoError(t, err)
	locked, err := MakePair(false, "five words of a ferry line", now)
	require.NoError(t, err)
	for _, args := range [][]string{{"ed25519", ""}, {"rsa", ""}, {"ed25519", "five words of a ferry line"}} {
		file := filepath.Join(dir, args[0]+strings.ReplaceAll(args[1], " ", ""))
		require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", args[0], "-N", args[1], "-C", "office", "-f", file).Run())
	}
	file := func(name string) Pair {
		private, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		public, err := os.ReadFile(filepath.Join(dir, name+".pub"))
		require.NoError(t, err)
		return Pair{private, string(public)}
	}
	other, err := MakePair(false, "", now)
	require.NoError(t, err)
	stranger := &Ring{}
	require.NoError(t, stranger.Add(other.File, nil))
	for name, p := range map[string]Pair{"classic": classic, "quantum": quantum, "locked": locked, "ed25519": file("ed25519"),
		"rsa": file("rsa"), "locked ssh": file("ed25519fivewordsofaferryline")} {
		to, err := ParseRecipient(p.Public)
		require.NoError(t, err, name)
		require.Less(t, len(to.Name), 140, name)
		key, sealed, err := KeyFor([]Recipient{to})
		require.NoError(t, err, name)
		r := &Ring{}
		require.NoError(t, r.Add(p.File, secret), name)
		require.True(t, opens(t, sealed, key, r), name)
		require.False(t, opens(t, sealed, key, stranger), name)
		require.Equal(t, name == "quantum", strings.HasPrefix(key.String(), "AGE-SECRET-KEY-PQ-"), name)
		if name == "classic" || name == "quantum" || name == "locked" {
			lines, err := Lines(p.File, secret)
			require.NoError(t, err, name)
			require.Equal(t, p.Public, lines[0][1], name)
			require.Len(t, lines, 1)
		}
	}

	to, err := ForPassphrase("five words of a ferry line")
	require.NoError(t, err)
	key, sealed, err := KeyFor([]Recipient{to})
	require.NoError(t, err)
	r := &Ring{}
	require.NoError(t, r.AddPassphrase("five other words"))
	require.False(t, opens(t, sealed, key, r))
	require.NoError(t, r.AddPassphrase("five words of a ferry line"))
	require.True(t, opens(t, sealed, key, r))
	require.False(t, opens(t, sealed, key, nil))
}

func TestWhatIsSealedCannotBeChangedOrCut(t *testing.T) {
	key, err := NewKey(false)
	require.NoError(t, err)
	text := bytes.Repeat([]byte("Tern & Skerry\n"), 20000) // several pieces
	var b bytes.Buffer
	w, err := key.Seal(&b)
	require.NoError(t, err)
	_, err = w.Write(text)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	read := func(data []byte) ([]byte, error) {
		r, err := key.Unseal(bytes.NewReader(data))
		if err != nil {
			return nil, err
		}
		return io.ReadAll(r)
	}
	got, err := read(b.Bytes())
	require.NoError(t, err)
	require.True(t, bytes.Equal(text, got))
	for at := 0; at < b.Len(); at += 1 + b.Len()/97 {
		_, err := read(b.Bytes()[:at])
		require.Error(t, err, "cut at %d", at)
		bad := bytes.Clone(b.Bytes())
		bad[at] ^= 1
		_, err = read(bad)
		require.Error(t, err, "byte %d", at)
	}
}

func TestRecipientsThatAreNone(t *testing.T) {
	p, err := MakePair(false, "", time.Now())
	require.NoError(t, err)
	q, err := MakePair(true, "", time.Now())
	require.NoError(t, err)
	private := strings.Fields(string(p.File))
	for line, says := range map[string]string{
		"":                            "no public key",
		"age1":                        "no such public key",
		p.Public[:len(p.Public)-1]:    "no such public key",
		"age1pq1xyz":                  "no such public key",
		"ssh-ed25519 AAAA":            "no such public key",
		"ssh-dss AAAAB3NzaC1kc3MAAAA": "no such public key",
		private[len(private)-1]:       "private key",
		"hello":                       "no public key",
		strings.Repeat("a", 1<<20):    "too long",
	} {
		_, err := ParseRecipient(line)
		require.ErrorContains(t, err, says, "%.40s", line)
	}
	list, err := ReadRecipients(strings.NewReader("# keys\n\n" + p.Public + " office\n" + p.Public + "\n"))
	require.NoError(t, err)
	require.Equal(t, []string{p.Public + " office", p.Public}, Names(list))
	for _, text := range []string{"", "# nothing\n", "nonsense\n"} {
		_, err := ReadRecipients(strings.NewReader(text))
		require.Error(t, err)
	}
	mixed, err := ParseRecipient(q.Public)
	require.NoError(t, err)
	require.ErrorContains(t, Check(append(list, mixed)), "post-quantum")
	pass, err := ForPassphrase("x")
	require.NoError(t, err)
	require.ErrorContains(t, Check(append(list, pass)), "passphrase")
	require.Error(t, Check(nil))
}

// TestSignatures: the stock ssh-keygen takes ours, and we take its.
func TestSignatures(t *testing.T) {
	dir := t.TempDir()
	p, err := MakeSigner("quay")
	require.NoError(t, err)
	s, err := ParseSigner(p.File, nil)
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(p.Public, s.Public()))
	trusted, err := ReadSignatories(strings.NewReader("# those\n" + p.Public + "\n"))
	require.NoError(t, err)
	text := []byte("a manifest\n")
	sig, err := s.Sign(text)
	require.NoError(t, err)
	require.Equal(t, s.Name(), SignedBy(sig))
	who, err := trusted.Verify(text, sig)
	require.NoError(t, err)
	require.Equal(t, "quay", who)
	_, err = trusted.Verify([]byte("another"), sig)
	require.ErrorContains(t, err, "not of these bytes")

	run := func(stdin string, args ...string) string {
		c := exec.Command("ssh-keygen", args...)
		c.Dir, c.Stdin = dir, strings.NewReader(stdin)
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("allowed", "quay "+s.Public()+"\n")
	write("sig", string(sig))
	require.Contains(t, run(string(text), "-Y", "verify", "-f", "allowed", "-I", "quay", "-n", Namespace, "-s", "sig"), "Good")

	write("key", string(p.File))
	for namespace, good := range map[string]bool{Namespace: true, "mail": false} {
		theirs := run(string(text), "-Y", "sign", "-f", "key", "-n", namespace)
		theirs = theirs[strings.Index(theirs, "-----BEGIN"):]
		_, err = trusted.Verify(text, []byte(theirs))
		require.Equal(t, good, err == nil, "%s: %v", namespace, err)
	}
	named, err := ParseSignatory("dumps@quay namespaces=\"grainkeep\" " + s.Public())
	require.NoError(t, err)
	require.Equal(t, "dumps@quay", named.Name)
	stranger, err := MakeSigner("other")
	require.NoError(t, err)
	x, err := ParseSigner(stranger.File, nil)
	require.NoError(t, err)
	sig, err = x.Sign(text)
	require.NoError(t, err)
	_, err = trusted.Verify(text, sig)
	require.ErrorContains(t, err, "not one that is trusted")
}

// FuzzHeaders reads sealed keys and signatures of others: an error, or nothing unusual.
func FuzzHeaders(f *testing.F) {
	p, err := MakePair(false, "", time.Now())
	require.NoError(f, err)
	to, err := ParseRecipient(p.Public)
	require.NoError(f, err)
	_, sealed, err := KeyFor([]Recipient{to})
	require.NoError(f, err)
	q, err := MakeSigner("quay")
	require.NoError(f, err)
	s, err := ParseSigner(q.File, nil)
	require.NoError(f, err)
	sig, err := s.Sign([]byte("text"))
	require.NoError(f, err)
	trusted, err := ReadSignatories(strings.NewReader(q.Public))
	require.NoError(f, err)
	f.Add(sealed)
	f.Add(sig)
	f.Add([]byte(q.Public))
	f.Add(p.File)
	r := &Ring{}
	require.NoError(f, r.Add(p.File, nil))
	f.Fuzz(func(t *testing.T, data []byte) {
		if key, err := r.Open(data); err == nil {
			require.NotEmpty(t, key.String())
		}
		_, err := trusted.Verify([]byte("other text"), data)
		require.Error(t, err)
		SignedBy(data)
		_, _ = ReadRecipients(bytes.NewReader(data))
		_, _ = ReadSignatories(bytes.NewReader(data))
		_ = (&Ring{}).Add(data, nil)
	})
}
