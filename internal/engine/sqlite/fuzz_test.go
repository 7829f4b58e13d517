package sqlite

import (
	"testing"

	"github.com/stretchr/testify/require"
	lib "modernc.org/sqlite/lib"
)

// FuzzText prepares text of others as statements: it ends, whatever zeros it holds.
// Statements are explained, not run: running may take for ever by its own right.
func FuzzText(f *testing.F) {
	c, err := openConn(":memory:", lib.SQLITE_OPEN_READWRITE|lib.SQLITE_OPEN_CREATE|lib.SQLITE_OPEN_MEMORY, 0)
	require.NoError(f, err)
	f.Cleanup(func() { c.close() })
	f.Add([]byte("/* */ ; \x00\x00"), "UTF-8")
	f.Add([]byte("-- x"), "delete; VACUUM INTO 'x'")
	f.Fuzz(func(t *testing.T, text []byte, fact string) {
		blank := make([]byte, 0, len(text))
		for _, b := range text { // comments, blanks and zeros only: nothing to run
			if b == 0 || b == ' ' || b == ';' || b == '\n' {
				blank = append(blank, b)
			}
		}
		_ = c.execText(blank)
		facts := map[string]string{"encoding": fact, "page_size": fact, "auto_vacuum": fact, "journal_mode": fact,
			"user_version": fact, "application_id": fact}
		require.Error(t, checkFacts(facts), "no text is all of them")
	})
}
