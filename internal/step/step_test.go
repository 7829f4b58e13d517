package step

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/event"
	"grainkeep/internal/fault"
)

func sh(line string) Step { return Step{Words: []string{"/bin/sh", "-c", line}} }

// heard is a feed with what was told in it.
func heard() (*event.Feed, *[]string) {
	var list []string
	f := &event.Feed{}
	f.Listen(func(e event.Event) { list = append(list, e.Word()+" "+e.Text()) })
	return f, &list
}

func TestAStepIsToldWhatItIsAbout(t *testing.T) {
	t.Setenv("SECRET_OF_OURS", "hunter2")
	feed, list := heard()
	facts := Facts{Job: "nightly", Run: "abc", Databases: []string{"$(reboot)", "-rf"}, Result: "good"}
	s := sh(`echo "$GRAINKEEP_JOB $GRAINKEEP_STEP $GRAINKEEP_RESULT"; echo "$GRAINKEEP_DATABASES"; echo "[$SECRET_OF_OURS]" >&2; pwd`)
	s.Folder = t.TempDir()
	require.NoError(t, s.Run(context.Background(), After, facts, feed))
	require.Equal(t, []string{"output nightly after good", "output $(reboot)", "output -rf", "output []", "output " +
		s.Folder}, (*list)[1:])

	err := sh("echo out of beer >&2; exit 3").Run(context.Background(), Before, facts, feed)
	require.ErrorContains(t, err, "exit status 3")
	require.Equal(t, "it said: out of beer", fault.Of(err).Do)
	err = Step{Words: []string{"/no/such/program"}}.Run(context.Background(), Before, facts, feed)
	require.True(t, fault.HasCode(err, "step-failed"))
	require.NoError(t, sh("sleep 600 >&2 &").Run(shortly(t), Before, facts, feed),
		"a service that stays is none of its business")
}

func shortly(t *testing.T) context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	t.Cleanup(cancel)
	return ctx
}

// TestAStepThatHangs is ended with all that it started, also where it does not listen.
func TestAStepThatHangs(t *testing.T) {
	feed, _ := heard()
	pid := filepath.Join(t.TempDir(), "pid")
	s := sh("sleep 600 & echo $! > " + pid + "; wait")
	s.Limit = 300 * time.Millisecond
	err := s.Run(context.Background(), Before, Facts{}, feed)
	require.True(t, fault.HasCode(err, "step-late"), "%v", err)
	data, err := os.ReadFile(pid)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		stat, err := os.ReadFile("/proc/" + strings.TrimSpace(string(data)) + "/stat")
		return err != nil || strings.Contains(string(stat), ") Z ")
	}, 10*time.Second, 5*time.Millisecond)
}

// TestStepsAfterRunWhateverHappened: and what a killed run left undone is made good once.
func TestStepsAfterRunWhateverHappened(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	log := filepath.Join(dir, "log")
	write := func(word string) Step { return sh("echo " + word + " $GRAINKEEP_RESULT >> " + log) }
	said := func() string {
		data, err := os.ReadFile(log)
		require.NoError(t, err)
		require.NoError(t, os.Remove(log))
		return strings.ReplaceAll(string(data), "\n", ";")
	}
	a := Around{Before: []Step{write("stop"), sh("exit 1"), write("never")}, After: []Step{sh("exit 2"),
		write("start")},
		Folder: filepath.Join(dir, "undone")}
	feed, list := heard()
	_, err := a.Begin(ctx, "nightly-1", Before, After, Facts{Job: "nightly"}, feed)
	require.ErrorContains(t, err, "exit status 1")
	require.ErrorContains(t, err, "exit status 2", "a step after that failed is told too")
	require.Equal(t, "stop;start failed;", said())
	require.FileExists(t, filepath.Join(a.Folder, "nightly-1.json"), "it is tried again by the next start")
	require.NoError(t, os.Remove(filepath.Join(a.Folder, "nightly-1.json")))

	a = Around{Before: []Step{write("stop")}, After: []Step{write("start")}, Folder: a.Folder}
	o, err := a.Begin(ctx, "nightly-2", Before, After, Facts{Job: "nightly"}, feed)
	require.NoError(t, err)
	require.NoError(t, MakeGood(ctx, a.Folder, feed))
	require.Equal(t, "stop;", said(), "what goes on is left alone")
	gone, cancel := context.WithCancel(ctx)
	cancel()
	require.NoError(t, o.Close(gone, Facts{Result: "stopped"}, feed))
	require.Equal(t, "start stopped;", said())

	o, err = a.Begin(ctx, "nightly-3", Before, After, Facts{Job: "nightly"}, feed)
	require.NoError(t, err)
	require.NoError(t, o.lock.Close(), "as if the process were killed")
	said()
	require.NoError(t, MakeGood(ctx, a.Folder, feed))
	require.NoError(t, MakeGood(ctx, a.Folder, feed))
	require.Equal(t, "start killed;", said())
	require.Contains(t, strings.Join(*list, "\n"),
		"warning nightly-3 did not end properly just now: its steps after are run now")

	require.NoError(t, os.WriteFile(filepath.Join(a.Folder, "x.json"), []byte("{}"), 0o600))
	require.ErrorContains(t, MakeGood(ctx, a.Folder, feed), "cannot be used")
	a.Before[0].Optional, a.Before[0].Words = true, []string{"/bin/false"}
	o, err = a.Begin(ctx, "nightly-4", Before, After, Facts{}, feed)
	require.NoError(t, err, "an optional step warns")
	require.NoError(t, o.Close(ctx, Facts{}, feed))
}

// TestAKeepIsMountedOnce: the first who uses it runs the steps before, the last those after; one who was killed is
// made good by the next.
func TestAKeepIsMountedOnce(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	log := filepath.Join(dir, "log")
	a := Around{Before: []Step{sh("echo mount >> " + log)}, After: []Step{sh("echo unmount >> " + log)},
		Folder: filepath.Join(dir, "keeps")}
	said := func() string {
		data, err := os.ReadFile(log)
		require.NoError(t, err)
		return strings.ReplaceAll(string(data), "\n", ";")
	}
	feed, _ := heard()
	one, err := a.Enter(ctx, "barn", Facts{}, feed)
	require.NoError(t, err)
	two, err := a.Enter(ctx, "barn", Facts{}, feed)
	require.NoError(t, err)
	require.NoError(t, one.Leave(ctx, feed))
	require.Equal(t, "mount;", said())
	require.NoError(t, two.Leave(ctx, feed))
	require.Equal(t, "mount;unmount;", said())
	one, err = a.Enter(ctx, "barn", Facts{}, feed)
	require.NoError(t, err)
	require.NoError(t, one.users.Close(), "as if the process were killed")
	two, err = a.Enter(ctx, "barn", Facts{}, feed)
	require.NoError(t, err)
	require.NoError(t, two.Leave(ctx, feed))
	require.Equal(t, "mount;unmount;mount;unmount;mount;unmount;", said())
	one, err = a.Enter(ctx, "barn", Facts{}, feed)
	require.NoError(t, err)
	require.NoError(t, Abandoned(ctx, a.Folder, feed))
	require.NoFileExists(t, filepath.Join(a.Folder, "nothing"))
	require.Equal(t, 4, strings.Count(said(), ";mount;")+1, "it is used")
	require.NoError(t, one.users.Close())
	require.NoError(t, Abandoned(ctx, a.Folder, feed))
	require.NoError(t, Abandoned(ctx, a.Folder, feed))
	require.Equal(t, 4, strings.Count(said(), "unmount;"), "once")
	a.Before = []Step{sh("exit 1")}
	_, err = a.Enter(ctx, "barn", Facts{}, feed)
	require.ErrorContains(t, err, "exit status 1", "a keep that cannot be mounted is not used")
}
