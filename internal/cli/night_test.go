package cli

import (
	"bytes"
	"context"
	"errors"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/retain"
	"grainkeep/internal/schedule"
)

func duePlan(t *testing.T, job string, what schedule.What, text string) schedule.Plan {
	t.Helper()
	when, err := config.Schedules(text)
	require.NoError(t, err)
	return schedule.Plan{Job: job, What: what, When: when}
}

func TestWhatAReloadChanged(t *testing.T) {
	before := []schedule.Plan{duePlan(t, "a", schedule.Full, "02:30"), duePlan(t, "b", schedule.Full, "03:00")}
	after := []schedule.Plan{duePlan(t, "a", schedule.Full, "02:30"), duePlan(t, "c", schedule.Drill, "04:00")}
	require.Equal(t, []string{"the drill of c is now due at 04:00, every day", "the full dump of b is due no more"},
		changed(before, after))
	require.Empty(t, changed(before, before))
}

func TestWhatAnExitCodeMeans(t *testing.T) {
	exit := func(line string) string {
		if err := exitError(exec.Command("sh", "-c", line).Run()); err != nil {
			return err.Error()
		}
		return ""
	}
	require.Empty(t, exit("exit 0"))
	require.Empty(t, exit("exit 3"), "warnings are told by the run itself")
	require.Equal(t, "somebody else runs it already", exit("exit 6"))
	require.Equal(t, "a dump was found to be bad", exit("exit 5"))
	require.Contains(t, exit("exit 1"), "exit code 1")
	require.Equal(t, "its process was killed", exit("kill -9 $$"))
}

func TestWhatARunDid(t *testing.T) {
	part := func(name string) journal.Part { return journal.Part{Name: name, Stored: 1 << 20, Rows: 5} }
	for want, r := range map[string]journal.Run{
		"2 databases and 1 folder, 3.0 MiB": {Command: "dump", Parts: []journal.Part{part("a"), part("b"),
			part("+files-papers")}},
		"1 dump, 5 rows": {Command: "drill", Parts: []journal.Part{part("a")}},
		"no room":        {Command: "dump", Reason: "no room"},
		"1 database, 1.0 MiB, warned of shrunk, room-short": {Command: "dump", Result: journal.Warned,
			Parts: []journal.Part{part("a")}, Warnings: []journal.Warning{{Code: "shrunk"}, {Code: "room-short"},
				{Code: "shrunk"}}},
		"": {Command: "keep create"},
	} {
		require.Equal(t, want, whatOf(r))
	}
	require.Equal(t, "–", shortRun("drill-0a1b2c3d4e-20260314T023000"))
	require.Equal(t, "0a1b2c3d", shortRun("0a1b2c3d4e5f"))
}

// TestHowARunEnded: by its error, by what was told meanwhile, and by a signal.
func TestHowARunEnded(t *testing.T) {
	ctx, cancel := context.WithCancelCause(context.Background())
	a := &app{screen: screen{stdout: &bytes.Buffer{}, stderr: &bytes.Buffer{}}, ctx: ctx}
	result := func(err error, warned bool) string {
		o := a.outcome(err, warned)
		return strings.TrimSpace(string(o.Result) + " " + o.Code)
	}
	require.Equal(t, "good", result(nil, false))
	require.Equal(t, "warned", result(nil, true))
	require.Equal(t, "failed failed", result(errors.New("boom"), false))
	require.Equal(t, "refused job-running", result(fault.New("job-running", nil, "x").Exit(fault.Running), false))
	a.mention(fault.New("disk-full", nil, "one of several"))
	require.Equal(t, "failed disk-full", result(nil, false), "a failure that did not end it")
	require.Equal(t, "good", result(nil, false), "it is of that run only")
	cancel(fault.New("stopped", nil, "stopped by SIGTERM"))
	require.Equal(t, "stopped stopped", result(context.Canceled, false))
}

// TestManyThatGoAreOneLine: of the same database and for the same reason; those that stay have a line each.
func TestManyThatGoAreOneLine(t *testing.T) {
	a := &app{screen: screen{stdout: &bytes.Buffer{}, stderr: &bytes.Buffer{}}}
	now := time.Date(2026, 3, 31, 0, 0, 0, 0, time.UTC)
	rows := &thinRows{a: a, t: a.newTable([]string{"Dump", "Moment", "Age", "Kind", "Size", "", "Why"}), now: now}
	for n := range 20 {
		at := now.AddDate(0, 0, n-20)
		d := &keep.Dump{Manifest: &manifest.Manifest{Job: "nightly", Database: "a", Kind: manifest.Full, Zone: "UTC",
			Moment: at, StoredBytes: 1 << 10}}
		v := retain.Verdict{Item: retain.Item{Moment: at}, Stays: n == 10 || n > 16, Why: "no clause keeps it"}
		rows.add(v, d)
	}
	rows.flush()
	lines := strings.Split(string(rows.t.render()), "\n")
	require.Len(t, lines, 1+1+1+1+3)
	require.Regexp(t, `^nightly/a +2026-03-11 .* 10\.0 KiB +go +10 dumps until 2026-03-20 00:00:00 UTC: no clause keeps it$`,
		lines[1])
	require.Regexp(t, `stays`, lines[2])
	require.Regexp(t, ` 6\.0 KiB +go +6 dumps until`, lines[3])
}
