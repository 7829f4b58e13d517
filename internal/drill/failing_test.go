package drill_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/chain"
	"grainkeep/internal/drill"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/restore"
	"grainkeep/internal/store/folder"
	"grainkeep/internal/store/storetest"
	"grainkeep/internal/verify"
)

// broken gives a keep in a store that can be told to fail, and its folder.
func broken(t *testing.T) (*keep.Keep, *storetest.Failing, string) {
	t.Helper()
	dir := newKeep(t).Where()
	disk, err := folder.Open(dir)
	require.NoError(t, err)
	st := storetest.New(disk)
	k, err := keep.In(ctx, st)
	require.NoError(t, err)
	return k, st, dir
}

// everyFailure runs work once to see which calls it makes of its store, and then once for
// each of them, which fails. prepare is run before each, undisturbed.
func everyFailure(t *testing.T, prepare func(*keep.Keep), work func(*keep.Keep) error, check func(k *keep.Keep,
	what string, err error)) {
	t.Helper()
	k, st, _ := broken(t)
	prepare(k)
	st.FailAt("", 0)
	require.NoError(t, work(k))
	calls := st.Calls()
	require.NotEmpty(t, calls)
	failures := 0
	for kind, n := range calls {
		for at := 1; at <= n; at++ {
			k, st, _ := broken(t)
			st.FailAt("", 0)
			prepare(k)
			st.FailAt(kind, at)
			err := work(k)
			st.FailAt("", 0)
			check(k, kind, err)
			failures++
		}
	}
	t.Logf("%d failures of %d kinds", failures, len(calls))
}

// TestAStoreThatFailsUnderADump: whatever fails, what is listed is intact, and the run
// says that something went wrong, unless all is there all the same.
func TestAStoreThatFailsUnderADump(t *testing.T) {
	world = newWorld()
	everyFailure(t, func(*keep.Keep) {}, func(k *keep.Keep) error {
		res, told, err := takeDumps(t, k)
		if err == nil && len(res.Failed) > 0 {
			err = res.Failed[0].Err
		}
		if err == nil && strings.Contains(strings.Join(told, "\n"), "could not be kept") {
			err = errors.New("told")
		}
		return err
	}, func(k *keep.Keep, what string, err error) {
		dumps, e := k.Dumps(ctx)
		require.NoError(t, e)
		for _, d := range dumps {
			r, e := verify.Dump(ctx, d, &event.Feed{})
			require.NoError(t, e)
			require.Empty(t, r.Findings, "after a failed %s", what)
		}
		if err == nil {
			require.Len(t, dumps, 2, "a failed %s that nobody was told of", what)
		}
		res, _, e := takeDumps(t, k) // nothing is in the way of the next
		require.NoError(t, e, what)
		require.Len(t, res.Done, 2, what)
		entries, e := os.ReadDir(filepath.Join(k.Where()))
		require.NoError(t, e)
		for _, entry := range entries {
			require.NotEqual(t, ".work", entry.Name(), "left after a failed %s", what)
		}
	})
}

// oneDump takes the dumps and gives the one of a.
func oneDump(t *testing.T, k *keep.Keep) *chain.Plan {
	t.Helper()
	_, _, err := takeDumps(t, k)
	require.NoError(t, err)
	dumps, err := k.Dumps(ctx)
	require.NoError(t, err)
	require.NoError(t, dumps[0].Whole(ctx))
	plan, err := chain.Link(dumps).To(dumps[0])
	require.NoError(t, err)
	return plan
}

// TestAStoreThatFailsUnderADrill: what could not be read is no proof, neither good nor bad.
func TestAStoreThatFailsUnderADrill(t *testing.T) {
	world = newWorld()
	var plan *chain.Plan
	var proof *keep.Proof
	everyFailure(t, func(k *keep.Keep) { plan = oneDump(t, k) }, func(*keep.Keep) (err error) {
		proof, err = drill.Run(ctx, drill.Drill{Plan: plan, On: engine.Location{Engine: "fake"}, Tool: "test"},
			&event.Feed{})
		return err
	}, func(_ *keep.Keep, what string, err error) {
		require.ErrorIs(t, err, storetest.ErrInjected, "a failed %s", what)
		require.NotEqual(t, fault.ProvenBad, fault.Of(err).Class)
		require.True(t, proof == nil || len(proof.Differences) == 0, "a failed %s is held against the dump", what)
	})
}

// TestAStoreThatFailsUnderARestore: then nothing is restored, and the target is removed.
func TestAStoreThatFailsUnderARestore(t *testing.T) {
	world = newWorld()
	var plan *chain.Plan
	everyFailure(t, func(k *keep.Keep) { plan = oneDump(t, k) }, func(*keep.Keep) error {
		world.finished, world.discarded = 0, 0
		_, err := restore.Run(ctx, plan, engine.Location{Engine: "fake"}, restore.Options{Name: "new"}, &event.Feed{})
		return err
	}, func(_ *keep.Keep, what string, err error) {
		require.ErrorIs(t, err, storetest.ErrInjected, "a failed %s", what)
		require.Zero(t, world.finished, "a failed %s", what)
		require.Equal(t, 1, world.discarded, "a failed %s", what)
	})
}

// TestAStoreThatFailsUnderVerify: that is an error, and no finding.
func TestAStoreThatFailsUnderVerify(t *testing.T) {
	world = newWorld()
	var plan *chain.Plan
	var r *verify.Report
	everyFailure(t, func(k *keep.Keep) { plan = oneDump(t, k) }, func(*keep.Keep) (err error) {
		r, err = verify.Dump(ctx, plan.Base, &event.Feed{})
		return err
	}, func(_ *keep.Keep, what string, err error) {
		require.ErrorIs(t, err, storetest.ErrInjected, "a failed %s, %v", what, r)
		require.Nil(t, r, "after a failed %s", what)
	})
}

// TestAStoreThatFailsUnderARemoval: what is listed is intact, what is not is recorded.
func TestAStoreThatFailsUnderARemoval(t *testing.T) {
	world = newWorld()
	var plan *chain.Plan
	everyFailure(t, func(k *keep.Keep) { plan = oneDump(t, k) }, func(k *keep.Keep) error {
		return k.Remove(ctx, plan.Base, "a test")
	}, func(k *keep.Keep, what string, err error) {
		require.ErrorIs(t, err, storetest.ErrInjected, "a failed %s", what)
		dumps, e := k.Dumps(ctx)
		require.NoError(t, e)
		for _, d := range dumps {
			r, e := verify.Dump(ctx, d, &event.Feed{})
			require.NoError(t, e)
			require.Empty(t, r.Findings, "half removed after a failed %s", what)
		}
	})
}

// TestAStoreThatFailsUnderAList: a store that cannot be read does not look like an empty one.
func TestAStoreThatFailsUnderAList(t *testing.T) {
	world = newWorld()
	everyFailure(t, func(k *keep.Keep) { oneDump(t, k) }, func(k *keep.Keep) error {
		dumps, err := k.Dumps(ctx)
		if err != nil {
			return err
		}
		for _, d := range dumps {
			if d.Err != nil {
				return d.Err
			}
			if d.ProofErr != nil {
				return d.ProofErr
			}
		}
		found, err := k.Audit(ctx, dumps)
		if err == nil {
			err = errors.Join(found.Broken...)
		}
		return err
	}, func(_ *keep.Keep, what string, err error) {
		if what == "read" && err == nil {
			return // an end of file that was told late
		}
		require.ErrorIs(t, err, storetest.ErrInjected, "a failed %s", what)
	})
}

func TestWhatIsRestoredIsWhole(t *testing.T) {
	world = newWorld()
	plan := oneDump(t, newKeep(t))
	run := func(ctx context.Context) error {
		world.finished, world.discarded = 0, 0
		_, err := restore.Run(ctx, plan, engine.Location{Engine: "fake"}, restore.Options{Name: "new"}, &event.Feed{})
		require.Equal(t, 1, world.finished+world.discarded)
		return err
	}
	require.NoError(t, run(ctx))
	world.extra = 1 // surplus rows
	require.True(t, fault.HasCode(run(ctx), "rows-missing"))
	world.extra = 0
	world.fail["exec view w"] = errors.New("no")
	world.fail["discard"] = errors.New("nor can it be removed")
	err := run(ctx)
	require.True(t, fault.HasCode(err, "restore-failed"))
	require.ErrorContains(t, err, "nor can it be removed")
	p, err := drill.Run(ctx, drill.Drill{Plan: plan, On: engine.Location{Engine: "fake"}, Tool: "test"}, &event.Feed{})
	require.NoError(t, err, "both fail")
	require.Contains(t, p.Differences[0], "the view w could not be restored")
	delete(world.fail, "exec view w")
	_, err = drill.Run(ctx, drill.Drill{Plan: plan, On: engine.Location{Engine: "fake"}, Tool: "test"}, &event.Feed{})
	require.True(t, fault.HasCode(err, "scratch-left"))

	// A damaged dump whose scratch database cannot be removed either.
	part := filepath.Join(plan.Base.Path(), plan.Base.Manifest.Tables()[1].Files[0])
	require.NoError(t, os.WriteFile(part, []byte("x"), 0o600))
	p, err = drill.Run(ctx, drill.Drill{Plan: plan, On: engine.Location{Engine: "fake"}, Tool: "test"}, &event.Feed{})
	require.NoError(t, err)
	require.False(t, p.Proven)
	require.Contains(t, p.Differences[0], "part-0001.sql.zst")
	delete(world.fail, "discard")

	stopped, stop := context.WithCancelCause(ctx)
	stop(errors.New("enough"))
	require.Error(t, run(stopped))
	require.Zero(t, world.finished, "a restore that was stopped is not put into place")
}
