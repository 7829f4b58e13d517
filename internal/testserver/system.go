package testserver

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// ErrAbsent says that this machine has no server to start.
var ErrAbsent = errors.New("no such server is installed here")

// system is where a server's programs lie, and who runs them: this machine, or a folder
// with a whole system of its own, which scripts/servers makes.
type system struct {
	root string // of that folder; empty: this machine
	as   *syscall.Credential
}

// nobody has this number on every Debian system.
const nobody = 65534

// newSystem chooses an unprivileged user: servers refuse root.
func newSystem(root string) (system, error) {
	s := system{root: root}
	if os.Getuid() != 0 {
		if root != "" {
			return s, fmt.Errorf("%w: only root can start one in %s", ErrAbsent, root)
		}
		return s, nil
	}
	if root != "" {
		s.as = &syscall.Credential{Uid: nobody, Gid: nobody}
		return s, nil
	}
	for _, name := range []string{"postgres", "mysql", "nobody"} {
		if u, err := user.Lookup(name); err == nil {
			uid, _ := strconv.Atoi(u.Uid)
			gid, _ := strconv.Atoi(u.Gid)
			s.as = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
			return s, nil
		}
	}
	return s, errors.New("there is no unprivileged user to run a server as")
}

// cache is where scripts/servers puts what it makes.
func cache() string {
	if cache := os.Getenv("GRAINKEEP_SERVERS"); cache != "" {
		return cache
	}
	return "/var/cache/grainkeep"
}

// other gives the root of a system that scripts/servers made.
func other(name string) (string, error) {
	root := filepath.Join(cache(), name)
	if _, err := os.Stat(filepath.Join(root, "ready")); err != nil {
		return "", fmt.Errorf("%w: scripts/servers sets one up in %s", ErrAbsent, root)
	}
	return root, nil
}

// temp makes a folder that the server owns, below a parent where that can be.
func (s system) temp(parent, pattern string) (string, error) {
	if s.root != "" {
		parent = filepath.Join(s.root, "tmp")
	}
	folder, err := os.MkdirTemp(parent, pattern)
	if err == nil {
		err = s.own(folder)
	}
	return folder, err
}

func (s system) own(path string) error {
	if s.as == nil {
		return nil
	}
	return os.Chown(path, int(s.as.Uid), int(s.as.Gid))
}

// seen is a path as the server's programs see it.
func (s system) seen(path string) string { return strings.TrimPrefix(path, s.root) }

// command prepares a program of the server's; in a system of its own by its whole path.
func (s system) command(folder, program string, args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.Dir = s.seen(folder)
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "TMPDIR=/tmp")
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.as, Chroot: s.root}
	return cmd
}

// copyFolder copies all of a folder, with who owns it.
func copyFolder(from, to string) error {
	if out, err := exec.Command("cp", "-a", from, to).CombinedOutput(); err != nil {
		return fmt.Errorf("cp: %w\n%s", err, out)
	}
	return nil
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
