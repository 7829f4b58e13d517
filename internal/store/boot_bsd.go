//go:build freebsd || darwin

package store

import (
	"encoding/hex"
	"os"

	"golang.org/x/sys/unix"
)

// bootID tells this start of this machine from every other; empty: it is not known.
func bootID() string {
	since, err := unix.SysctlRaw("kern.boottime")
	host, failed := os.Hostname()
	if err != nil || failed != nil {
		return ""
	}
	return host + " " + hex.EncodeToString(since)
}
