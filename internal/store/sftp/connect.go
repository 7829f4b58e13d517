package sftp

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	client "github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"

	"grainkeep/internal/fault"
)

// dialFor is how long a connection may take to come about; silence how long a server may say nothing at all.
const (
	dialFor  = 30 * time.Second
	askAlive = 15 * time.Second
	silence  = 45 * time.Second
)

// connection is one that is open, until dead is closed.
type connection struct {
	*client.Client
	close func()
	dead  chan struct{}
}

func (c *connection) lost() bool {
	select {
	case <-c.dead:
		return true
	default:
		return false
	}
}

// connect opens a connection.
func connect(ctx context.Context, a *address) (*connection, error) {
	ctx, cancel := context.WithTimeout(ctx, dialFor)
	defer cancel()
	s, closeAll, err := login(ctx, a)
	if err != nil {
		return nil, err
	}
	c, err := client.NewClient(s, client.UseConcurrentWrites(true), client.MaxConcurrentRequestsPerFile(64))
	if err != nil {
		closeAll()
		return nil, fault.New("store-unreachable", err, "the server at %s speaks no SFTP", a.server()).
			Advise("check that its subsystem sftp is on")
	}
	conn := &connection{Client: c, close: closeAll, dead: make(chan struct{})}
	go func() {
		_ = s.Wait() // that it ended is all that counts
		close(conn.dead)
	}()
	go conn.askAlive(s)
	return conn, nil
}

// askAlive ends a connection whose server does not answer any more.
func (c *connection) askAlive(s *ssh.Client) {
	tick := time.NewTicker(askAlive)
	defer tick.Stop()
	for {
		select {
		case <-c.dead:
			return
		case <-tick.C:
		}
		answered := make(chan struct{})
		go func() {
			_, _, _ = s.SendRequest("keepalive@openssh.com", true, nil) // a refusal is an answer
			close(answered)
		}()
		select {
		case <-answered:
		case <-c.dead:
			return
		case <-time.After(silence):
			c.close()
			return
		}
	}
}

// login logs in, by way of another host if the address says so.
func login(ctx context.Context, a *address) (*ssh.Client, func(), error) {
	var dial func(ctx context.Context, network, address string) (net.Conn, error)
	closeBefore := func() {}
	if a.jump == nil {
		dial = (&net.Dialer{}).DialContext
	} else {
		j, closeJump, err := login(ctx, a.jump)
		if err != nil {
			return nil, nil, err
		}
		dial, closeBefore = j.DialContext, closeJump
	}
	raw, err := dial(ctx, "tcp", a.server())
	if err != nil {
		closeBefore()
		if ctx.Err() != nil && errors.Is(context.Cause(ctx), context.Canceled) {
			return nil, nil, context.Cause(ctx)
		}
		return nil, nil, fault.New("store-unreachable", err, "cannot reach %s", a.server()).
			Advise("check the address, that the server runs, and the firewall between")
	}
	cfg, closeAgent, err := config(a)
	if err != nil {
		raw.Close()
		closeBefore()
		return nil, nil, err
	}
	defer closeAgent()
	if deadline, ok := ctx.Deadline(); ok {
		_ = raw.SetDeadline(deadline) // a connection that takes none waits for its own
	}
	c, channels, requests, err := ssh.NewClientConn(raw, a.server(), cfg)
	if err != nil {
		raw.Close()
		closeBefore()
		return nil, nil, refused(a, err)
	}
	_ = raw.SetDeadline(time.Time{})
	s := ssh.NewClient(c, channels, requests)
	return s, func() { s.Close(); raw.Close(); closeBefore() }, nil
}

// refused says why nobody could be logged in.
func refused(a *address, err error) error {
	var f *fault.Error
	if errors.As(err, &f) {
		return f
	}
	if strings.Contains(err.Error(), "unable to authenticate") {
		return fault.New("store-refused", nil, "the server at %s lets %s not in", a.server(), a.user).
			Advise("put the public key into its authorized_keys; a key is named by key=PATH, or comes from the agent")
	}
	return fault.New("store-unreachable", err, "no connection with the server at %s comes about", a.server())
}

// config says how to log in: with the keys that there are, at a host that is known.
func config(a *address) (*ssh.ClientConfig, func(), error) {
	known, files, err := knownHosts(a)
	if err != nil {
		return nil, nil, err
	}
	signers, closeAgent, err := keys(a)
	if err != nil {
		return nil, nil, err
	}
	check := func(hostname string, remote net.Addr, key ssh.PublicKey) error {
		return unknownHost(a, files, key, known(hostname, remote, key))
	}
	return &ssh.ClientConfig{User: a.user, Auth: []ssh.AuthMethod{ssh.PublicKeys(signers...)}, HostKeyCallback: check,
		HostKeyAlgorithms: algorithms(known, a), Timeout: dialFor}, closeAgent, nil
}

// knownHosts reads the files of known hosts.
func knownHosts(a *address) (ssh.HostKeyCallback, []string, error) {
	files := []string{a.hosts}
	if a.hosts == "" {
		files = []string{"/etc/ssh/ssh_known_hosts"}
		if home, err := os.UserHomeDir(); err == nil {
			files = slices.Insert(files, 0, filepath.Join(home, ".ssh", "known_hosts"))
		}
	}
	there := slices.DeleteFunc(slices.Clone(files), func(f string) bool {
		_, err := os.Stat(f)
		return a.hosts == "" && errors.Is(err, fs.ErrNotExist)
	})
	known, err := knownhosts.New(there...)
	if err != nil {
		return nil, nil, fault.Wrong("hosts-unreadable", "the known hosts cannot be read: %v", err)
	}
	return known, files, nil
}

// probe is a key that no host has: asking for it tells which ones a host is known by.
type probe struct{}

func (probe) Type() string                        { return "none" }
func (probe) Marshal() []byte                     { return []byte("none") }
func (probe) Verify([]byte, *ssh.Signature) error { return errors.New("no key") }

// algorithms are those of the keys by which a host is known; none: any.
func algorithms(known ssh.HostKeyCallback, a *address) (list []string) {
	var e *knownhosts.KeyError
	if !errors.As(known(a.server(), &net.TCPAddr{}, probe{}), &e) {
		return nil
	}
	for _, k := range e.Want {
		if k.Key.Type() == ssh.KeyAlgoRSA {
			list = append(list, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		}
		list = append(list, k.Key.Type())
	}
	return list
}

// unknownHost turns a refusal of a host's key into what an administrator can check.
func unknownHost(a *address, files []string, key ssh.PublicKey, err error) error {
	var e *knownhosts.KeyError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &e) && len(e.Want) == 0:
		return fault.New("host-unknown", nil, "the host %s is not known; its key is %s %s", a.server(), key.Type(),
			ssh.FingerprintSHA256(key)).Advise("compare that with what its administrator says, then add this line to %s: %s",
			files[0], knownhosts.Line([]string{knownhosts.Normalize(a.server())}, key))
	case errors.As(err, &e):
		return fault.New("host-changed", nil, "the host %s shows another key than it is known by: %s %s", a.server(),
			key.Type(), ssh.FingerprintSHA256(key)).
			Advise("somebody may stand between; if the host was made anew, take its old line out of %s, line %d",
				e.Want[0].Filename, e.Want[0].Line)
	}
	return fault.New("host-unknown", err, "the key of the host %s is not accepted", a.server())
}

// usualKeys are where keys lie in a user's home.
var usualKeys = []string{"id_ed25519", "id_ecdsa", "id_rsa"}

// keys are those with which somebody may log in: the one that is named, or the agent's and the usual ones.
func keys(a *address) (list []ssh.Signer, closeAgent func(), err error) {
	closeAgent = func() {}
	if a.key != "" {
		list, err = keyFile(a.key)
		return list, closeAgent, err
	}
	if socket := os.Getenv("SSH_AUTH_SOCK"); socket != "" {
		if c, err := net.Dial("unix", socket); err == nil { // an agent that is gone has no keys
			closeAgent = func() { c.Close() }
			list, _ = agent.NewClient(c).Signers()
		}
	}
	if home, err := os.UserHomeDir(); err == nil {
		for _, name := range usualKeys {
			if found, err := keyFile(filepath.Join(home, ".ssh", name)); err == nil { // others are tried, and refused by name
				list = append(list, found...)
			}
		}
	}
	if len(list) == 0 {
		return nil, closeAgent, fault.Wrong("key-absent", "there is no key to log in at %s with", a.server()).
			Advise("name one with key=PATH, or give it to the agent (ssh-add)")
	}
	return list, closeAgent, nil
}

// keyFile reads a private key, and its certificate if that lies beside it.
func keyFile(path string) ([]ssh.Signer, error) {
	st, err := os.Stat(path)
	if err != nil {
		return nil, fault.Wrong("key-unreadable", "the key cannot be read: %v", err)
	}
	if st.Mode().Perm()&0o077 != 0 {
		return nil, fault.Wrong("secret-exposed", "others can read the key %s", path).Advise("chmod 600 %s", path)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.Wrong("key-unreadable", "the key cannot be read: %v", err)
	}
	signer, err := ssh.ParsePrivateKey(data)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		return nil, fault.Wrong("key-locked", "the key %s has a passphrase", path).
			Advise("unlock it in the agent (ssh-add), or use a key for this alone")
	}
	if err != nil {
		return nil, fault.Wrong("key-unreadable", "%s is no private key: %v", path, err)
	}
	list := []ssh.Signer{signer}
	if data, err := os.ReadFile(path + "-cert.pub"); err == nil {
		public, _, _, _, err := ssh.ParseAuthorizedKey(data)
		cert, is := public.(*ssh.Certificate)
		if err != nil || !is {
			return nil, fault.Wrong("key-unreadable", "%s-cert.pub is no certificate", path)
		}
		certified, err := ssh.NewCertSigner(cert, signer)
		if err != nil {
			return nil, fmt.Errorf("%s-cert.pub: %w", path, err)
		}
		list = slices.Insert(list, 0, certified)
	}
	return list, nil
}
