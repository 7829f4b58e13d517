package store

import (
	"os"
	"strings"
)

// bootID tells this start of this machine from every other; empty: it is not known.
func bootID() string {
	data, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(data))
}
