package retain

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	_ "grainkeep/internal/store/folder"
)

var ctx = context.Background()

// placed puts the dumps of some days into a keep; each word is a kind, which builds on the full before it.
func placed(t *testing.T, k *keep.Keep, kinds ...manifest.Kind) (dumps []*keep.Dump) {
	t.Helper()
	base := ""
	for n, kind := range kinds {
		at := time.Date(2026, 3, 1+n, 2, 30, 0, 0, time.UTC)
		run := fmt.Sprintf("abcd%d", n)
		m := &manifest.Manifest{Format: 1, Keep: k.ID, Job: "nightly", Database: "a", Kind: kind, Moment: at, Zone: "UTC",
			Started: at, Finished: at, Run: manifest.Run{ID: run, Started: at, Databases: []string{"a"}},
			Payload: manifest.Payload{Type: manifest.TypeSQL, SQL: &manifest.SQL{Catalog: strings.Repeat("ab", 32)}}}
		if kind != manifest.Full {
			m.Base, m.Payload.SQL.Found = base, manifest.ByComparison
		}
		s, err := k.Begin(ctx, run)
		require.NoError(t, err)
		draft, err := s.Draft(ctx, m, phrase.DefaultFolderName)
		require.NoError(t, err)
		d, err := draft.Place(ctx)
		require.NoError(t, err)
		require.NoError(t, s.Close(ctx))
		require.NoError(t, k.RecordRun(ctx, run, "nightly", []*keep.Dump{d}, nil))
		if kind == manifest.Full {
			base = d.ID
		}
		dumps = append(dumps, d)
	}
	return dumps
}

// TestThinningAKeep: what goes is gone and recorded; what is on hold, is read, or is built on stays.
func TestThinningAKeep(t *testing.T) {
	k, err := keep.Create(ctx, t.TempDir(), false)
	require.NoError(t, err)
	dumps := placed(t, k, manifest.Full, manifest.Full, manifest.Full, manifest.Full, manifest.Differential, manifest.Full)
	r, err := phrase.ParseRetain("newest 1 full, newest 1 differential")
	require.NoError(t, err)
	th := Thinning{Keep: k, Job: "nightly", Retain: r, Zone: time.UTC, Now: time.Date(2026, 3, 9, 0, 0, 0, 0, time.UTC)}
	require.NoError(t, k.Hold(ctx, keep.Hold{Dump: dumps[0].ID, Since: th.Now, Why: "audit"}))
	pin, err := k.Pin(ctx, dumps[1].ID)
	require.NoError(t, err)
	words := func(o *Outlook) (list []string) {
		for _, v := range o.Verdicts {
			list = append(list, fmt.Sprint(v.Stays, " ", v.Why))
		}
		return list
	}
	o, err := th.Look(ctx)
	require.NoError(t, err)
	require.Equal(t, []string{"true on hold: audit", "true it is being read now", "false no clause keeps it",
		"true " + dumps[4].Short() + " builds on it", "true newest 1 differential", "true newest 1 full"}, words(o))
	require.NoError(t, pin.Release())
	lease, err := k.LockJob(ctx, "nightly")
	require.NoError(t, err)
	_, err = th.Apply(ctx, nil)
	require.ErrorContains(t, err, "already running", "a run and a thinning exclude each other")
	require.NoError(t, lease.Release())
	var gone []string
	_, err = th.Apply(ctx, func(v Verdict, _ *keep.Dump) { gone = append(gone, v.ID) })
	require.NoError(t, err)
	require.Equal(t, []string{dumps[2].ID, dumps[1].ID}, gone, "the newest first")
	left, err := k.Dumps(ctx)
	require.NoError(t, err)
	require.Len(t, left, 4)
	a, err := k.Audit(ctx, left)
	require.NoError(t, err)
	require.Empty(t, a.Missing, "that they went is recorded")

	// Of a database of which a dump cannot be read, nothing goes.
	require.NoError(t, k.Release(ctx, dumps[0].ID))
	require.NoError(t, os.WriteFile(filepath.Join(dumps[5].Path(), manifest.Name), []byte("{"), 0o600))
	o, err = th.Look(ctx)
	require.NoError(t, err)
	require.Len(t, o.Blocked, 1)
	for _, v := range o.Verdicts {
		require.True(t, v.Stays, v.Why)
	}
}
