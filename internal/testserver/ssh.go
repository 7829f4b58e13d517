package testserver

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

// SSH is a running private OpenSSH server that gives files by SFTP, to one key. Its users are this machine's.
type SSH struct {
	Folder string // configuration, keys and log
	Port   int
	Key    string // path of the private key that may log in
	Known  string // path of a file of known hosts that knows this one
	User   string
	cmd    *exec.Cmd
}

// StartSSH makes and starts a server below a folder. ErrAbsent says that there is none to start.
func StartSSH(parent string) (*SSH, error) {
	program, err := exec.LookPath("/usr/sbin/sshd")
	if err != nil {
		return nil, fmt.Errorf("%w: OpenSSH", ErrAbsent)
	}
	me, err := user.Current()
	if err != nil {
		return nil, err
	}
	s := &SSH{User: me.Username}
	if s.Folder, err = os.MkdirTemp(parent, "ssh-"); err != nil {
		return nil, err
	}
	s.Key, s.Known = filepath.Join(s.Folder, "user"), filepath.Join(s.Folder, "known_hosts")
	if s.Port, err = freePort(); err != nil {
		return nil, err
	}
	host, err := makeKey(filepath.Join(s.Folder, "host"))
	if err != nil {
		return nil, err
	}
	public, err := makeKey(s.Key)
	if err != nil {
		return nil, err
	}
	line := knownhosts.Line([]string{knownhosts.Normalize(s.address())}, host)
	config := fmt.Sprintf("Port %d\nListenAddress 127.0.0.1\nHostKey %s/host\nAuthorizedKeysFile %s/authorized_keys\n"+
		"StrictModes no\nUsePAM no\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nPidFile none\n"+
		"Subsystem sftp internal-sftp\nMaxStartups 100\nMaxSessions 100\nPermitRootLogin yes\n", s.Port, s.Folder, s.Folder)
	for name, text := range map[string]string{"known_hosts": line + "\n", "sshd_config": config,
		"authorized_keys": string(ssh.MarshalAuthorizedKey(public))} {
		if err := os.WriteFile(filepath.Join(s.Folder, name), []byte(text), 0o600); err != nil {
			return nil, err
		}
	}
	_ = os.MkdirAll("/run/sshd", 0o755) // where it separates its rights; it says so itself if it lacks
	return s, s.start(program)
}

func (s *SSH) address() string { return fmt.Sprintf("127.0.0.1:%d", s.Port) }

// start starts the server, and waits until it answers.
func (s *SSH) start(program string) error {
	log := filepath.Join(s.Folder, "log") // no pipe: sessions outlive the server
	s.cmd = exec.Command(program, "-D", "-E", log, "-f", filepath.Join(s.Folder, "sshd_config"))
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := s.cmd.Start(); err != nil {
		return err
	}
	for range 200 {
		if c, err := net.Dial("tcp", s.address()); err == nil {
			return c.Close()
		}
		time.Sleep(25 * time.Millisecond)
	}
	text, _ := os.ReadFile(log)
	return fmt.Errorf("the SSH server does not answer\n%s", text)
}

// Close stops the server and removes its folder.
func (s *SSH) Close() error {
	err := syscall.Kill(-s.cmd.Process.Pid, syscall.SIGKILL) // and its sessions
	s.cmd.Wait()
	return errors.Join(err, os.RemoveAll(s.Folder))
}

// URL is the address of a folder, with what logging in needs.
func (s *SSH) URL(folder string) string {
	return fmt.Sprintf("sftp://%s@%s%s?key=%s&known_hosts=%s", s.User, s.address(), folder, s.Key, s.Known)
}

// makeKey makes a key pair; the private one is in a file.
func makeKey(path string) (ssh.PublicKey, error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "made for a test")
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
		return nil, err
	}
	return ssh.NewPublicKey(public)
}
