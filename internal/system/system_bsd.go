//go:build freebsd || darwin

package system

import (
	"encoding/hex"
	"os"
	"runtime"
	"syscall"

	"golang.org/x/sys/unix"
)

// Name is the system's, for people.
var Name = map[string]string{"freebsd": "FreeBSD", "darwin": "macOS"}[runtime.GOOS]

func changed(s *syscall.Stat_t) int64 { return s.Ctimespec.Nano() }

// Boot tells this start of this machine from every other; empty: it is not known.
func Boot() string {
	since, err := unix.SysctlRaw("kern.boottime")
	host, failed := os.Hostname()
	if err != nil || failed != nil {
		return ""
	}
	return host + " " + hex.EncodeToString(since)
}
