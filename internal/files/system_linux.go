package files

import (
	"os"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

// noAttribute is the error about an extended attribute that is not there.
const noAttribute = unix.ENODATA

func makeFifo(dir *os.File, name string, mode uint32) error {
	return unix.Mkfifoat(int(dir.Fd()), name, mode)
}

// syncAll brings everything below a folder to the disk.
func syncAll(_ *os.Root, dir *os.File) error { return unix.Syncfs(int(dir.Fd())) }

// setTime sets the time of an open file, to the nanosecond.
func setTime(f *os.File, at time.Time) error {
	return unix.UtimesNanoAt(unix.AT_FDCWD, "/proc/self/fd/"+strconv.Itoa(int(f.Fd())), both(at), 0)
}
