//go:build unix

package folder

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"time"

	"golang.org/x/sys/unix"

	"grainkeep/internal/store"
)

// peek looks at a name in a folder of an open one, in one call.
func (s *Store) peek(d *os.File, folder, base, name string, visit func(base string, e store.Entry) error) error {
	var st unix.Stat_t
	err := unix.Fstatat(int(d.Fd()), path.Join(base, name), &st, unix.AT_SYMLINK_NOFOLLOW)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	full := path.Join(folder, base, name)
	if err != nil {
		return visit(base, store.Entry{Name: full}) // whoever opens it is told why
	}
	kind := st.Mode & unix.S_IFMT
	return visit(base, store.Entry{Name: full, Bytes: st.Size, Folder: kind == unix.S_IFDIR,
		Time:    time.Unix(st.Mtim.Unix()),
		Foreign: kind != unix.S_IFREG && kind != unix.S_IFDIR})
}
