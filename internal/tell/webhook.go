package tell

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"
)

// Webhook posts a message as JSON.
type Webhook struct {
	URL    string
	CA     string
	Secret func() (string, error) // of the signature; nil: there is none
}

// Headers of a webhook's request: when it was signed, in seconds since 1970, and the HMAC-SHA256 of that time, a
// point and the body, in hexadecimal.
const (
	TimeHeader      = "Grainkeep-Time"
	SignatureHeader = "Grainkeep-Signature"
)

// Sign gives the signature of a request's body.
func Sign(secret, at string, body []byte) string {
	mac := hmac.New(sha256.New, []byte(secret))
	fmt.Fprintf(mac, "%s.", at)
	mac.Write(body)
	return hex.EncodeToString(mac.Sum(nil))
}

// Send implements Sender. Redirections are not followed: the message is for the one address.
func (w Webhook) Send(ctx context.Context, m Message) error {
	body, err := json.Marshal(struct {
		Version int `json:"grainkeep"`
		Message
	}{1, m})
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, w.URL, bytes.NewReader(body))
	if err != nil {
		return errors.New("the address cannot be understood")
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("User-Agent", "grainkeep")
	if w.Secret != nil {
		secret, err := w.Secret()
		if err != nil {
			return err
		}
		at := strconv.FormatInt(time.Now().Unix(), 10)
		req.Header.Set(TimeHeader, at)
		req.Header.Set(SignatureHeader, Sign(secret, at, body))
	}
	roots, err := rootsOf(w.CA)
	if err != nil {
		return err
	}
	transport := &http.Transport{Proxy: http.ProxyFromEnvironment, TLSClientConfig: &tls.Config{RootCAs: roots,
		MinVersion: tls.VersionTLS12}, DisableKeepAlives: true}
	client := &http.Client{Transport: transport, Timeout: 30 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := client.Do(req)
	if err != nil {
		var u *url.Error // it repeats the address, which may hold a token
		if errors.As(err, &u) {
			err = u.Err
		}
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode < 200 || answer.StatusCode > 299 {
		return fmt.Errorf("the receiver answered %d", answer.StatusCode)
	}
	return nil
}
