package payload

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
	"grainkeep/internal/manifest"
)

func FuzzIndex(f *testing.F) {
	data, err := json.Marshal([]manifest.ObjectEntry{{Object: engine.Object{Kind: "table", Name: "t",
		Section: engine.Schema, Needs: []string{"x"}},
		File: "10-schema.sql", Offset: 3, Length: 9}})
	require.NoError(f, err)
	f.Add(data, []byte("CREATE TABLE t (a);"))
	f.Fuzz(func(t *testing.T, data, text []byte) {
		list, err := parseIndex(data)
		if err != nil {
			return
		}
		for _, o := range list {
			if sql, err := cut(text, o); err == nil {
				require.Contains(t, string(text), sql)
			}
			require.NotEmpty(t, o.ID())
		}
	})
}
