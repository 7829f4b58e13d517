//go:build unix

package step

import (
	"errors"
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"syscall"

	"grainkeep/internal/fault"
)

// become makes a step run as its user.
func (s Step) become(cmd *exec.Cmd) error {
	if s.User == "" {
		return nil
	}
	fail := func(err error) error {
		return fault.New("step-failed", err, "the step %q cannot run as the user %s", s, s.User).
			Advise("only root can start a step as another user, who must be there")
	}
	u, err := user.Lookup(s.User)
	if err != nil {
		return fail(err)
	}
	uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
	gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
	ids, err3 := u.GroupIds()
	if err := errors.Join(err1, err2, err3); err != nil {
		return fail(err)
	}
	if os.Getuid() == int(uid) {
		return nil
	}
	c := &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	for _, id := range ids {
		if n, err := strconv.ParseUint(id, 10, 32); err == nil {
			c.Groups = append(c.Groups, uint32(n))
		}
	}
	cmd.SysProcAttr.Credential = c
	cmd.Env = append(cmd.Env, "HOME="+u.HomeDir, "USER="+u.Username, "LOGNAME="+u.Username)
	return nil
}
