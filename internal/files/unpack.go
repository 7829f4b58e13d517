package files

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/user"
	"path"
	"slices"
	"strconv"
	"strings"

	"grainkeep/internal/fault"
	"grainkeep/internal/system"
)

const modeBits = fs.ModePerm | fs.ModeSetuid | fs.ModeSetgid | fs.ModeSticky

// modes are the bits of a mode that tar numbers otherwise than Go.
var modes = []struct {
	bit fs.FileMode
	tar int64
}{{fs.ModeSetuid, 0o4000}, {fs.ModeSetgid, 0o2000}, {fs.ModeSticky, 0o1000}}

// maxName bounds a name in a tar; the kernel's bound of a path is 4,096 bytes.
const maxName = 16 << 10 // bytes

// Unpacked is what was put back.
type Unpacked struct {
	Totals
	Owners int      // of how many entries the owner could not be set
	Attrs  []string // extended attributes that could not be set, as NAME of PATH; the first few
	Lost   int      // of them
	Mapped int      // entries whose owner has another number here
}

// Unpack puts a tar back into an empty folder: all of it, or what some names mean with the folders above it. A tar
// is not trusted: nothing in it leads out of the folder, and nothing is written through a link.
func Unpack(ctx context.Context, r io.Reader, folder string, only []string) (Unpacked, error) {
	p, err := NewUnpacking(folder, only)
	if err != nil {
		return Unpacked{}, err
	}
	defer p.Close()
	if err := p.Tar(ctx, r, nil); err != nil {
		return p.out, err
	}
	return p.Finish()
}

// Unpacking puts tars back into an empty folder, one after the other. One goroutine uses it.
type Unpacking struct {
	root    *os.Root
	only    []string
	out     Unpacked
	uids    map[string]int
	made    map[string]bool // folders that are there
	folders []Entry         // whose mode and time are set at the end: what is put into them changes both
}

// NewUnpacking begins.
func NewUnpacking(folder string, only []string) (*Unpacking, error) {
	if !system.Owners {
		return nil, noOwners()
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, err
	}
	return &Unpacking{root: root, only: only, uids: map[string]int{}, made: map[string]bool{".": true}}, nil
}

// Close ends the work, finished or not.
func (p *Unpacking) Close() error { return p.root.Close() }

// Tar puts back what a tar holds: all of it, or what holds says; and reads it to its end.
func (p *Unpacking) Tar(ctx context.Context, r io.Reader, holds func(name string) bool) error {
	in := tar.NewReader(r)
	for {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return damaged("it is no tar that can be read: %v", err)
		}
		if err := p.one(h, in, holds); err != nil {
			return err
		}
	}
	_, err := io.Copy(io.Discard, r) // what follows the end belongs to the file's digest
	return err
}

func damaged(format string, args ...any) error {
	return fault.New("tar-damaged", nil, format, args...)
}

func (p *Unpacking) one(h *tar.Header, content io.Reader, holds func(name string) bool) error {
	e, err := entryOf(h)
	if err != nil {
		return damaged("%v", err)
	}
	if err := checkName(e.Name); err != nil {
		return damaged("%v", err)
	}
	if e.Kind == HardLink {
		if err := checkName(e.Target); err != nil {
			return damaged("a hard link's target: %v", err)
		}
	}
	if !p.wanted(e) || holds != nil && !holds(e.Name) {
		return nil
	}
	if err := p.make(e, h, content); err != nil {
		var full *fault.Error
		if errors.As(err, &full) {
			return err
		}
		return fmt.Errorf("%s: %w", e.Name, err)
	}
	p.out.count(e.Kind, e.Size)
	return nil
}

// wanted says whether an entry is asked for; the folders above one are made when it comes.
func (p *Unpacking) wanted(e Entry) bool {
	return len(p.only) == 0 || Meant(p.only, e.Name)
}

// Meant says whether some names, or patterns, mean an entry or a folder that it lies in.
func Meant(only []string, name string) bool {
	for ; ; name = path.Dir(name) {
		if slices.ContainsFunc(only, func(o string) bool { return strings.Trim(o, "/") == name }) || hasPattern(only,
			name) {
			return true
		}
		if name == "." || name == "/" {
			return false
		}
	}
}

func hasPattern(only []string, name string) bool {
	return means(slices.DeleteFunc(slices.Clone(only), func(o string) bool { return !strings.ContainsAny(o, "*?") }),
		name)
}

// checkName refuses what would lead out of the folder.
func checkName(name string) error {
	if len(name) > maxName {
		return fmt.Errorf("a name has %d bytes", len(name))
	}
	if name != "." && (!fs.ValidPath(strings.ToValidUTF8(name, "x")) || strings.ContainsRune(name, 0)) {
		return fmt.Errorf("%.200q leads out of the folder", name)
	}
	return nil
}

func (p *Unpacking) make(e Entry, h *tar.Header, content io.Reader) error {
	if e.Name != "." {
		if err := p.above(path.Dir(e.Name)); err != nil {
			return err
		}
	}
	switch e.Kind {
	case Folder:
		return p.folder(e, h)
	case Link:
		if err := p.root.Symlink(e.Target, e.Name); err != nil {
			return err
		}
		return p.lchown(e, h)
	case HardLink:
		return p.hardLink(e)
	case Pipe:
		return p.pipe(e, h)
	}
	return p.file(e, h, content)
}

// above makes the folders that an entry lies in, where they did not come themselves.
func (p *Unpacking) above(name string) error {
	if p.made[name] {
		return nil
	}
	if err := p.above(path.Dir(name)); err != nil {
		return err
	}
	if err := p.root.Mkdir(name, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return p.isFolder(name)
}

// isFolder fails for what is no folder itself: a link to one would lead elsewhere.
func (p *Unpacking) isFolder(name string) error {
	st, err := p.root.Lstat(name)
	if err != nil {
		return err
	}
	if !st.IsDir() {
		return damaged("%.200q is a folder in the tar, and something else before", name)
	}
	p.made[name] = true
	return nil
}

func (p *Unpacking) folder(e Entry, h *tar.Header) error {
	if e.Name != "." {
		if err := p.root.Mkdir(e.Name, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		if err := p.isFolder(e.Name); err != nil {
			return err
		}
	}
	e.UID, e.GID = p.owner(h)
	p.folders = append(p.folders, e)
	return nil
}

// hardLink gives a file another name. With only some of the files asked for, the first may not be there.
func (p *Unpacking) hardLink(e Entry) error {
	err := p.root.Link(e.Target, e.Name)
	if errors.Is(err, fs.ErrNotExist) && len(p.only) > 0 {
		return fault.New("link-target-absent", nil, "%s is a hard link to %s, which was not asked for", e.Name,
			e.Target).
			Advise("ask for both")
	}
	return err
}

func (p *Unpacking) pipe(e Entry, h *tar.Header) error {
	dir, err := p.root.OpenFile(path.Dir(e.Name), os.O_RDONLY|system.FolderOnly|system.NoFollow, 0)
	if err != nil {
		return err
	}
	defer dir.Close()
	if err := makeFifo(dir, path.Base(e.Name), uint32(e.Mode.Perm())); err != nil {
		return err
	}
	return errors.Join(p.lchown(e, h), p.root.Chtimes(e.Name, e.Time, e.Time))
}

const hole = 4 << 10 // bytes of zeros that are left out of a file with holes

func (p *Unpacking) file(e Entry, h *tar.Header, content io.Reader) error {
	f, err := p.root.OpenFile(e.Name, os.O_CREATE|os.O_EXCL|os.O_WRONLY|system.NoFollow, 0o600)
	if err != nil {
		return err
	}
	if e.Sparse {
		err = sparse(f, content, e.Size)
	} else {
		_, err = io.Copy(f, content)
	}
	if err == nil {
		err = p.dress(f, e, h)
	}
	return errors.Join(err, f.Close())
}

// sparse writes a file, and leaves out its zeros.
func sparse(f *os.File, content io.Reader, size int64) error {
	buf := make([]byte, hole)
	for at := int64(0); at < size; {
		n, err := io.ReadFull(content, buf[:min(hole, size-at)])
		if err != nil {
			return err
		}
		if slices.ContainsFunc(buf[:n], func(b byte) bool { return b != 0 }) {
			if _, err := f.WriteAt(buf[:n], at); err != nil {
				return err
			}
		}
		at += int64(n)
	}
	return f.Truncate(size)
}

// dress sets owner, mode, attributes and time, in that order: each may change those that follow.
func (p *Unpacking) dress(f *os.File, e Entry, h *tar.Header) error {
	e.UID, e.GID = p.owner(h)
	return p.dressed(f, e)
}

func (p *Unpacking) dressed(f *os.File, e Entry) error {
	if err := f.Chown(e.UID, e.GID); err != nil {
		if !errors.Is(err, fs.ErrPermission) {
			return err
		}
		p.out.Owners++
		e.Mode &^= fs.ModeSetuid | fs.ModeSetgid // they would be this user's rights
	}
	if err := f.Chmod(e.Mode); err != nil {
		return err
	}
	for _, n := range setAttributes(f, e.Attrs) {
		if p.out.Lost++; p.out.Lost <= 8 {
			p.out.Attrs = append(p.out.Attrs, n+" of "+e.Name)
		}
	}
	return setTime(f, e.Time)
}

// lchown sets the owner of what is not opened, and its time.
func (p *Unpacking) lchown(e Entry, h *tar.Header) error {
	uid, gid := p.owner(h)
	if err := p.root.Lchown(e.Name, uid, gid); err != nil {
		if !errors.Is(err, fs.ErrPermission) {
			return err
		}
		p.out.Owners++
	}
	if e.Kind != Link {
		return nil
	}
	dir, err := p.root.OpenFile(path.Dir(e.Name), os.O_RDONLY|system.FolderOnly|system.NoFollow, 0)
	if err != nil {
		return err
	}
	defer dir.Close()
	return setLinkTime(dir, path.Base(e.Name), e.Time)
}

// owner is who owns an entry here: the user and the group of those names, where there are such, else the numbers.
func (p *Unpacking) owner(h *tar.Header) (uid, gid int) {
	uid, gid = p.lookup("u"+h.Uname, h.Uid), p.lookup("g"+h.Gname, h.Gid)
	if uid != h.Uid || gid != h.Gid {
		p.out.Mapped++
	}
	return uid, gid
}

func (p *Unpacking) lookup(key string, otherwise int) int {
	if len(key) == 1 {
		return otherwise
	}
	id, known := p.uids[key]
	if !known {
		id = -1
		text := ""
		if key[0] == 'u' {
			if u, err := user.Lookup(key[1:]); err == nil {
				text = u.Uid
			}
		} else if g, err := user.LookupGroup(key[1:]); err == nil {
			text = g.Gid
		}
		if n, err := strconv.Atoi(text); err == nil {
			id = n
		}
		p.uids[key] = id
	}
	if id < 0 {
		return otherwise
	}
	return id
}

// Finish sets what belongs to the folders, the innermost first, and brings all to the disk.
func (p *Unpacking) Finish() (Unpacked, error) {
	if len(p.only) > 0 && p.out.Entries == 0 {
		return p.out, fault.Wrong("path-absent", "nothing in the dump is named %s", strings.Join(p.only, ", ")).
			Advise("'grainkeep show' counts what is in it; a path begins below the dumped folder")
	}
	slices.SortFunc(p.folders, func(a, b Entry) int { return before(b.Name, a.Name) })
	for _, e := range p.folders {
		f, err := p.root.OpenFile(e.Name, os.O_RDONLY|system.FolderOnly|system.NoFollow, 0)
		if err != nil {
			return p.out, err
		}
		if err := errors.Join(p.dressed(f, e), f.Close()); err != nil {
			return p.out, fmt.Errorf("%s: %w", e.Name, err)
		}
	}
	dir, err := p.root.Open(".")
	if err != nil {
		return p.out, err
	}
	defer dir.Close()
	return p.out, syncAll(p.root, dir)
}
