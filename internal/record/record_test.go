package record

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

type note struct {
	Text string `json:"text"`
	List []struct {
		A int `json:"a"`
	} `json:"list,omitempty"`
}

func TestARecordChecksItself(t *testing.T) {
	data, id, err := Encode(note{Text: "Skerryvoe {[\"\\"})
	require.NoError(t, err)
	require.Equal(t, ID(data), id)
	var n note
	require.NoError(t, Decode(data, &n))
	require.Equal(t, "Skerryvoe {[\"\\", n.Text)
	for i := range data {
		bad := append([]byte{}, data...)
		bad[i] ^= 1
		require.Error(t, Decode(bad, &n), "byte %d", i)
	}
	require.Error(t, Decode(append(data, '\n'), &n))
	require.Error(t, Decode(nil, &n))
	_, _, err = Encode(struct{}{})
	require.Error(t, err, "it has nothing to check")
}

// TestWhatTakesTooMuchMemoryIsNotDecoded: a small text must not become large.
func TestWhatTakesTooMuchMemoryIsNotDecoded(t *testing.T) {
	var n note
	deep := strings.Repeat("[", maxDepth+1) + strings.Repeat("]", maxDepth+1)
	require.ErrorContains(t, Unmarshal([]byte(`{"text": "x", "y": `+deep+`}`), &n), "nested")
	many := `{"list": [` + strings.TrimSuffix(strings.Repeat("{},", 3000), ",") + `]}`
	require.ErrorContains(t, Unmarshal([]byte(many), &n), "more objects")
	quoted := fmt.Sprintf(`{"text": %q}`, strings.Repeat("{[", 5000))
	require.NoError(t, Unmarshal([]byte(quoted), &n), "what stands in a text is no object")
	require.Len(t, n.Text, 10000)
}

func ExampleEncode() {
	data, _, err := Encode(note{Text: "the keep's own words"})
	fmt.Println(strings.Count(string(data), "\n"), err)
	// Output: 4 <nil>
}
