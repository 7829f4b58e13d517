package test

import (
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// wire stands between the program and a MariaDB or MySQL server, and shows each query
// to whoever listens before the server gets it: what happens at a step happens there.
type wire struct {
	server int // the server's port
	port   int
	mu     sync.Mutex
	listen func(connection int, query string)
	count  int

	stalled atomic.Bool // the server says nothing any more
}

func newWire(t *testing.T, m *testserver.MySQL) *wire {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	w := &wire{server: m.Port, port: l.Addr().(*net.TCPAddr).Port}
	go func() {
		for {
			client, err := l.Accept()
			if err != nil {
				return
			}
			w.count++
			go w.carry(client, w.count)
		}
	}()
	return w
}

// url is a server's address by way of the wire.
func (w *wire) url(direct string) string {
	return strings.Replace(direct, fmt.Sprint(":", w.server), fmt.Sprint(":", w.port), 1)
}

func (w *wire) hear(listen func(connection int, query string)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.listen = listen
}

// turn leads new connections to another server.
func (w *wire) turn(m *testserver.MySQL) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.server = m.Port
}

func (w *wire) carry(client net.Conn, connection int) {
	defer client.Close()
	w.mu.Lock()
	at := fmt.Sprint("127.0.0.1:", w.server)
	w.mu.Unlock()
	server, err := net.Dial("tcp", at)
	if err != nil {
		return
	}
	defer server.Close()
	go func() {
		defer client.Close()
		for b := make([]byte, 64<<10); ; {
			n, err := server.Read(b)
			for w.stalled.Load() { // a server that is stopped closes nothing
				time.Sleep(tick)
			}
			if _, e := client.Write(b[:n]); err != nil || e != nil {
				return
			}
		}
	}()
	// A packet: its length in three bytes, its number, then what is asked and its text.
	for head := make([]byte, 4); ; {
		if _, err := io.ReadFull(client, head); err != nil {
			return
		}
		body := make([]byte, int(head[0])|int(head[1])<<8|int(head[2])<<16)
		if _, err := io.ReadFull(client, body); err != nil {
			return
		}
		const query = 3
		if head[3] == 0 && len(body) > 0 && body[0] == query {
			w.mu.Lock()
			if w.listen != nil {
				w.listen(connection, string(body[1:]))
			}
			w.mu.Unlock()
		}
		if _, err := server.Write(append(head[:4:4], body...)); err != nil {
			return
		}
	}
}
