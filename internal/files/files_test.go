package files

import (
	"archive/tar"
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"grainkeep/internal/fault"
)

var ctx = context.Background()

// makeTree makes a folder with everything that can be in one.
func makeTree(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	write := func(name, text string, mode os.FileMode) {
		t.Helper()
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
		require.NoError(t, os.Chmod(filepath.Join(dir, name), mode))
		at := time.Date(2020, 2, 29, 12, 0, 0, 123456789, time.UTC)
		require.NoError(t, os.Chtimes(filepath.Join(dir, name), at, at))
	}
	write("crew/anna/cv.txt", "skipper", 0o640)
	write("crew/ben/cv.txt", "mate", 0o4755)
	write("odd\nname \xff é;rm -rf", "odd", 0o644)
	write("-rf", "", 0o400)
	write("cargo/big", strings.Repeat("crate ", 100_000), 0o644)
	require.NoError(t, os.Link(filepath.Join(dir, "crew/anna/cv.txt"), filepath.Join(dir, "crew/z-same.txt")))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "out")))
	require.NoError(t, os.Symlink("../crew", filepath.Join(dir, "cargo/in")))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "empty"), 0o1777))
	require.NoError(t, os.Chmod(filepath.Join(dir, "empty"), 0o1777|os.ModeSticky))
	require.NoError(t, unix.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	l, err := net.Listen("unix", filepath.Join(dir, "socket"))
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	f, err := os.Create(filepath.Join(dir, "sparse"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(20<<20))
	_, err = f.WriteAt([]byte("in the middle"), 10<<20)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	if err := unix.Setxattr(filepath.Join(dir, "crew/ben/cv.txt"), "user.note", []byte("a\x00b\n"), 0); err != nil {
		require.ErrorIs(t, err, unix.ENOTSUP)
	}
	return dir
}

// pack reads a folder, and gives its tar.
func pack(t *testing.T, dir string, c Choice) (Totals, []byte, Remarks) {
	t.Helper()
	tree, err := Open(dir, c)
	require.NoError(t, err)
	defer tree.Close()
	var b bytes.Buffer
	totals, err := tree.Write(ctx, Output{Tar: &b}, func(Entry) {})
	require.NoError(t, err)
	return totals, b.Bytes(), tree.Remarks
}

func TestAFolderComesBackExactly(t *testing.T) {
	dir := makeTree(t)
	was, data, remarks := pack(t, dir, Choice{})
	require.Equal(t, []string{"socket"}, remarks.Skipped)
	require.Empty(t, remarks.Changed)
	require.EqualValues(t, map[string]int{"file": 6, "folder": 6, "link": 2, "hard link": 1, "pipe": 1}, was.Kinds)
	to := t.TempDir()
	u, err := Unpack(ctx, bytes.NewReader(data), to, nil)
	require.NoError(t, err)
	is, again, _ := pack(t, to, Choice{})
	require.Equal(t, was.Bare.String(), is.Bare.String())
	if u.Owners+u.Lost == 0 {
		require.Equal(t, was.Sum, is.Sum)
		require.Equal(t, len(data), len(again))
	}
	var st unix.Stat_t
	require.NoError(t, unix.Stat(filepath.Join(to, "sparse"), &st))
	require.Less(t, st.Blocks*512, int64(1<<20), "holes stay holes")
	require.NoError(t, unix.Stat(filepath.Join(to, "crew/z-same.txt"), &st))
	require.EqualValues(t, 2, st.Nlink)

	// Any change is seen, and named.
	require.NoError(t, os.WriteFile(filepath.Join(to, "cargo/big"), []byte("less"), 0o644))
	require.NoError(t, os.Remove(filepath.Join(to, "pipe")))
	require.NoError(t, os.WriteFile(filepath.Join(to, "more"), nil, 0o644))
	other, _, _ := pack(t, to, Choice{})
	require.NotEqual(t, was.Bare, other.Bare)
	c, err := NewComparison(ctx, to)
	require.NoError(t, err)
	require.NoError(t, c.Tar(bytes.NewReader(data), nil))
	require.Equal(t, []string{". came back with another content, mode, time or kind",
		"cargo/big came back with another content, mode, time or kind",
		"pipe did not come back", "more came back, and was not dumped"}, c.Differences(9))
}

func TestWhatIsChosenOfAFolder(t *testing.T) {
	dir := makeTree(t)
	names := func(c Choice) (names []string) {
		_, data, _ := pack(t, dir, c)
		in := tar.NewReader(bytes.NewReader(data))
		for h, err := in.Next(); err == nil; h, err = in.Next() {
			names = append(names, h.Name)
		}
		return names
	}
	require.Equal(t, []string{"./", "crew/", "crew/anna/", "crew/anna/cv.txt", "crew/ben/", "crew/ben/cv.txt",
		"crew/z-same.txt"},
		names(Choice{Only: []string{"crew"}}))
	require.Equal(t, []string{"./", "crew/", "crew/ben/", "crew/ben/cv.txt"}, names(Choice{Only: []string{"*.txt"},
		Except: []string{"anna", "crew/z*"}}))
	require.NotContains(t, names(Choice{Flat: true}), "crew/")
	tree, err := Open(dir, Choice{})
	require.NoError(t, err)
	tree.Avoid(filepath.Join(dir, "crew"))
	tree.Avoid(filepath.Join(dir, "not there"))
	totals, err := tree.Read(ctx, func(e Entry) { require.NotContains(t, e.Name, "crew/") })
	require.NoError(t, err)
	require.Equal(t, 3, totals.Kinds["folder"])
	require.Contains(t, tree.Remarks.Skipped, "crew")
	tree, err = Open(dir, Choice{Except: []string{"cargo"}})
	require.NoError(t, err)
	folders, err := tree.Folders()
	require.NoError(t, err)
	require.Equal(t, []string{"crew", "empty"}, folders)

	// Back comes what is asked for.
	_, data, _ := pack(t, dir, Choice{})
	to := t.TempDir()
	u, err := Unpack(ctx, bytes.NewReader(data), to, []string{"crew/anna", "-rf"})
	require.NoError(t, err)
	require.EqualValues(t, 3, u.Entries)
	require.FileExists(t, filepath.Join(to, "crew/anna/cv.txt"))
	require.NoFileExists(t, filepath.Join(to, "crew/ben/cv.txt"))
	_, err = Unpack(ctx, bytes.NewReader(data), t.TempDir(), []string{"nothing"})
	require.True(t, fault.HasCode(err, "path-absent"))
}

// TestFilesThatChangeWhileTheyAreRead are named, and the tar can be read all the same.
func TestFilesThatChangeWhileTheyAreRead(t *testing.T) {
	dir := t.TempDir()
	for _, n := range []string{"a-shrinks", "b-grows", "c-goes", "d-stays"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, n), []byte(strings.Repeat("x", 100_000)), 0o644))
	}
	require.NoError(t, os.Symlink("/etc", filepath.Join(dir, "e-was-folder")))
	tree, err := Open(dir, Choice{})
	require.NoError(t, err)
	var b bytes.Buffer
	totals, err := tree.Write(ctx, Output{Tar: &b}, func(e Entry) {
		switch e.Name {
		case "a-shrinks":
			require.NoError(t, os.Truncate(filepath.Join(dir, e.Name), 10))
			require.NoError(t, os.Remove(filepath.Join(dir, "c-goes")))
		case "b-grows":
			f, err := os.OpenFile(filepath.Join(dir, e.Name), os.O_APPEND|os.O_WRONLY, 0)
			require.NoError(t, err)
			_, err = f.WriteString("more")
			require.NoError(t, err)
			f.Close()
		}
	})
	require.NoError(t, err)
	require.Equal(t, Remarks{Changed: []string{"a-shrinks", "b-grows"}, Vanished: []string{"c-goes"}}, tree.Remarks)
	require.EqualValues(t, 5, totals.Entries)
	_, err = Unpack(ctx, bytes.NewReader(b.Bytes()), t.TempDir(), nil)
	require.NoError(t, err)
}

// TestHostileTars lead nowhere.
func TestHostileTars(t *testing.T) {
	outside := t.TempDir()
	for name, list := range map[string][]tar.Header{
		"up":       {{Name: "../evil", Typeflag: tar.TypeReg}},
		"absolute": {{Name: outside + "/evil", Typeflag: tar.TypeReg}},
		"through a link": {{Name: "l", Typeflag: tar.TypeSymlink, Linkname: outside}, {Name: "l/evil",
			Typeflag: tar.TypeReg}},
		"a link twice": {{Name: "l", Typeflag: tar.TypeSymlink, Linkname: outside + "/evil"}, {Name: "l",
			Typeflag: tar.TypeReg}},
		"folder on link": {{Name: "l", Typeflag: tar.TypeSymlink, Linkname: outside}, {Name: "l/",
			Typeflag: tar.TypeDir, Mode: 0o777}},
		"hard link out": {{Name: "evil", Typeflag: tar.TypeLink, Linkname: "../../etc/passwd"}},
		"device":        {{Name: "evil", Typeflag: tar.TypeChar, Devmajor: 1, Devminor: 3}},
		"a zero":        {{Name: "x", Typeflag: tar.TypeLink, Linkname: "a/./b"}},
	} {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, h := range list {
			require.NoError(t, w.WriteHeader(&h))
		}
		require.NoError(t, w.Close())
		_, err := Unpack(ctx, bytes.NewReader(b.Bytes()), t.TempDir(), nil)
		require.Error(t, err, name)
		left, err := os.ReadDir(outside)
		require.NoError(t, err)
		require.Empty(t, left, name)
		st, err := os.Stat(outside)
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o755), st.Mode().Perm(), name)
	}
}

func TestAFolderIsPutInPlaceAtOnce(t *testing.T) {
	to := filepath.Join(t.TempDir(), "papers")
	place := func(replace bool) (string, error) {
		p, err := NewPlace(to, replace)
		if err != nil {
			return "", err
		}
		defer p.Abort()
		require.NoError(t, os.WriteFile(filepath.Join(p.Work, "new"), nil, 0o600))
		return p.Commit(time.Date(2026, 3, 14, 2, 30, 0, 0, time.UTC))
	}
	aside, err := place(false)
	require.NoError(t, err)
	require.Empty(t, aside)
	_, err = place(false)
	require.True(t, fault.HasCode(err, "target-exists"))
	aside, err = place(true)
	require.NoError(t, err)
	require.Equal(t, to+"_before_20260314t023000z", aside)
	require.FileExists(t, filepath.Join(aside, "new"))
	list, err := os.ReadDir(filepath.Dir(to))
	require.NoError(t, err)
	require.Len(t, list, 2, "nothing unfinished is left")
}

func FuzzUnpack(f *testing.F) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range []tar.Header{{Name: "d/", Typeflag: tar.TypeDir, Mode: 0o755}, {Name: "d/f",
		Typeflag: tar.TypeReg, Size: 3},
		{Name: "l", Typeflag: tar.TypeSymlink, Linkname: "/etc"}, {Name: "h", Typeflag: tar.TypeLink,
			Linkname: "d/f"}} {
		if err := w.WriteHeader(&h); err != nil {
			f.Fatal(err)
		}
		if h.Size > 0 {
			fmt.Fprint(w, "abc")
		}
	}
	w.Close()
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		if len(data) > 64<<10 {
			return
		}
		base := t.TempDir()
		to := filepath.Join(base, "to")
		require.NoError(t, os.Mkdir(to, 0o700))
		if err := os.WriteFile(filepath.Join(base, "safe"), []byte("safe"), 0o600); err != nil {
			t.Fatal(err)
		}
		_, _ = Unpack(ctx, io.LimitReader(bytes.NewReader(data), 1<<20), to, nil)
		list, err := os.ReadDir(base)
		require.NoError(t, err)
		require.Len(t, list, 2)
		safe, err := os.ReadFile(filepath.Join(base, "safe"))
		require.NoError(t, err)
		require.Equal(t, "safe", string(safe))
	})
}
