package folder

import (
	"os"

	"golang.org/x/sys/unix"
)

func hint(*os.File, int64, int64) {}

// renameOnly renames in and to folders that are open, and replaces nothing: a file by a second name, which must be free; a
// folder by a rename, which fails where a folder with something in it has the name.
func renameOnly(from *os.File, name string, to *os.File, as string) error {
	var st unix.Stat_t
	if err := unix.Fstatat(int(from.Fd()), name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return err
	}
	if st.Mode&unix.S_IFMT == unix.S_IFDIR {
		return unix.Renameat(int(from.Fd()), name, int(to.Fd()), as)
	}
	if err := unix.Linkat(int(from.Fd()), name, int(to.Fd()), as, 0); err != nil {
		return err
	}
	return unix.Unlinkat(int(from.Fd()), name, 0)
}
