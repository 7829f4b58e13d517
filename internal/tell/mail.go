package tell

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net"
	"os"
	"strconv"
	"time"

	"github.com/wneessen/go-mail"
)

// Mail sends by SMTP.
type Mail struct {
	Server string // host:port
	TLS    string // "starttls", also if empty; "tls": from the first byte; "off"
	CA     string // file of certificates; empty: the system's
	User   string // empty: no authentication
	Secret func() (string, error)
	From   string
	To     []string
}

// Send implements Sender.
func (s Mail) Send(ctx context.Context, m Message) error {
	msg, err := s.message(m)
	if err != nil {
		return err
	}
	host, port, err := net.SplitHostPort(s.Server)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return err
	}
	roots, err := rootsOf(s.CA)
	if err != nil {
		return err
	}
	options := []mail.Option{mail.WithPort(n), mail.WithTimeout(30 * time.Second),
		mail.WithTLSConfig(&tls.Config{ServerName: host, MinVersion: tls.VersionTLS12, RootCAs: roots})}
	switch s.TLS {
	case "tls":
		options = append(options, mail.WithSSL())
	case "off":
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if s.User != "" {
		password, err := s.Secret()
		if err != nil {
			return err
		}
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(s.User),
			mail.WithPassword(password))
	}
	client, err := mail.NewClient(host, options...)
	if err != nil {
		return err
	}
	return client.DialAndSendWithContext(ctx, msg)
}

// message is the mail: plain, and as a page.
func (s Mail) message(m Message) (*mail.Msg, error) {
	page, err := m.HTML()
	if err != nil {
		return nil, err
	}
	msg := mail.NewMsg()
	msg.SetUserAgent("Grain Keep")
	if err := errors.Join(msg.From(s.From), msg.To(s.To...)); err != nil {
		return nil, err
	}
	msg.Subject(m.subject())
	msg.SetDateWithValue(m.At)
	msg.SetMessageIDWithValue(m.ID + "@grainkeep." + m.Host)
	msg.SetGenHeader("Auto-Submitted", "auto-generated")
	msg.SetBodyString(mail.TypeTextPlain, m.Text())
	msg.AddAlternativeString(mail.TypeTextHTML, page)
	if x := m.Attached; x != nil {
		if err := msg.AttachReader(x.Name, bytes.NewReader(x.Data), mail.WithFileContentType(mail.ContentType(x.Type))); err != nil {
			return nil, err
		}
	}
	return msg, nil
}

// rootsOf reads a file of certificates; nil: the system's.
func rootsOf(path string) (*x509.CertPool, error) {
	if path == "" {
		return nil, nil
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(data) {
		return nil, errors.New("there is no certificate in " + path)
	}
	return pool, nil
}
