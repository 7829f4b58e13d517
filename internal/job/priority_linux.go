package job

import (
	"os"
	"strconv"

	"golang.org/x/sys/unix"
)

// The lower priority: that of a process in the background, and the last in the queue of the disk.
const (
	niceness   = 10
	ioprioWho  = 1         // a thread
	ioprioLast = 2<<13 | 7 // class best-effort, lowest of eight
)

// YieldToOthers lowers the priority of this process, for processor and disk. New threads have it from those that
// make them.
func YieldToOthers() error {
	threads, err := os.ReadDir("/proc/self/task")
	if err != nil {
		return err
	}
	for _, t := range threads {
		id, err := strconv.Atoi(t.Name())
		if err != nil {
			continue
		}
		if err := unix.Setpriority(unix.PRIO_PROCESS, id, niceness); err != nil && err != unix.ESRCH {
			return err
		}
		if _, _, e := unix.Syscall(unix.SYS_IOPRIO_SET, ioprioWho, uintptr(id), ioprioLast); e != 0 && e != unix.ESRCH {
			return e
		}
	}
	return nil
}
