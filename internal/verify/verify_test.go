package verify_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/store"
	_ "grainkeep/internal/store/folder"
	"grainkeep/internal/verify"
)

var ctx = context.Background()

// placed gives a dump of two files.
func placed(t *testing.T) *keep.Dump {
	t.Helper()
	k, err := keep.Create(ctx, filepath.Join(t.TempDir(), "k"), false)
	require.NoError(t, err)
	s, err := k.Begin(ctx, "abcd")
	require.NoError(t, err)
	moment := time.Date(2026, 3, 14, 2, 30, 0, 0, time.UTC)
	m := &manifest.Manifest{Format: 1, Keep: k.ID, Job: "nightly", Database: "a", Kind: manifest.Full, Moment: moment,
		Started:  moment,
		Finished: moment, Run: manifest.Run{ID: "abcd", Started: moment},
		Payload: manifest.Payload{Type: manifest.TypeSQL, SQL: &manifest.SQL{Catalog: strings.Repeat("ab", 32)}}}
	draft, err := s.Draft(ctx, m, phrase.DefaultFolderName)
	require.NoError(t, err)
	for name, text := range map[string]string{"10-schema.sql": "CREATE", "20-data/t/part-0001.sql": "INSERT"} {
		require.NoError(t, store.WriteNew(ctx, draft, name, []byte(text)))
		sum := sha256.Sum256([]byte(text))
		m.Files = append(m.Files, manifest.File{Path: name, Bytes: 6, Raw: 6, SHA256: hex.EncodeToString(sum[:])})
	}
	m.StoredBytes, m.RawBytes = 12, 12
	d, err := draft.Place(ctx)
	require.NoError(t, err)
	require.NoError(t, s.Close(ctx))
	return d
}

func TestEveryFindingNamesItsFile(t *testing.T) {
	for say, harm := range map[string]func(dir string) error{
		"10-schema.sql is missing": func(dir string) error {
			return os.Remove(filepath.Join(dir, "10-schema.sql"))
		},
		"10-schema.sql is cut short: 2 of 6 bytes": func(dir string) error {
			return os.Truncate(filepath.Join(dir, "10-schema.sql"), 2)
		},
		"10-schema.sql is 4 bytes too long": func(dir string) error {
			return os.Truncate(filepath.Join(dir, "10-schema.sql"), 10)
		},
		"10-schema.sql is damaged: its digest": func(dir string) error {
			return os.WriteFile(filepath.Join(dir, "10-schema.sql"), []byte("CREATA"), 0o600)
		},
		"10-schema.sql holds the bytes of 20-data/t/pa": func(dir string) error {
			return os.WriteFile(filepath.Join(dir, "10-schema.sql"), []byte("INSERT"), 0o600)
		},
		"20-data/t/part-0001.sql is missing": func(dir string) error {
			return os.RemoveAll(filepath.Join(dir, "20-data"))
		},
		"10-schema.sql is not a regular file": func(dir string) error {
			path := filepath.Join(dir, "10-schema.sql")
			return os.Symlink(path+".real", path+".link")
		},
		"SHA256SUMS is missing": func(dir string) error {
			return os.Remove(filepath.Join(dir, "SHA256SUMS"))
		},
		"SHA256SUMS does not match the manifest": func(dir string) error {
			return os.Truncate(filepath.Join(dir, "SHA256SUMS"), 1<<40)
		},
		"SHA256SUMS is not a regular file": func(dir string) error {
			path := filepath.Join(dir, "SHA256SUMS")
			if err := os.Remove(path); err != nil {
				return err
			}
			return syscall.Mkfifo(path, 0o600)
		},
	} {
		d := placed(t)
		require.NoError(t, harm(d.Path()))
		if strings.HasPrefix(say, "10-schema.sql is not") { // a link in its place, to the very same bytes
			path := filepath.Join(d.Path(), "10-schema.sql")
			require.NoError(t, os.Remove(path+".link"))
			require.NoError(t, os.Rename(path, path+"-real"))
			require.NoError(t, os.Symlink(path+"-real", path))
		}
		r, err := verify.Dump(ctx, d, &event.Feed{})
		require.NoError(t, err)
		require.Len(t, r.Findings, 1, "%s: %v", say, r.Findings)
		require.Contains(t, r.Findings[0], say)
		if !strings.HasPrefix(say, "SHA256") && !strings.Contains(say, "its digest") && !strings.Contains(say,
			"holds the bytes") {
			found, err := verify.Present(ctx, d)
			require.NoError(t, err)
			require.Len(t, found, 1, say)
		}
	}
}

func TestStraysAndWhatCannotBeRead(t *testing.T) {
	d := placed(t)
	feed := &event.Feed{}
	r, err := verify.Dump(ctx, d, feed)
	require.NoError(t, err)
	require.Empty(t, append(r.Findings, r.Strays...))
	require.EqualValues(t, 12, r.Bytes)
	require.EqualValues(t, 12, feed.Gauge().Bytes.Load(), "the bytes that are read are told")
	require.NoError(t, os.WriteFile(filepath.Join(d.Path(), "20-data", "a note"), nil, 0o600))
	r, err = verify.Dump(ctx, d, feed)
	require.NoError(t, err)
	require.Equal(t, []string{"20-data/a note"}, r.Strays)

	stopped, stop := context.WithCancel(ctx)
	stop()
	_, err = verify.Dump(stopped, d, feed)
	require.ErrorIs(t, err, context.Canceled)

	// A manifest that is damaged is a finding, one that cannot be read says nothing.
	d.Err = fault.New("manifest-damaged", nil, "torn").Exit(fault.ProvenBad)
	r, err = verify.Dump(ctx, d, feed)
	require.NoError(t, err)
	require.Equal(t, []string{"torn"}, r.Findings)
	d.Err = fault.New("dump-unreadable", os.ErrPermission, "locked")
	_, err = verify.Dump(ctx, d, feed)
	require.ErrorIs(t, err, os.ErrPermission)
	require.NotEqual(t, fault.ProvenBad, fault.Of(err).Class)
	require.Equal(t, "a; b; c; d; e; and 2 more", verify.Summary(strings.Split("abcdefg", "")))
	require.Equal(t, "a; b", verify.Summary([]string{"a", "b"}))
}
