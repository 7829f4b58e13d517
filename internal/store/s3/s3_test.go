package s3

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"log"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/store"
	"grainkeep/internal/store/storetest"
	"grainkeep/internal/testserver"
)

// service starts an object store, or skips the test.
func service(t *testing.T) *testserver.S3 {
	t.Helper()
	s, err := testserver.StartS3(t.TempDir())
	if errors.Is(err, testserver.ErrAbsent) {
		t.Skip(err)
	}
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	t.Setenv("AWS_ACCESS_KEY_ID", testserver.S3User)
	t.Setenv("AWS_SECRET_ACCESS_KEY", testserver.S3Secret)
	return s
}

func TestContract(t *testing.T) {
	s := service(t)
	open := func() store.Store {
		st, err := store.Make(t.Context(), s.URL("barn", "deep/dumps"))
		require.NoError(t, err)
		return st
	}
	storetest.Contract(t, open(), open)
	require.FileExists(t, s.Path("barn", "deep/dumps/large/one"), "in the place that its name says")
}

func TestListingsOfManyPages(t *testing.T) {
	s := service(t)
	st, err := store.Make(t.Context(), s.URL("barn", ""))
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(s.Path("barn", "many"), 0o755))
	for n := range 2500 {
		name := "many/" + strings.Repeat("x", n%7) + string(rune('a'+n%26)) + "-" + strings.Repeat("9", n/100) + "-" +
			strings.Repeat("8", n%100)
		require.NoError(t, os.WriteFile(s.Path("barn", name), []byte("x"), 0o644))
	}
	entries, err := os.ReadDir(s.Path("barn", "many"))
	require.NoError(t, err)
	seen := map[string]bool{}
	require.NoError(t, st.List(t.Context(), "many", func(e store.Entry) error {
		require.False(t, seen[e.Name], e.Name)
		seen[e.Name] = true
		return nil
	}))
	require.Len(t, seen, len(entries))
}

// TestAddresses: what is needed to find a store again is in what is shown, and nothing else.
func TestAddresses(t *testing.T) {
	t.Setenv("AWS_REGION", "")
	t.Setenv("AWS_ENDPOINT_URL", "")
	for place, want := range map[string]string{
		"barn": "s3://barn/x", "barn/a/b/": "s3://barn/a/b/x",
		"barn/a?endpoint=https://objects.ternskerry.example&region=north": "s3://barn/a/x?endpoint=" +
			"https://objects.ternskerry.example&region=north",
		"barn?credentials=/etc/secret&class=COLD": "s3://barn/x",
	} {
		a, err := parseAddress(place)
		require.NoError(t, err, place)
		require.Equal(t, want, a.where("x"))
	}
	for _, place := range []string{"", "/a", "key:secret@barn", "barn?endpoint=nowhere", "barn?style=odd", "barn?other=1"} {
		_, err := parseAddress(place)
		require.Error(t, err, place)
	}
}

// cutOff marks requests whose answers end too early.
const cutOff = "X-Cut-Off"

type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

// between stands between the store and the service, and does to requests what a test wants: true says that it has
// answered.
func between(t *testing.T, s *testserver.S3, meddle func(w http.ResponseWriter, r *http.Request) bool) store.Store {
	t.Helper()
	place, err := url.Parse(strings.TrimPrefix(s.URL("barn", "dumps"), "s3://barn/dumps?endpoint="))
	require.NoError(t, err)
	proxy := &httputil.ReverseProxy{ErrorLog: log.New(io.Discard, "", 0), Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(place)
		r.Out.Host = r.In.Host // it is signed
	}, ModifyResponse: func(r *http.Response) error {
		if r.Request.Header.Get(cutOff) != "" {
			r.Body = io.NopCloser(io.MultiReader(io.LimitReader(r.Body, 3<<20), broken{}))
		}
		return nil
	}}
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !meddle(w, r) {
			proxy.ServeHTTP(w, r)
		}
	}))
	t.Cleanup(front.Close)
	st, err := store.Make(t.Context(), "s3://barn/dumps?endpoint="+front.URL)
	require.NoError(t, err)
	return st
}

func failure(w http.ResponseWriter, status int, code string) bool {
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(status)
	io.WriteString(w, "<Error><Code>"+code+"</Code><Message>as the test wants</Message></Error>")
	return true
}

// TestAServiceInTrouble: what passes is tried again; what was cut off goes on; what arrived otherwise is refused.
func TestAServiceInTrouble(t *testing.T) {
	s := service(t)
	data := bytes.Repeat([]byte("tern and skerry "), 1<<20) // two parts
	var n atomic.Int64
	st := between(t, s, func(w http.ResponseWriter, _ *http.Request) bool {
		return n.Add(1)%3 == 0 && failure(w, http.StatusServiceUnavailable, "SlowDown")
	})
	require.NoError(t, store.WriteNew(t.Context(), st, "a/large", data))
	require.NoError(t, store.WriteNew(t.Context(), st, "a/small", []byte("x")))
	r, err := st.Open(t.Context(), "a/large", 0, -1)
	require.NoError(t, err)
	back, err := io.ReadAll(r)
	require.NoError(t, err)
	require.True(t, bytes.Equal(data, back))

	cut := between(t, s, func(_ http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodGet && strings.HasSuffix(r.URL.Path, "/a/large") {
			r.Header.Set(cutOff, "yes")
		}
		return false
	})
	r, err = cut.Open(t.Context(), "a/large", 0, -1)
	require.NoError(t, err)
	back, err = io.ReadAll(r)
	require.NoError(t, err)
	require.True(t, bytes.Equal(data, back))

	spoilt := between(t, s, func(_ http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodPut && strings.HasSuffix(r.URL.Path, "/spoilt") {
			body, _ := io.ReadAll(r.Body)
			body[len(body)/2] ^= 1
			r.Body = io.NopCloser(bytes.NewReader(body))
		}
		return false
	})
	require.Error(t, store.WriteNew(t.Context(), spoilt, "a/spoilt", data))
	require.Error(t, store.WriteNew(t.Context(), spoilt, "b/spoilt", []byte("small")))
	for _, name := range []string{"a/spoilt", "b/spoilt"} {
		_, err := spoilt.Stat(t.Context(), name)
		require.ErrorIs(t, err, fs.ErrNotExist)
	}
}

// TestAServiceWithoutConditions: one that knows no conditional writes is looked at first, and says that it is one.
func TestAServiceWithoutConditions(t *testing.T) {
	s := service(t)
	st := between(t, s, func(w http.ResponseWriter, r *http.Request) bool {
		if r.Header.Get("If-None-Match") != "" || r.Header.Get("If-Match") != "" && r.Method != http.MethodGet {
			return failure(w, http.StatusNotImplemented, "NotImplemented")
		}
		return false
	})
	require.False(t, st.(*Store).Unconditional())
	for _, name := range []string{"a/small", "a/large"} {
		data := []byte("x")
		if name == "a/large" {
			data = bytes.Repeat(data, 9<<20)
		}
		require.NoError(t, store.WriteNew(t.Context(), st, name, data))
		require.ErrorIs(t, store.WriteNew(t.Context(), st, name, append(data, 'y')), fs.ErrExist)
	}
	require.True(t, st.(*Store).Unconditional())
	l, err := st.(store.Leaser).Lease(t.Context(), ".work/a.lease")
	require.NoError(t, err)
	_, err = st.(store.Leaser).Lease(t.Context(), ".work/a.lease")
	require.ErrorAs(t, err, new(*store.HeldError))
	require.NoError(t, l.Release())
}
