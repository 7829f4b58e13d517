package tell

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"io"
	"math/big"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/require"

	"grainkeep/internal/journal"
)

var ctx = context.Background()

// hostile is a text that must harm nothing, as it is before it is cleaned.
const hostile = "bookings\r\nBcc: everybody@elsewhere.example\r\n\r\n<script>alert(1)</script>"

// box is a mailbox that a test reads.
type box struct {
	got   chan string
	users map[string]string
}

func (b *box) NewSession(*smtp.Conn) (smtp.Session, error) { return &session{b: b}, nil }

type session struct {
	b      *box
	from   string
	to     []string
	inside bool
}

func (s *session) AuthMechanisms() []string { return []string{sasl.Plain} }
func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if s.b.users[user] != password {
			return smtp.ErrAuthFailed
		}
		s.inside = true
		return nil
	}), nil
}
func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	if len(s.b.users) > 0 && !s.inside {
		return smtp.ErrAuthRequired
	}
	s.from = from
	return nil
}
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error { s.to = append(s.to, to); return nil }
func (s *session) Data(r io.Reader) error {
	data, err := io.ReadAll(r)
	s.b.got <- strings.Join(s.to, ",") + "\n" + string(data)
	return err
}
func (s *session) Reset()        {}
func (s *session) Logout() error { return nil }

// certificate makes one for 127.0.0.1, and the file that trusts it.
func certificate(t *testing.T) (tls.Certificate, string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.ParseIP("127.0.0.1")},
		IsCA:        true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, path
}

func startMail(t *testing.T, b *box, how string, cert tls.Certificate) string {
	t.Helper()
	s := smtp.NewServer(b)
	s.AllowInsecureAuth = false
	s.TLSConfig = &tls.Config{Certificates: []tls.Certificate{cert}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := l.Addr().String()
	if how == "tls" {
		l = tls.NewListener(l, s.TLSConfig)
	}
	go s.Serve(l)
	t.Cleanup(func() { s.Close() })
	return at
}

func TestMailArrives(t *testing.T) {
	cert, ca := certificate(t)
	m := Message{ID: "1", Kind: Failure, At: time.Now(), Host: "quay", Title: clean(hostile) + " failed",
		Lines: []string{clean(hostile), "→ do it again"},
		Table: &Table{Header: []string{"Database", "State"}, Rows: [][]string{{"bookings", "good"}, {"<b>cargo</b>",
			"late"}}}}
	for _, how := range []string{"starttls", "tls"} {
		b := &box{got: make(chan string, 1), users: map[string]string{"keeper": "hunter2"}}
		s := Mail{Server: startMail(t, b, how, cert), TLS: how, CA: ca, User: "keeper", Secret: func() (string,
			error) {
			return "hunter2", nil
		},
			From: "keep@ternskerry.example", To: []string{"office@ternskerry.example", "night@ternskerry.example"}}
		require.NoError(t, s.Send(ctx, m), how)
		to, raw, _ := strings.Cut(<-b.got, "\n")
		require.Equal(t, "office@ternskerry.example,night@ternskerry.example", to, "nobody else")
		got, err := mail.ReadMessage(strings.NewReader(raw))
		require.NoError(t, err)
		require.Empty(t, got.Header.Get("Bcc"))
		subject, err := new(mime.WordDecoder).DecodeHeader(got.Header.Get("Subject"))
		require.NoError(t, err)
		require.True(t, strings.HasPrefix(subject, "[grainkeep] bookings"), subject)
		_, params, err := mime.ParseMediaType(got.Header.Get("Content-Type"))
		require.NoError(t, err)
		parts := multipart.NewReader(got.Body, params["boundary"])
		plain, page := part(t, parts), part(t, parts)
		require.Contains(t, plain, "Database      State\r\nbookings      good\r\n<b>cargo</b>  late")
		require.Contains(t, page, "&lt;b&gt;cargo&lt;/b&gt;")
		require.NotContains(t, page, "<script>")
		require.Error(t, func() error { s.CA = ""; return s.Send(ctx, m) }(), "whom nobody vouches for is not told")
		s.CA, s.Secret = ca, func() (string, error) { return "wrong", nil }
		err = s.Send(ctx, m)
		require.Error(t, err)
		require.NotContains(t, err.Error(), "wrong")
	}
}

func part(t *testing.T, r *multipart.Reader) string {
	t.Helper()
	p, err := r.NextRawPart()
	require.NoError(t, err)
	data, err := io.ReadAll(quotedprintable.NewReader(p))
	require.NoError(t, err)
	return string(data)
}

func clean(s string) string { return strings.NewReplacer("\r", `\r`, "\n", `\n`).Replace(s) }

func TestWebhookArrives(t *testing.T) {
	var body []byte
	var head http.Header
	code := 204
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ = io.ReadAll(r.Body)
		head = r.Header
		if code == 302 {
			http.Redirect(w, r, "http://127.0.0.1:1/", code)
			return
		}
		w.WriteHeader(code)
	}))
	defer s.Close()
	w := Webhook{URL: s.URL + "/x?token=hunter2", Secret: func() (string, error) { return "shared", nil }}
	require.NoError(t, w.Send(ctx, Message{ID: "7", Kind: Stale, Job: "nightly", Title: "nightly is late"}))
	var got map[string]any
	require.NoError(t, json.Unmarshal(body, &got))
	require.EqualValues(t, 1, got["grainkeep"])
	require.Equal(t, "stale", got["kind"])
	require.Equal(t, Sign("shared", head.Get(TimeHeader), body), head.Get(SignatureHeader))
	for _, code = range []int{500, 302} {
		require.ErrorContains(t, w.Send(ctx, Message{}), strconv.Itoa(code))
	}
	s.Close()
	require.NotContains(t, w.Send(ctx, Message{}).Error(), "hunter2", "the address may hold a token")
}

func TestSyslogArrives(t *testing.T) {
	cert, ca := certificate(t)
	m := Message{Kind: Failure, At: time.Date(2026, 3, 14, 2, 30, 0, 0, time.UTC), Host: "quay host",
		Title: "nightly: the dump failed",
		Lines: []string{"no room"}}
	const want = "<131>1 2026-03-14T02:30:00Z quayhost grainkeep "
	socket := filepath.Join(t.TempDir(), "log")
	for _, how := range []string{"unix", "udp", "tcp", "tls"} {
		var read func() string
		var server string
		switch how {
		case "unix", "udp":
			network, at := "udp", "127.0.0.1:0"
			if how == "unix" {
				network, at = "unixgram", socket
			}
			c, err := net.ListenPacket(network, at)
			require.NoError(t, err)
			defer c.Close()
			server = map[string]string{"unix": socket, "udp": "udp:" + c.LocalAddr().String()}[how]
			read = func() string {
				buf := make([]byte, 4096)
				n, _, err := c.ReadFrom(buf)
				require.NoError(t, err)
				return string(buf[:n])
			}
		default:
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			server = how + ":" + l.Addr().String()
			if how == "tls" {
				l = tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{cert}})
			}
			defer l.Close()
			got := make(chan string, 1)
			go func() {
				c, err := l.Accept()
				if err != nil {
					return
				}
				data, _ := io.ReadAll(bufio.NewReader(c))
				length, rest, _ := strings.Cut(string(data), " ")
				if n, err := strconv.Atoi(length); err != nil || n != len(rest) {
					rest = "wrongly framed: " + string(data)
				}
				got <- rest
			}()
			read = func() string { return <-got }
		}
		require.NoError(t, Syslog{Server: server, Facility: "local0", CA: ca}.Send(ctx, m), how)
		line := read()
		require.True(t, strings.HasPrefix(line, want), line)
		require.True(t, strings.HasSuffix(line, " failure - \xEF\xBB\xBFnightly: the dump failed: no room"), line)
	}
}

// recorder keeps what it is sent.
type recorder struct {
	got []Message
	err error
}

func (r *recorder) Send(_ context.Context, m Message) error {
	if r.err == nil {
		r.got = append(r.got, m)
	}
	return r.err
}

func TestTheSameTroubleIsToldOnce(t *testing.T) {
	j, _, err := journal.Open(ctx, t.TempDir())
	require.NoError(t, err)
	defer j.Close()
	now := time.Date(2026, 3, 14, 2, 30, 0, 0, time.UTC)
	all, few := &recorder{}, &recorder{}
	every := []Kind{Failure, Warning, Success, Recovery, Stale, Summary, Test}
	tl := &Teller{Journal: j, Now: func() time.Time { return now }, Channels: []Channel{{Name: "all", On: every,
		Again: time.Hour, Sender: all},
		{Name: "few", Jobs: []string{"other"}, Again: time.Hour, Sender: few}}}
	after := func(d time.Duration, result journal.Result, code string, warnings ...string) []string {
		t.Helper()
		now = now.Add(d)
		r := journal.Run{ID: "r", Command: "dump", Job: "nightly", Result: result, Code: code, Reason: code}
		for _, w := range warnings {
			r.Warnings = append(r.Warnings, journal.Warning{Code: w, Text: w})
		}
		require.NoError(t, tl.Run(ctx, r))
		require.Empty(t, tl.Send(ctx))
		var titles []string
		for _, m := range all.got {
			titles = append(titles, string(m.Kind)+": "+m.Title)
		}
		all.got = nil
		return titles
	}
	require.Equal(t, []string{"success: nightly: the dump is done"}, after(0, journal.Good, ""))
	require.Equal(t, []string{"failure: nightly: the dump failed"}, after(0, journal.Failed, "disk-full"))
	require.Empty(t, after(15*time.Minute, journal.Failed, "disk-full"), "not every quarter of an hour")
	require.Equal(t, []string{"failure: nightly: the dump failed"}, after(15*time.Minute, journal.Failed,
		"login-refused"), "another trouble")
	require.Empty(t, after(0, journal.Refused, "job-running"))
	require.Equal(t, []string{"failure: nightly: the dump killed"}, after(2*time.Hour, journal.Killed, "login-refused"),
		"it is still there")
	require.Equal(t, []string{"recovery: nightly: the dump is done again"}, after(0, journal.Good, ""))
	require.Equal(t, []string{"warning: nightly: the dump is done, with 1 warning"}, after(0, journal.Warned, "",
		"shrunk"))
	require.Empty(t, after(0, journal.Warned, "", "shrunk"))
	require.Len(t, after(0, journal.Warned, "", "shrunk", "room-short"), 1)

	states := func(word string, stale bool) int {
		require.NoError(t, tl.States(ctx, []State{{Job: "nightly", Name: "bookings", Word: word, Why: "it was due",
			Stale: stale}}))
		require.Empty(t, tl.Send(ctx))
		n := len(all.got)
		all.got = nil
		return n
	}
	require.Equal(t, []int{1, 0, 1, 1, 0}, []int{states("late", true), states("late", true), states("missed", true),
		states("good", false),
		states("good", false)})
	require.Empty(t, few.got, "other jobs are none of theirs")
	m := tl.of(journal.Run{Reason: hostile, Parts: []journal.Part{{Name: hostile, Result: journal.Failed,
		Reason: hostile}},
		Warnings: []journal.Warning{{Code: "x", Of: hostile, Text: hostile}}})
	for _, l := range m.Lines {
		require.NotContains(t, l, "\n")
		require.NotContains(t, l, "\r")
	}
}

// TestWhatCouldNotBeSentIsTriedAgain: later and later, and it is not lost.
func TestWhatCouldNotBeSentIsTriedAgain(t *testing.T) {
	j, _, err := journal.Open(ctx, t.TempDir())
	require.NoError(t, err)
	defer j.Close()
	now := time.Now()
	r := &recorder{err: errors.New("no route")}
	tl := &Teller{Journal: j, Now: func() time.Time { return now }, Channels: []Channel{{Name: "a", Sender: r}}}
	require.NoError(t, tl.Post(ctx, Message{Kind: Test, Title: "a test"}))
	for _, wait := range []time.Duration{0, time.Minute, 5 * time.Minute, 15 * time.Minute} {
		now = now.Add(wait - time.Second)
		if wait > 0 {
			require.Empty(t, tl.Send(ctx), "it is not time yet")
		}
		now = now.Add(time.Second)
		require.ErrorContains(t, tl.Send(ctx)[0], "a message could not be sent to a: no route")
	}
	list, err := j.Messages(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 4, list[0].Tries)
	mine, err := j.Claim(ctx, list[0], now.Add(90*time.Minute))
	require.NoError(t, err)
	require.True(t, mine)
	mine, err = j.Claim(ctx, list[0], now.Add(90*time.Minute))
	require.NoError(t, err)
	require.False(t, mine, "somebody else sends it")
	r.err = nil
	now = now.Add(2 * time.Hour)
	require.Empty(t, tl.Send(ctx))
	require.Equal(t, "a test", r.got[0].Title)
	list, err = j.Messages(ctx)
	require.NoError(t, err)
	require.Empty(t, list)
}
