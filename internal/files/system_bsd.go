//go:build freebsd || darwin

package files

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
)

// noAttribute is the error about an extended attribute that is not there.
const noAttribute = unix.ENOATTR

func makeFifo(_ *os.File, name string, _ uint32) error {
	return fmt.Errorf("%s is a fifo, which cannot be made by the descriptor of its folder here: restore it on Linux, or choose the "+
		"other paths", name)
}

// syncAll brings everything below a folder to the disk. This system has no call that waits for all of it.
func syncAll(root *os.Root, _ *os.File) error {
	return filepath.WalkDir(root.Name(), func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() && !d.IsDir() {
			return err
		}
		f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NOFOLLOW, 0)
		if err != nil {
			return err
		}
		return errors.Join(f.Sync(), f.Close())
	})
}

// setTime sets the time of an open file, to the microsecond: this system has no call for more.
func setTime(f *os.File, at time.Time) error {
	tv := unix.NsecToTimeval(at.UnixNano())
	return unix.Futimes(int(f.Fd()), []unix.Timeval{tv, tv})
}
