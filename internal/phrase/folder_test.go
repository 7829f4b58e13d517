package phrase

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestNamesOfFolders(t *testing.T) {
	d := Named{Source: "quay", Host: "db1", Database: "../x", Kind: "full", Note: "before the move",
		Moment: time.Date(2026, 3, 14, 2, 30, 0, 0, time.UTC)}
	mark := func(s string) string { return "<" + s + ">" }
	for text, want := range map[string]string{"": "20260314T023000Z-full",
		"{source}-{stamp}-{kind}-{note}":  "<quay>-20260314T023000Z-full-<before the move>",
		"{database}_{date}-{time}_{host}": "<../x>_20260314-023000_<db1>"} {
		n, err := ParseFolderName(text)
		require.NoError(t, err, text)
		got := n.For(d, mark)
		require.Equal(t, want, got)
		at, ok := FolderTime(got)
		require.True(t, ok)
		require.Equal(t, d.Moment, at)
	}
	d.Note = ""
	n, err := ParseFolderName("{stamp}-{note}")
	require.NoError(t, err)
	require.Equal(t, "20260314T023000Z", n.For(d, mark))
	for text, say := range map[string]string{"{date}": "the same name", "{kind}-{stamp}": "does not sort by time",
		"{stamp}/x": "cannot stand",
		"{stampp}":  "no placeholder {stampp}", "$(reboot)-{stamp}": "cannot stand", ".{stamp}": "begins with",
		"-rf{stamp}":               "begins with",
		"20250101t000000z-{stamp}": "digits before the time"} {
		_, err := ParseFolderName(text)
		require.ErrorContains(t, err, say, text)
	}
}
