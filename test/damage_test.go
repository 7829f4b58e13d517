package test

import (
	"context"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/event"
	"grainkeep/internal/keep"
	_ "grainkeep/internal/store/folder"
	"grainkeep/internal/verify"
)

// TestEveryDamageIsNamed flips bits all over a dump, and removes, cuts, grows and
// swaps its files. Each time verify must name the file, and no other.
func TestEveryDamageIsNamed(t *testing.T) {
	for _, p := range everyEngine(t) {
		t.Run(p.product, func(t *testing.T) { damaged(t, p) })
	}
}

func damaged(t *testing.T, p *place) {
	p.need(t)
	dir := t.TempDir()
	path := lines(run(t, dir, -1, "dump", "--from", p.url("roster"), "--to", "keep").stdout)[0]
	var files []string
	require.NoError(t, filepath.WalkDir(path, func(p string, d fs.DirEntry, err error) error {
		if !d.IsDir() {
			files = append(files, p)
		}
		return err
	}))
	require.GreaterOrEqual(t, len(files), 8)
	check := func(file, how string) {
		t.Helper()
		d, err := keep.DumpAt(context.Background(), path, nil)
		name, _ := filepath.Rel(path, file)
		if name == "manifest.json" && err != nil {
			return // removed: then it is no dump
		}
		require.NoError(t, err)
		r, err := verify.Dump(context.Background(), d, &event.Feed{})
		require.NoError(t, err)
		require.Len(t, r.Findings, 1, "%s %s: %v", how, name, r.Findings)
		require.Contains(t, r.Findings[0], name, how)
	}
	r := rand.New(rand.NewPCG(3, 3))
	for i, f := range files {
		data, err := os.ReadFile(f)
		require.NoError(t, err)
		for range 25 {
			bad := append([]byte{}, data...)
			bad[r.IntN(len(bad))] ^= 1 << r.IntN(8)
			require.NoError(t, os.WriteFile(f, bad, 0o600))
			check(f, "flipped a bit in")
		}
		require.NoError(t, os.WriteFile(f, data[:len(data)-1], 0o600))
		check(f, "cut")
		require.NoError(t, os.WriteFile(f, append(data[:len(data):len(data)], 'x'), 0o600))
		check(f, "grew")
		require.NoError(t, os.Remove(f))
		check(f, "removed")
		require.NoError(t, os.WriteFile(f, data, 0o600))
		other := files[(i+1)%len(files)]
		if strings.Contains(f, "20-data") && strings.Contains(other, "20-data") {
			swap(t, f, other)
			d, err := keep.DumpAt(context.Background(), path, nil)
			require.NoError(t, err)
			found, err := verify.Dump(context.Background(), d, &event.Feed{})
			require.NoError(t, err)
			require.Len(t, found.Findings, 2)
			run(t, dir, 5, "verify", path)
			o := run(t, dir, 5, append([]string{"drill", path}, p.scratch()...)...)
			require.Contains(t, o.stdout, "part-0001.sql.zst")
			swap(t, f, other)
		}
	}
	run(t, dir, 0, "verify", path)

	require.NoError(t, os.WriteFile(filepath.Join(path, "note.txt"), nil, 0o600))
	require.Contains(t, run(t, dir, 3, "verify", path).stderr, "note.txt, which is not part of the dump")
	require.NoError(t, os.Remove(filepath.Join(path, "note.txt")))
	crew := map[string]string{"postgres": "public.crew"}[p.engine]
	if crew == "" {
		crew = "crew"
	}
	crew = "20-data/" + crew + "/part-0001.sql.zst"
	flip(t, filepath.Join(path, crew))
	o := run(t, dir, 5, append([]string{"drill", path}, p.scratch()...)...)
	require.Contains(t, o.stdout, crew)
	require.Contains(t, run(t, dir, 0, "list", "--from", "keep").stdout, "failed its drill")
	require.Contains(t, run(t, dir, 1, "restore", path, "--to", p.url(""), "--as", p.name("wrecked")).stderr, crew)
	require.NotContains(t, p.databases(), "wrecked")
	flip(t, filepath.Join(path, "manifest.json"))
	o = run(t, dir, 3, "list", "--from", "keep")
	require.Contains(t, o.stderr, "manifest.json is damaged")
	run(t, dir, 5, "verify", "--from", "keep")
}

func swap(t *testing.T, a, b string) {
	t.Helper()
	require.NoError(t, os.Rename(a, a+".x"))
	require.NoError(t, os.Rename(b, a))
	require.NoError(t, os.Rename(a+".x", b))
}

func flip(t *testing.T, path string) {
	t.Helper()
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	data[len(data)/3] ^= 4
	require.NoError(t, os.WriteFile(path, data, 0o600))
}
