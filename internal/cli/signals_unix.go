//go:build unix

package cli

import (
	"os/signal"
	"syscall"
)

// ignoreLimits makes a limit of a file's size an error to report, not a death.
func ignoreLimits() { signal.Ignore(syscall.SIGXFSZ) }
