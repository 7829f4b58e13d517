package store

import (
	"fmt"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// Drive tells the file systems of this machine apart; empty: that of a path cannot be told.
func Drive(path string) string {
	st, err := os.Stat(path)
	if err != nil {
		return ""
	}
	if x, ok := st.Sys().(*syscall.Stat_t); ok {
		return fmt.Sprintf("file system %d:%d", unix.Major(uint64(x.Dev)), unix.Minor(uint64(x.Dev)))
	}
	return ""
}
