package folder

import (
	"os"

	"golang.org/x/sys/unix"
)

func hint(f *os.File, offset, length int64) {
	_ = unix.SyncFileRange(int(f.Fd()), offset, length, unix.SYNC_FILE_RANGE_WRITE) // only a hint: Sync tells errors
}

// renameOnly renames in and to folders that are open; ENOSYS or EINVAL where the file system cannot do it without
// replacing what has the name.
func renameOnly(from *os.File, name string, to *os.File, as string) error {
	return unix.Renameat2(int(from.Fd()), name, int(to.Fd()), as, unix.RENAME_NOREPLACE)
}
