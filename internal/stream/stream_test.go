package stream

import (
	"bytes"
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/step"
)

func sh(line string) *step.Step { return &step.Step{Words: []string{"/bin/sh", "-c", line}} }

// full is a writer that has no room.
type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("no room") }

func TestCommandsDumpAndRestore(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	s := Source{Name: "harbour", Dump: *sh("printf 'a\\0b'; echo talk >&2"), Restore: sh("cat > " + dir +
		"/$GRAINKEEP_TARGET"),
		Check: sh("echo 'messages:  3 '; echo; wc -c < " + dir + "/$GRAINKEEP_TARGET | sed 's/^/bytes: /'")}
	var out bytes.Buffer
	var told []string
	feed := &event.Feed{}
	feed.Listen(func(e event.Event) { told = append(told, e.Text()) })
	require.NoError(t, s.Write(ctx, &out, step.Facts{}, feed))
	require.Equal(t, "a\x00b", out.String(), "byte for byte, and nothing of what it says beside")
	require.Contains(t, told, "talk")
	require.NoError(t, s.Read(ctx, &out, step.Facts{Target: "x"}, feed))
	facts, err := s.Facts(ctx, step.Facts{Target: "x"}, feed)
	require.NoError(t, err)
	require.Equal(t, map[string]string{"messages": "3", "bytes": "3"}, facts)
	require.Equal(t, map[string]string{"a": "1"}, Same(map[string]string{"a": "1", "b": "2"},
		map[string]string{"a": "1", "b": "3"}))
	require.Equal(t, []string{"a is 2 in the restored instance, and was 1",
		"the check of the restored instance does not tell c, which was 4"},
		Differences(map[string]string{"a": "1", "c": "4"}, map[string]string{"a": "2"}, []string{"a", "c"}))

	require.EqualError(t, s.Write(ctx, full{}, step.Facts{}, feed), "no room")
	s.Dump = *sh("echo half; exit 4")
	require.True(t, fault.HasCode(s.Write(ctx, &out, step.Facts{}, feed), "step-failed"))
	require.True(t, fault.HasCode(Source{}.Read(ctx, &out, step.Facts{}, feed), "restore-absent"))
	for _, line := range []string{"echo no colon", "yes 'a: b' | head -100000"} {
		s.Check = sh(line)
		_, err := s.Facts(ctx, step.Facts{}, feed)
		require.True(t, fault.HasCode(err, "facts-unclear"), "%s: %v", line, err)
	}
}
