package sftp

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/fault"
	"grainkeep/internal/store"
	"grainkeep/internal/store/storetest"
	"grainkeep/internal/testserver"
)

// server starts one, or skips the test.
func server(t *testing.T) *testserver.SSH {
	t.Helper()
	s, err := testserver.StartSSH(t.TempDir())
	if errors.Is(err, testserver.ErrAbsent) {
		t.Skip(err)
	}
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func TestContract(t *testing.T) {
	s, dir := server(t), t.TempDir()
	open := func() store.Store {
		st, err := store.Make(t.Context(), s.URL(dir+"/deep/keep"))
		require.NoError(t, err)
		t.Cleanup(func() { st.(*Store).Close() })
		return st
	}
	storetest.Contract(t, open(), open)
	found, err := filepath.Glob(dir + "/deep/keep/*/*/" + newName + "*")
	require.NoError(t, err)
	require.Empty(t, found, "nothing half done stays")
}

// TestLinksLeadNowhere: whoever can write there puts a link where a folder or a file was.
func TestLinksLeadNowhere(t *testing.T) {
	s, dir, elsewhere := server(t), t.TempDir(), t.TempDir()
	st, err := store.Open(t.Context(), s.URL(dir))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(elsewhere, "secret"), []byte("x"), 0o600))
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(dir, "folder")))
	require.NoError(t, os.Symlink(filepath.Join(elsewhere, "secret"), filepath.Join(dir, "file")))
	for _, name := range []string{"folder/secret", "file"} {
		_, err := st.Open(t.Context(), name, 0, -1)
		require.ErrorIs(t, err, store.ErrNotRegular, name)
	}
	require.ErrorIs(t, st.Remove(t.Context(), "folder/secret"), store.ErrNotRegular)
	require.ErrorIs(t, store.WriteNew(t.Context(), st, "folder/new", nil), store.ErrNotRegular)
	require.ErrorIs(t, st.List(t.Context(), "folder", func(store.Entry) error { return nil }), store.ErrNotRegular)
	foreign := 0
	require.NoError(t, st.List(t.Context(), "", func(e store.Entry) error {
		if e.Foreign {
			foreign++
		}
		return nil
	}))
	require.Equal(t, 2, foreign)
	require.FileExists(t, filepath.Join(elsewhere, "secret"))
}

// TestHostsAreKnown: no host is trusted at first sight, and none that shows another key.
func TestHostsAreKnown(t *testing.T) {
	s, other, dir := server(t), server(t), t.TempDir()
	refused := func(url string) *fault.Error {
		_, err := store.Open(t.Context(), url)
		require.Error(t, err)
		var f *fault.Error
		require.ErrorAs(t, err, &f)
		return f
	}
	empty := filepath.Join(dir, "hosts")
	require.NoError(t, os.WriteFile(empty, nil, 0o600))
	f := refused(strings.Replace(s.URL(dir), "known_hosts="+s.Known, "known_hosts="+empty, 1))
	require.Equal(t, "host-unknown", f.Code)
	require.Contains(t, f.What, "SHA256:")
	_, line, _ := strings.Cut(f.Do, ": ")
	require.NoError(t, os.WriteFile(empty, []byte(line+"\n"), 0o600))
	_, err := store.Open(t.Context(), strings.Replace(s.URL(dir), "known_hosts="+s.Known, "known_hosts="+empty, 1))
	require.NoError(t, err, "the line that was shown is the one that is needed")

	known, err := os.ReadFile(other.Known)
	require.NoError(t, err)
	_, key, _ := strings.Cut(string(known), " ")
	host, _, _ := strings.Cut(line, " ")
	require.NoError(t, os.WriteFile(empty, []byte(host+" "+key), 0o600))
	require.Equal(t, "host-changed", refused(strings.Replace(s.URL(dir), "known_hosts="+s.Known, "known_hosts="+empty, 1)).Code)

	require.Equal(t, "store-refused", refused(strings.Replace(s.URL(dir), "key="+s.Key, "key="+other.Key, 1)).Code)
	require.NoError(t, os.Chmod(s.Key, 0o644))
	require.Equal(t, "secret-exposed", refused(s.URL(dir)).Code)
}

// TestGoesOnAfterACut: connections that end anywhere cost time, and no byte.
func TestGoesOnAfterACut(t *testing.T) {
	s, dir := server(t), t.TempDir()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	var cuts atomic.Int64
	r := rand.New(rand.NewPCG(3, 4))
	go func() {
		for n := 0; ; n++ {
			c, err := l.Accept()
			if err != nil {
				return
			}
			most := int64(1) << 40
			if n > 0 && n < 5 { // the first opens the store
				most = 200<<10 + r.Int64N(6<<20)
			}
			go carry(c, s.Port, most, &cuts)
		}
	}()
	known, err := os.ReadFile(s.Known)
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	require.NoError(t, os.WriteFile(s.Known, bytes.ReplaceAll(known, fmt.Append(nil, s.Port), fmt.Append(nil, port)), 0o600))
	st, err := store.Open(t.Context(), strings.Replace(s.URL(dir), fmt.Sprint(":", s.Port), fmt.Sprint(":", port), 1))
	require.NoError(t, err)
	defer st.(*Store).Close()
	st.(*Store).c.close()

	data := make([]byte, 24<<20)
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	require.NoError(t, store.WriteNew(t.Context(), st, "a/large", data))
	back, err := store.ReadAll(t.Context(), st, "a/large", int64(len(data)))
	require.NoError(t, err)
	require.True(t, bytes.Equal(data, back))
	require.GreaterOrEqual(t, cuts.Load(), int64(2))
	entries, err := os.ReadDir(filepath.Join(dir, "a"))
	require.NoError(t, err)
	require.Len(t, entries, 1, "nothing half done stays")
}

// carry carries a connection, up to so many bytes either way.
func carry(client net.Conn, port int, most int64, cuts *atomic.Int64) {
	defer client.Close()
	server, err := net.Dial("tcp", fmt.Sprint("127.0.0.1:", port))
	if err != nil {
		return
	}
	defer server.Close()
	ended := make(chan struct{}, 2)
	pass := func(to, from net.Conn) {
		if n, _ := io.CopyN(to, from, most); n == most {
			cuts.Add(1)
		}
		ended <- struct{}{}
	}
	go pass(server, client)
	go pass(client, server)
	<-ended
}
