package system

import (
	"os"
	"strings"
	"syscall"
)

// Name is the system's, for people.
const Name = "Linux"

func changed(s *syscall.Stat_t) int64 { return s.Ctim.Nano() }

// Boot tells this start of this machine from every other; empty: it is not known.
func Boot() string {
	data, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(data))
}
