//go:build freebsd || darwin

package job

import "golang.org/x/sys/unix"

// YieldToOthers lowers the priority of this process, for the processor: the disk knows none here.
func YieldToOthers() error { return unix.Setpriority(unix.PRIO_PROCESS, 0, 10) }
