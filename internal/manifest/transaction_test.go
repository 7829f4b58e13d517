package manifest

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// FuzzTransactions reads a list of transactions: what is read is written as it was.
func FuzzTransactions(f *testing.F) {
	f.Add([]byte("1\t2026-03-14T09:30:00.5Z\tbin.000001:4711\t0-1-5\t3\n7\t2026-03-14T09:29:59Z\tbin.000001:4800\t-\t0\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		var list []Transaction
		if ReadTransactions(bytes.NewReader(text), func(x Transaction) error { list = append(list, x); return nil }) != nil {
			return
		}
		var again []Transaction
		for _, x := range list {
			require.NoError(t, ReadTransactions(bytes.NewReader(x.Line()), func(y Transaction) error {
				again = append(again, y)
				return nil
			}))
		}
		require.Len(t, again, len(list))
		for i := range list {
			require.True(t, list[i].Time.Equal(again[i].Time))
			list[i].Time, again[i].Time = time.Time{}, time.Time{}
			require.Equal(t, list[i], again[i])
		}
	})
}
