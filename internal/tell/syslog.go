package tell

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"strings"
	"time"
)

// Syslog sends messages of RFC 5424.
type Syslog struct {
	Server   string // "local", the path of a socket, "udp:host:port", "tcp:host:port" or "tls:host:port"
	Facility string // empty: daemon
	CA       string
}

// Facilities are their numbers (RFC 5424, 6.2.1).
var Facilities = map[string]int{"user": 1, "daemon": 3, "auth": 4, "cron": 9, "local0": 16, "local1": 17, "local2": 18,
	"local3": 19,
	"local4": 20, "local5": 21, "local6": 22, "local7": 23}

// severities are those of the kinds (RFC 5424, 6.2.1).
var severities = map[Kind]int{Failure: 3, Stale: 4, Warning: 4, Recovery: 5, Success: 6, Summary: 6, Test: 6}

const localSocket = "/dev/log"

// maxPacket is what a datagram may take; what is longer is cut.
const maxPacket = 2 << 10 // bytes

// Send implements Sender.
func (s Syslog) Send(ctx context.Context, m Message) error {
	network, address := s.where()
	line := s.line(m)
	if network == "unixgram" || network == "udp" {
		line = strings.ToValidUTF8(line[:min(len(line), maxPacket)], "")
	} else {
		line = fmt.Sprintf("%d %s", len(line), line) // RFC 6587, 3.4.1
	}
	conn, err := s.dial(ctx, network, address)
	if err != nil {
		return err
	}
	defer conn.Close()
	if err := conn.SetDeadline(time.Now().Add(30 * time.Second)); err != nil {
		return err
	}
	if _, err := conn.Write([]byte(line)); err != nil {
		return err
	}
	return nil
}

func (s Syslog) where() (network, address string) {
	switch kind, rest, ok := strings.Cut(s.Server, ":"); {
	case s.Server == "local":
		return "unixgram", localSocket
	case strings.HasPrefix(s.Server, "/"):
		return "unixgram", s.Server
	case ok && (kind == "udp" || kind == "tcp" || kind == "tls"):
		return kind, rest
	}
	return "udp", s.Server
}

func (s Syslog) dial(ctx context.Context, network, address string) (net.Conn, error) {
	d := &net.Dialer{Timeout: 10 * time.Second}
	if network != "tls" {
		return d.DialContext(ctx, network, address)
	}
	roots, err := rootsOf(s.CA)
	if err != nil {
		return nil, err
	}
	t := &tls.Dialer{NetDialer: d, Config: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}}
	return t.DialContext(ctx, "tcp", address)
}

// line is the message on one line.
func (s Syslog) line(m Message) string {
	facility, ok := Facilities[s.Facility]
	if !ok {
		facility = Facilities["daemon"]
	}
	text := m.Title
	if len(m.Lines) > 0 {
		text += ": " + strings.Join(m.Lines, "; ")
	}
	return fmt.Sprintf("<%d>1 %s %s grainkeep %d %s - \xEF\xBB\xBF%s", facility*8+severities[m.Kind],
		m.At.UTC().Format(time.RFC3339Nano),
		printable(m.Host), os.Getpid(), printable(string(m.Kind)), text)
}

// printable is a word of a header: printable ASCII.
func printable(s string) string {
	out := strings.Map(func(r rune) rune {
		if r <= ' ' || r > '~' {
			return -1
		}
		return r
	}, s)
	if out == "" {
		return "-"
	}
	return out
}
