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
	"time"

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

// cutOff marks requests whose answers end after so many bytes. What is shorter comes whole: the end of an answer that is
// broken off just there can stay in a buffer, each time anew.
const (
	cutOff      = "X-Cut-Off"
	cutOffAfter = 3 << 20
)

type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

// between stands between the store and the service, and does to requests what a test wants: true says that it has
// answered.
func between(t *testing.T, s *testserver.S3, meddle func(w http.ResponseWriter, r *http.Request) bool,
	options ...string) store.Store {
	t.Helper()
	place, err := url.Parse(strings.TrimPrefix(s.URL("barn", "dumps"), "s3://barn/dumps?endpoint="))
	require.NoError(t, err)
	proxy := &httputil.ReverseProxy{ErrorLog: log.New(io.Discard, "", 0), Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(place)
		r.Out.Host = r.In.Host // it is signed
	}, ModifyResponse: func(r *http.Response) error {
		if r.Request.Header.Get(cutOff) != "" && r.ContentLength > cutOffAfter {
			r.Body = io.NopCloser(io.MultiReader(io.LimitReader(r.Body, cutOffAfter), broken{}))
		}
		return nil
	}}
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !meddle(w, r) {
			proxy.ServeHTTP(w, r)
		}
	}))
	t.Cleanup(front.Close)
	st, err := store.Make(t.Context(), "s3://barn/dumps?endpoint="+front.URL+strings.Join(options, ""))
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

// TestAStaleListing: what is there is decided by the name and not by a listing, which may be of a while ago.
func TestAStaleListing(t *testing.T) {
	s := service(t)
	seen := map[string]*httptest.ResponseRecorder{}
	inner, err := url.Parse(strings.TrimPrefix(s.URL("barn", "dumps"), "s3://barn/dumps?endpoint="))
	require.NoError(t, err)
	straight := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(inner)
		r.Out.Host = r.In.Host
	}}
	st := between(t, s, func(w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Query().Get("list-type") != "2" || r.URL.Query().Get("max-keys") == "1" {
			return false
		}
		key := r.URL.String()
		if seen[key] == nil {
			seen[key] = httptest.NewRecorder()
			straight.ServeHTTP(seen[key], r)
		}
		w.WriteHeader(seen[key].Code)
		w.Write(seen[key].Body.Bytes())
		return true
	})
	names := func(folder string) (list []string) {
		err := st.List(t.Context(), folder, func(e store.Entry) error {
			list = append(list, e.Name)
			return nil
		})
		if !errors.Is(err, fs.ErrNotExist) {
			require.NoError(t, err)
		}
		return list
	}
	require.Empty(t, names("a"))
	require.NoError(t, store.WriteNew(t.Context(), st, "a/manifest", []byte("x")))
	require.Empty(t, names("a"), "it is of before")
	require.ErrorIs(t, store.WriteNew(t.Context(), st, "a/manifest", []byte("y")), fs.ErrExist)
	data, err := store.ReadAll(t.Context(), st, "a/manifest", 9)
	require.NoError(t, err)
	require.Equal(t, "x", string(data))
	require.NoError(t, store.WriteNew(t.Context(), st, "b/manifest", []byte("x")))
	require.Equal(t, []string{"b/manifest"}, names("b"))
	require.NoError(t, st.Remove(t.Context(), "b/manifest"))
	require.Equal(t, []string{"b/manifest"}, names("b"), "it is of before")
	_, err = store.ReadAll(t.Context(), st, "b/manifest", 9)
	require.ErrorIs(t, err, fs.ErrNotExist)
}

// TestSettingsOfTheService: what is asked of the service goes with each object of a dump, in one piece or in parts.
func TestSettingsOfTheService(t *testing.T) {
	s := service(t)
	headers := map[string]http.Header{}
	st := between(t, s, func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodPost && r.URL.Query().Has("uploads") {
			headers["parts"] = r.Header
			return failure(w, http.StatusForbidden, "AccessDenied")
		}
		if r.Method == http.MethodPut && r.ContentLength > 0 && strings.Count(r.URL.Path, "/") > 2 {
			headers[r.URL.Path[strings.LastIndexByte(r.URL.Path, '/')+1:]] = r.Header
			w.WriteHeader(http.StatusOK)
			return true
		}
		return false
	}, "&encryption=kms:harbour", "&class=COLD", "&lock=30 days")
	require.NoError(t, store.WriteNew(t.Context(), st, "a/small", []byte("x")))
	require.ErrorIs(t, store.WriteNew(t.Context(), st, "a/large", make([]byte, 9<<20)), fs.ErrPermission)
	require.NoError(t, store.WriteNew(t.Context(), st, ".work/lease", []byte("x")))
	for _, name := range []string{"small", "parts"} {
		h := headers[name]
		require.Equal(t, "aws:kms", h.Get("X-Amz-Server-Side-Encryption"), name)
		require.Equal(t, "harbour", h.Get("X-Amz-Server-Side-Encryption-Aws-Kms-Key-Id"), name)
		require.Equal(t, "COLD", h.Get("X-Amz-Storage-Class"), name)
		require.Equal(t, "COMPLIANCE", h.Get("X-Amz-Object-Lock-Mode"), name)
		until, err := time.Parse(time.RFC3339, h.Get("X-Amz-Object-Lock-Retain-Until-Date"))
		require.NoError(t, err)
		require.WithinDuration(t, time.Now().Add(30*24*time.Hour), until, time.Hour)
	}
	require.NotEmpty(t, headers["small"].Get("Content-Md5"))
	require.Empty(t, headers["lease"].Get("X-Amz-Object-Lock-Mode"), "what is under way goes")
}
