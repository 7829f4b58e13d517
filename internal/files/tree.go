// Package files reads folders as a standard tar (PAX), with owners, modes, times, links, extended attributes and
// access lists, and puts them back. It follows no link, in neither direction.
package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
	"grainkeep/internal/system"
)

// Choice says what of a folder is taken. A pattern with a / means a path in the folder, one without means any name
// in it; whatever lies in a folder that is meant is meant too.
type Choice struct {
	Only   []string // empty: everything
	Except []string
	Flat   bool // without the folders in it
}

// Kind is what an entry is.
type Kind string

// The kinds that a tar can hold and that are taken.
const (
	File     Kind = "file"
	Folder   Kind = "folder"
	Link     Kind = "link"      // symbolic
	HardLink Kind = "hard link" // to a file that came before
	Pipe     Kind = "pipe"
)

// Entry is one thing in a folder.
type Entry struct {
	Name   string // slash-separated, relative; "." is the folder itself
	Kind   Kind
	Target string // of a link
	Mode   fs.FileMode
	UID    int
	GID    int
	Time   time.Time // of its last change
	Size   int64     // bytes, of a file
	Sparse bool      // it takes less room than its size
	Attrs  map[string]string

	change int64  // when anything about it changed last, nanoseconds since 1970
	inode  uint64 // of the file system
}

// Remarks are what is worth telling about a folder that was read.
type Remarks struct {
	Changed  []string // they changed while they were read
	Vanished []string
	Skipped  []string // sockets and devices
}

// Tree is a folder that is read. It is used once, by one goroutine.
type Tree struct {
	root   *os.Root
	path   string
	choice Choice
	avoid  []fs.FileInfo        // folders that are left out
	linked map[[2]uint64]string // names of the files that have several, by device and number

	// unchanged says that a file need not be opened, because it is known; nil: none is.
	unchanged func(name string, st fs.FileInfo) (bool, error)

	Remarks Remarks
}

// Open begins to read a folder; a link to one is followed here, and nowhere in it.
func Open(folder string, c Choice) (*Tree, error) {
	if !system.Owners {
		return nil, noOwners()
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, fault.New("folder-unreadable", err, "the folder %s cannot be read", folder).
			Advise("check that it is there, and who owns it")
	}
	return &Tree{root: root, path: folder, choice: c, linked: map[[2]uint64]string{}}, nil
}

// noOwners is the error where what a tar says of a file would be lost.
func noOwners() error {
	return system.Lacks("folders are neither taken nor put back", "the owners and the modes of their files would be lost")
}

// OpenIn begins to read a folder that lies right in another; a link is not followed.
func OpenIn(base, name string, c Choice) (*Tree, error) {
	t, err := Open(base, c)
	if err != nil || name == "" {
		return t, err
	}
	defer t.root.Close()
	st, err := t.root.Lstat(name)
	if err == nil && !st.IsDir() {
		err = errors.New("it is no folder any more")
	}
	var root *os.Root
	if err == nil {
		root, err = t.root.OpenRoot(name)
	}
	if err != nil {
		return nil, fault.New("folder-unreadable", err, "the folder %s in %s cannot be read", name, base)
	}
	return &Tree{root: root, path: base + "/" + name, choice: c, linked: map[[2]uint64]string{}}, nil
}

// Avoid leaves a folder out, wherever it is in this one: a keep that lies in what is dumped into it. One that is not
// there is nowhere.
func (t *Tree) Avoid(folder string) {
	if st, err := os.Stat(folder); err == nil {
		t.avoid = append(t.avoid, st)
	}
}

// Close ends the reading.
func (t *Tree) Close() error { return t.root.Close() }

// Folders gives the names of the folders right in this one that are taken, sorted.
func (t *Tree) Folders() (names []string, err error) {
	list, err := t.list(".")
	for _, e := range list {
		if e.IsDir() && !t.choice.leavesOut(e.Name()) {
			names = append(names, e.Name())
		}
	}
	return names, err
}

// Visit is told of each entry, a folder before what is in it, sorted by name. Of a file it gets the content, which
// ends early or not at all where the file changes; nil otherwise.
type Visit func(e Entry, content *Content) error

// Walk visits everything that is taken. What cannot be read is an error that names it.
func (t *Tree) Walk(ctx context.Context, visit Visit) error {
	w := &walk{Tree: t, visit: visit}
	if err := w.folder(ctx, ".", len(t.choice.Only) == 0); err != nil {
		return err
	}
	if len(w.closed) > 0 {
		return fault.New("rights-missing", nil, "this user cannot read %s in %s: %s",
			phrase.Plural(int64(len(w.closed)), "thing"), t.path,
			some(w.closed)).Advise("run as a user who may read all of it, or leave it out with except")
	}
	return nil
}

// some names the first few of many.
func some(names []string) string {
	const most = 8
	if n := len(names) - most; n > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), n)
	}
	return strings.Join(names, ", ")
}

// walk is one under way.
type walk struct {
	*Tree
	visit   Visit
	pending []Entry  // folders that are told once something in them is
	closed  []string // what this user may not read
}

// folder visits a folder and what is in it. Whole says that something above it was asked for.
func (w *walk) folder(ctx context.Context, name string, whole bool) error {
	e, _, err := w.entry(name, true)
	if err != nil || e == nil {
		return w.trouble(name, err)
	}
	before := len(w.pending)
	w.pending = append(w.pending, *e)
	if whole {
		if err := w.tell(); err != nil {
			return err
		}
	}
	list, err := w.list(name)
	if err != nil {
		if e := w.trouble(name, err); e != nil {
			return e
		}
	}
	for _, x := range list {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err := w.one(ctx, path.Join(name, x.Name()), whole); err != nil {
			return err
		}
	}
	w.pending = w.pending[:min(before, len(w.pending))]
	return nil
}

func (w *walk) one(ctx context.Context, name string, whole bool) error {
	if w.choice.leavesOut(name) {
		return nil
	}
	whole = whole || w.choice.asksFor(name)
	st, err := w.root.Lstat(name)
	if err != nil {
		return w.trouble(name, err)
	}
	if st.IsDir() {
		if w.choice.Flat {
			return nil
		}
		if slices.ContainsFunc(w.avoid, func(a fs.FileInfo) bool { return os.SameFile(a, st) }) {
			w.Remarks.Skipped = append(w.Remarks.Skipped, name)
			return nil
		}
		return w.folder(ctx, name, whole)
	}
	if !whole {
		return nil
	}
	if w.unchanged != nil && st.Mode().IsRegular() {
		if err := w.tell(); err != nil {
			return err
		}
		if known, err := w.unchanged(name, st); known || err != nil {
			return err
		}
	}
	e, content, err := w.entry(name, false)
	if err != nil || e == nil {
		return w.trouble(name, err)
	}
	if content != nil {
		defer content.f.Close()
	}
	if err := w.tell(); err != nil {
		return err
	}
	if err := w.visit(*e, content); err != nil {
		return err
	}
	if content == nil {
		return nil
	}
	if changed, err := content.changed(); err != nil || changed {
		w.Remarks.Changed = append(w.Remarks.Changed, name)
	}
	return nil
}

// tell tells of the folders that wait.
func (w *walk) tell() error {
	for _, e := range w.pending {
		if err := w.visit(e, nil); err != nil {
			return err
		}
	}
	w.pending = nil
	return nil
}

// trouble notes what vanished or may not be read; anything else is an error.
func (w *walk) trouble(name string, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrNotExist) && name != ".":
		w.Remarks.Vanished = append(w.Remarks.Vanished, name)
		return nil
	case errors.Is(err, fs.ErrPermission):
		w.closed = append(w.closed, name)
		return nil
	}
	return fault.New("folder-unreadable", err, "%s in %s cannot be read", name, w.path)
}

func (t *Tree) list(name string) ([]fs.DirEntry, error) {
	f, err := t.root.OpenFile(name, os.O_RDONLY|system.FolderOnly|system.NoFollow, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	list, err := f.ReadDir(-1)
	slices.SortFunc(list, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return list, err
}

// entry looks at one thing. Nothing is given for what no tar holds.
func (t *Tree) entry(name string, folder bool) (*Entry, *Content, error) {
	st, err := t.root.Lstat(name)
	if err != nil {
		return nil, nil, err
	}
	e := &Entry{Name: name, Mode: st.Mode() & (fs.ModePerm | fs.ModeSetuid | fs.ModeSetgid | fs.ModeSticky),
		Time: st.ModTime()}
	switch mode := st.Mode(); {
	case mode.IsDir() && folder:
		e.Kind = Folder
	case mode.IsRegular():
		return t.file(e)
	case mode&fs.ModeSymlink != 0:
		e.Kind = Link
		e.Mode = fs.ModePerm
		if e.Target, err = t.root.Readlink(name); err != nil {
			return nil, nil, err
		}
	case mode&fs.ModeNamedPipe != 0:
		e.Kind = Pipe
	default:
		t.Remarks.Skipped = append(t.Remarks.Skipped, name)
		return nil, nil, nil
	}
	owner(e, st)
	if e.Kind == Folder {
		e.Attrs, err = t.attributes(name)
	}
	return e, nil, err
}

func owner(e *Entry, st fs.FileInfo) {
	if sys, ok := system.FactsOf(st); ok {
		e.UID, e.GID = sys.UID, sys.GID
		e.Sparse = e.Kind == File && sys.Allocated < st.Size()
		e.change, e.inode = sys.Changed, sys.Inode
	}
}

// file opens a file. What it is is what was opened, whatever its name meant before.
func (t *Tree) file(e *Entry) (*Entry, *Content, error) {
	f, err := t.root.OpenFile(e.Name, os.O_RDONLY|system.NoFollow|system.NoWait, 0)
	if err != nil {
		return nil, nil, err
	}
	st, err := f.Stat()
	if err != nil || !st.Mode().IsRegular() {
		return nil, nil, errors.Join(err, f.Close())
	}
	e.Kind, e.Size, e.Time = File, st.Size(), st.ModTime()
	e.Mode = st.Mode() & (fs.ModePerm | fs.ModeSetuid | fs.ModeSetgid | fs.ModeSticky)
	owner(e, st)
	if e.Attrs, err = attributesOf(f); err != nil {
		return nil, nil, errors.Join(err, f.Close())
	}
	if sys, ok := system.FactsOf(st); ok && sys.Links > 1 {
		key := [2]uint64{sys.Device, sys.Inode}
		if first, known := t.linked[key]; known {
			e.Kind, e.Target, e.Size, e.Sparse, e.Attrs = HardLink, first, 0, false, nil
			return e, nil, f.Close()
		}
		t.linked[key] = e.Name
	}
	return e, &Content{f: f, left: st.Size(), size: st.Size(), was: st}, nil
}

func (t *Tree) attributes(name string) (map[string]string, error) {
	f, err := t.root.OpenFile(name, os.O_RDONLY|system.FolderOnly|system.NoFollow, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return attributesOf(f)
}

// Content is what is in a file: exactly as many bytes as its entry says. Where the file has become shorter, the
// rest is zeros.
type Content struct {
	f     *os.File
	left  int64
	size  int64
	was   fs.FileInfo
	short bool // it ended early
}

// Read implements io.Reader.
func (c *Content) Read(p []byte) (int, error) {
	if c.left == 0 {
		return 0, io.EOF
	}
	p = p[:min(int64(len(p)), c.left)]
	n := 0
	if !c.short {
		var err error
		n, err = c.f.Read(p)
		if err != nil && !errors.Is(err, io.EOF) {
			return n, err
		}
		c.short = n == 0
	}
	if c.short {
		clear(p)
		n = len(p)
	}
	c.left -= int64(n)
	return n, nil
}

// changed says whether the file is another than it was when it was opened.
func (c *Content) changed() (bool, error) {
	st, err := c.f.Stat()
	if err != nil {
		return true, err
	}
	a, _ := system.FactsOf(c.was)
	b, _ := system.FactsOf(st)
	return c.short || st.Size() != c.size || !st.ModTime().Equal(c.was.ModTime()) || a.Changed != b.Changed, nil
}

// leavesOut says whether something is left out.
func (c Choice) leavesOut(name string) bool { return means(c.Except, name) }

// asksFor says whether something is asked for by its own name.
func (c Choice) asksFor(name string) bool { return means(c.Only, name) }

func means(patterns []string, name string) bool {
	base := path.Base(name)
	return slices.ContainsFunc(patterns, func(p string) bool {
		p = strings.Trim(p, "/")
		if strings.Contains(p, "/") {
			return p == name || phrase.Match(p, name)
		}
		return p == base || phrase.Match(p, base)
	})
}
