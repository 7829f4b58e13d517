package engine

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
)

// FuzzInserts divides text of others into statements: nothing of it is lost or doubled.
func FuzzInserts(f *testing.F) {
	f.Add([]byte("SET x;\nINSERT INTO t VALUES\n(1),\n(2);\nINSERT INTO t VALUES\n(3);\nCOMMIT;\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		var all []byte
		_, err := Inserts(bytes.NewReader(text), func(int64) {}, func(sql []byte) (int64, error) {
			all = append(all, sql...)
			return 1, nil
		})
		require.True(t, bytes.HasPrefix(text, all))
		if err == nil {
			require.NotContains(t, string(text[len(all):]), "\nINSERT INTO ")
		}
	})
}

// FuzzChanges cuts transactions of others into statements: each has a transaction that begins and ends, and nothing is
// doubled.
func FuzzChanges(f *testing.F) {
	f.Add([]byte("SET x;\n-- transaction 1\nBEGIN;\nINSERT INTO t VALUES (1); -- rows: 1\nCOMMIT;\n-- transaction " +
		"4\nBEGIN;\n" +
		"SET y;\nUPDATE t SET a = '; -- rows: 2'; -- rows: 3\nCOMMIT;\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		last, length, open := int64(0), 0, false
		err := ReadChanges(bytes.NewReader(text), func(l ChangeLine) error {
			length += len(l.SQL)
			if l.Begins {
				require.Greater(t, l.Transaction, last)
				last, open = l.Transaction, true
			}
			if l.Rows >= 0 {
				require.True(t, open, "a statement is of a transaction")
			}
			if l.Ends {
				open = false
			}
			return nil
		})
		require.LessOrEqual(t, length, len(text))
		if err == nil {
			require.False(t, open)
		}
	})
}
