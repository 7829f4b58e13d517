//go:build unix

package files

import (
	"errors"
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// maxAttr bounds one extended attribute; the kernel's own bound is the same.
const maxAttr = 64 << 10 // bytes

// attributesOf reads the extended attributes of an open file, access lists among them; none where the file system
// has no such thing.
func attributesOf(f *os.File) (map[string]string, error) {
	fd := int(f.Fd())
	n, err := unix.Flistxattr(fd, nil) // most files have none
	if errors.Is(err, unix.ENOTSUP) || n == 0 && err == nil {
		return nil, nil
	}
	buf := make([]byte, maxAttr)
	if err == nil {
		n, err = unix.Flistxattr(fd, buf)
	}
	if err != nil {
		return nil, err
	}
	attrs := map[string]string{}
	for _, name := range strings.Split(strings.TrimSuffix(string(buf[:n]), "\x00"), "\x00") {
		value := make([]byte, maxAttr)
		m, err := unix.Fgetxattr(fd, name, value)
		if errors.Is(err, noAttribute) || errors.Is(err, unix.EPERM) || errors.Is(err, unix.EACCES) {
			continue // gone, or not for this user to see
		}
		if err != nil {
			return nil, err
		}
		attrs[name] = string(value[:m])
	}
	return attrs, nil
}

// setAttributes sets extended attributes, and gives the names of those that this user may not set here.
func setAttributes(f *os.File, attrs map[string]string) (lost []string) {
	for name, value := range attrs {
		if err := unix.Fsetxattr(int(f.Fd()), name, []byte(value), 0); err != nil {
			lost = append(lost, name)
		}
	}
	return lost
}

// setLinkTime sets the time of a link in an open folder.
func setLinkTime(dir *os.File, name string, at time.Time) error {
	return unix.UtimesNanoAt(int(dir.Fd()), name, both(at), unix.AT_SYMLINK_NOFOLLOW)
}

// both is a time as that of the last access and of the last change.
func both(at time.Time) []unix.Timespec {
	ts := unix.NsecToTimespec(at.UnixNano())
	return []unix.Timespec{ts, ts}
}
