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
