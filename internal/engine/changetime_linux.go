package engine

import "syscall"

// ChangeTime is when a file was changed last, its name and rights included.
func ChangeTime(s *syscall.Stat_t) (seconds, nanoseconds int64) {
	return int64(s.Ctim.Sec), int64(s.Ctim.Nsec)
}
