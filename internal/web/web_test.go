package web

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func desk(called *[]string) (Desk, *[]string) {
	refused := &[]string{}
	sum := sha256.Sum256([]byte("right"))
	return Desk{Token: func() string { return hex.EncodeToString(sum[:]) },
		Call: func(job string) Answer {
			*called = append(*called, job)
			return map[string]Answer{"nightly": Taken, "busy": Busy}[job] | map[string]Answer{"none": Unknown}[job]
		},
		Healthy: func() (bool, any) { return len(*called) == 0, map[string]string{"x": "y"} },
		Refused: func(from string) { *refused = append(*refused, from) },
		Metrics: Collector{Read: func() (Reading, error) {
			return Reading{Databases: []Sample{{Job: "nightly", Database: "a\"\n\xff{}", State: "good",
				Moment: time.Unix(1_700_000_000, 0), Rows: 7,
				Kinds: map[string]time.Time{"incremental": time.Unix(1_700_000_000, 0)}}},
				Runs: []Ended{{"nightly", "dump", "good", 3}}, Rooms: []Room{{"barn", 9, 1}}}, nil
		}}}, refused
}

func TestWhoMayCall(t *testing.T) {
	var called []string
	d, refused := desk(&called)
	s := httptest.NewServer(d.Server().Handler)
	defer s.Close()
	call := func(method, path, token string) int {
		req, err := http.NewRequest(method, s.URL+path, nil)
		require.NoError(t, err)
		if token != "" {
			req.Header.Set("Authorization", token)
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		return res.StatusCode
	}
	require.Equal(t, 401, call("POST", "/run/nightly", ""))
	require.Equal(t, 401, call("POST", "/run/nightly", "Bearer wrong"))
	require.Equal(t, 401, call("POST", "/run/nightly", "right"))
	require.Equal(t, 400, call("POST", "/run/nightly?token=right", "Bearer right"),
		"a token in an address stands in logs")
	require.Equal(t, 405, call("GET", "/run/nightly", "Bearer right"))
	require.Len(t, *refused, 3)
	require.Empty(t, called)
	require.Equal(t, 200, call("GET", "/health", ""))
	require.Equal(t, 202, call("POST", "/run/nightly", "Bearer right"))
	require.Equal(t, 409, call("POST", "/run/busy", "Bearer right"))
	require.Equal(t, 404, call("POST", "/run/none", "Bearer right"))
	require.Equal(t, 503, call("GET", "/health", ""))
	for range 20 {
		call("POST", "/run/nightly", "Bearer guess")
	}
	require.Equal(t, 429, call("POST", "/run/nightly", "Bearer right"), "guessing is slow")
	d.Token = func() string { return "" }
	require.False(t, d.knows(""), "without a token nobody may call")
}

func TestMetrics(t *testing.T) {
	var called []string
	d, _ := desk(&called)
	s := httptest.NewServer(d.Server().Handler)
	defer s.Close()
	req, err := http.NewRequest("GET", s.URL+"/metrics", nil)
	require.NoError(t, err)
	req.Header.Set("Accept", "application/openmetrics-text; version=1.0.0")
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	data, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.Contains(t, res.Header.Get("Content-Type"), "application/openmetrics-text")
	text := string(data)
	require.Contains(t, text, `grainkeep_database_state{database="a\"\n`+"\uFFFD"+`{}",job="nightly",state="good"} 1`)
	require.Contains(t, text, `grainkeep_dump_moment_seconds{`)
	require.Contains(t, text, `kind="incremental"} 1.7e+09`)
	require.Contains(t, text, `grainkeep_runs{command="dump",job="nightly",result="good"} 3`)
	require.True(t, strings.HasSuffix(text, "# EOF\n"))

	d.Metrics = Collector{Read: func() (Reading, error) { return Reading{}, errors.New("boom") }}
	broken := httptest.NewServer(d.Server().Handler)
	defer broken.Close()
	res, err = http.Get(broken.URL + "/metrics")
	require.NoError(t, err)
	require.Equal(t, 500, res.StatusCode, "what cannot be read is not shown as zero")
}
