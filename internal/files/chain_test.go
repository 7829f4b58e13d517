package files

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// link is a dump of a chain.
type link struct {
	tar, index, gone bytes.Buffer
	totals           Totals
}

// past is what a chain knows.
func past(t *testing.T, chain []*link) *Past {
	t.Helper()
	p := NewPast()
	for i, l := range chain[1:] {
		require.NoError(t, p.Apply(i+1, bytes.NewReader(l.gone.Bytes()), bytes.NewReader(l.index.Bytes())))
	}
	return p
}

// add dumps a folder onto a chain.
func add(t *testing.T, dir string, chain []*link, byContent bool) []*link {
	t.Helper()
	tree, err := Open(dir, Choice{})
	require.NoError(t, err)
	defer tree.Close()
	time.Sleep(racy + 5*time.Millisecond) // what was changed is at rest
	l := &link{}
	out := Output{Tar: &l.tar, Index: &l.index, Gone: &l.gone, ByContent: byContent}
	if len(chain) > 0 {
		out.Past = past(t, chain)
		require.NoError(t, out.Past.Begin(bytes.NewReader(chain[0].index.Bytes())))
	}
	l.totals, err = tree.Write(ctx, out, func(Entry) {})
	require.NoError(t, err)
	return append(chain, l)
}

// unpack puts a chain back.
func unpack(t *testing.T, chain []*link) string {
	t.Helper()
	to := t.TempDir()
	u, err := NewUnpacking(to, nil)
	require.NoError(t, err)
	defer u.Close()
	p := past(t, chain)
	for i, l := range chain {
		require.NoError(t, u.Tar(ctx, bytes.NewReader(l.tar.Bytes()), func(n string) bool { return p.Holds(i, n) }))
	}
	out, err := u.Finish()
	require.NoError(t, err)
	require.Equal(t, chain[len(chain)-1].totals.Entries, out.Entries)
	return to
}

// byHand puts a chain back as an administrator would.
func byHand(t *testing.T, chain []*link) string {
	t.Helper()
	to := t.TempDir()
	for _, l := range chain {
		for _, c := range []struct {
			in   *bytes.Buffer
			line string
		}{{&l.gone, "xargs -0r rm -rf --"}, {&l.tar, "tar -xpf - --xattrs --xattrs-include='*'"}} {
			cmd := exec.Command("sh", "-c", c.line)
			cmd.Dir, cmd.Stdin = to, bytes.NewReader(c.in.Bytes())
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
	}
	return to
}

// TestAChainOfAFolder: whatever happens to a folder, its chain gives what it is, by this program and by hand.
func TestAChainOfAFolder(t *testing.T) {
	hurry(t)
	written, there := int64(0), int64(0)
	for seed := range uint64(6) {
		r := rand.New(rand.NewPCG(seed, 14))
		dir := makeTree(t)
		require.NoError(t, os.Remove(filepath.Join(dir, "sparse")))
		chain := add(t, dir, nil, false)
		for range 12 {
			for range r.IntN(6) {
				shake(t, r, dir)
			}
			chain = add(t, dir, chain, r.IntN(3) == 0)
			if r.IntN(4) == 0 && len(chain) > 2 { // the last one builds on the full instead
				chain = add(t, dir, chain[:1], false)
			}
			want, _, _ := pack(t, dir, Choice{})
			last := chain[len(chain)-1].totals
			require.Equal(t, want.Sum, last.Sum, "seed %d", seed)
			require.Equal(t, want.Kinds, last.Kinds)
			written, there = written+last.Written, there+last.Entries
			require.Equal(t, want.Bytes, last.Bytes)
			for way, to := range map[string]string{"program": unpack(t, chain), "hand": byHand(t, chain)} {
				got, _, _ := pack(t, to, Choice{})
				require.Equal(t, want.Sum, got.Sum, "seed %d, %d dumps, by %s", seed, len(chain), way)
			}
		}
	}
	require.Less(t, written, there/2, "most is as it was")
}

// hurry makes the time short that a file must be at rest.
func hurry(t *testing.T) {
	was := racy
	racy = 20 * time.Millisecond
	t.Cleanup(func() { racy = was })
}

// shake changes something in a folder.
func shake(t *testing.T, r *rand.Rand, dir string) {
	t.Helper()
	var all []string
	require.NoError(t, filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if p != dir && d.Type()&os.ModeSocket == 0 {
			all = append(all, p)
		}
		return err
	}))
	any := func() string { return all[r.IntN(len(all))] }
	fresh := filepath.Join(dir, fmt.Sprintf("new %d\n", r.IntN(1000)))
	st, err := os.Lstat(any())
	require.NoError(t, err)
	a, b := any(), any()
	text := []byte(fmt.Sprint(r.Uint64()))
	switch r.IntN(10) {
	case 0:
		os.WriteFile(fresh, text, 0o644)
	case 1: // in place, with the old time
		if was, err := os.Stat(a); err == nil && was.Mode().IsRegular() {
			os.WriteFile(a, text, 0o644)
			os.Chtimes(a, was.ModTime(), was.ModTime())
		}
	case 2:
		os.Rename(a, fresh)
	case 3:
		os.Rename(a, b)
	case 4:
		os.RemoveAll(a)
	case 5:
		os.Link(a, fresh)
	case 6: // another kind of the same name
		os.RemoveAll(a)
		os.MkdirAll(filepath.Join(a, "deep"), 0o750)
	case 7:
		os.RemoveAll(a)
		os.Symlink("../"+filepath.Base(b), a)
	case 8:
		if st, err := os.Lstat(a); err == nil && st.Mode()&os.ModeSymlink == 0 {
			os.Chmod(a, 0o700|os.FileMode(r.IntN(64)))
		}
	case 9:
		os.MkdirAll(filepath.Join(fresh, "x"), 0o700)
		os.WriteFile(filepath.Join(fresh, "x", st.Name()), text, 0o600)
	}
}

// TestWhatIsNotChangedIsNotWritten, once it has been at rest.
func TestWhatIsNotChangedIsNotWritten(t *testing.T) {
	hurry(t)
	dir := makeTree(t)
	chain := add(t, dir, nil, false)
	chain = add(t, dir, chain, false)
	require.Zero(t, chain[1].totals.Written)
	require.Empty(t, chain[1].gone.Bytes())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "crew/anna/cv.txt"), []byte("master"), 0o640))
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "cargo")))
	chain = add(t, dir, chain, false)
	require.EqualValues(t, 5, chain[2].totals.Written, "the file, its other name, and the folders above them")
	require.Equal(t, "./cargo\x00./cargo/big\x00./cargo/in\x00", chain[2].gone.String())

	require.NoError(t, os.Remove(filepath.Join(dir, "pipe")))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "pipe"), 0o755))
	chain = add(t, dir, chain, false)
	require.Equal(t, "./pipe\x00", chain[3].gone.String(), "what is of another kind now is to be removed first")

	// By content, a file that was only touched is written, for its time; one that only looks another is not.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "-rf"), nil, 0o400))
	at := time.Date(2020, 2, 29, 12, 0, 0, 123456789, time.UTC)
	require.NoError(t, os.Chtimes(filepath.Join(dir, "-rf"), at, at))
	chain = add(t, dir, chain, true)
	require.NotContains(t, chain[4].index.String(), " -rf\x00")
	chain = add(t, dir, chain[:4], false)
	require.Contains(t, chain[4].index.String(), " -rf\x00")
}

// FuzzPast: an index is not trusted; what is taken for one says the same when it is written again.
func FuzzPast(f *testing.F) {
	l := Line{Name: "crew/anna", Kind: File, Size: 7, Time: 1, Change: 2, Inode: 3}
	f.Add(l.append(nil), []byte("./cargo\x00"))
	f.Fuzz(func(t *testing.T, index, gone []byte) {
		p := NewPast()
		if p.Apply(1, bytes.NewReader(gone), bytes.NewReader(index)) != nil || p.Begin(bytes.NewReader(nil)) != nil {
			return
		}
		for last := ""; ; {
			l, err := p.Next()
			require.NoError(t, err)
			if l == nil {
				return
			}
			require.True(t, last == "" || before(last, l.Name) < 0, "%q then %q", last, l.Name)
			require.True(t, p.Holds(1, l.Name))
			require.False(t, p.Holds(0, l.Name))
			last = l.Name
			text := l.append(nil)
			again, err := parseLine(string(text[:len(text)-1]))
			require.NoError(t, err)
			require.Equal(t, *l, again)
		}
	})
}
