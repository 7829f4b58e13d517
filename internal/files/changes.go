package files

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"strings"

	"github.com/zeebo/xxh3"

	"grainkeep/internal/system"
)

// changes writes of a tree what is not as it was: the entries that are new or another, the folders above them, and
// the names of what is gone.
type changes struct {
	*writing
	look    lookup
	found   *Line           // of the file that is about to be opened
	waiting []Entry         // folders that are as they were, above what is visited now
	linked  map[string]bool // files with several names that are in the tar
}

// changes walks the tree along with what is known of it.
func (w *writing) changes(ctx context.Context) error {
	c := &changes{writing: w, look: lookup{past: w.out.Past}, linked: map[string]bool{}}
	c.look.gone = c.gone
	if err := c.look.step(); err != nil {
		return err
	}
	w.tree.unchanged = c.unchanged
	defer func() { w.tree.unchanged = nil }()
	if err := w.tree.Walk(ctx, c.visit); err != nil {
		return err
	}
	return c.rest()
}

// gone notes a name that is not there any more. The names begin in a way that no command takes for an option.
func (c *changes) gone(name string) error {
	_, err := io.WriteString(c.out.Gone, "./"+name+"\x00")
	return err
}

// find gives what was known of a name. A file that was found before and never came vanished in between.
func (c *changes) find(name string) (*Line, error) {
	if f := c.found; f != nil {
		c.found = nil
		if f.Name == name {
			return f, nil
		}
		if err := c.gone(f.Name); err != nil {
			return nil, err
		}
	}
	return c.look.find(name)
}

// rest tells of all that did not come.
func (c *changes) rest() error {
	if f := c.found; f != nil {
		if err := c.gone(f.Name); err != nil {
			return err
		}
	}
	return c.look.rest()
}

// unchanged says whether a file is as it was, by its times, without opening it.
func (c *changes) unchanged(name string, st fs.FileInfo) (bool, error) {
	was, err := c.find(name)
	c.found = was
	sys, ok := system.FactsOf(st)
	if err != nil || was == nil || !ok || was.Kind != File || c.out.ByContent {
		return false, err
	}
	key := [2]uint64{sys.Device, sys.Inode}
	if _, another := c.tree.linked[key]; another && sys.Links > 1 {
		return false, nil
	}
	if was.Inode == 0 || was.Inode != sys.Inode || was.Size != st.Size() || was.Time != st.ModTime().UnixNano() ||
		was.Change != sys.Changed {
		return false, nil
	}
	if sys.Links > 1 {
		c.tree.linked[key] = name
	}
	c.found = nil
	c.told(Entry{Name: name, Kind: File, Size: was.Size})
	c.totals.add(File, was.Size, was.Sum, was.Bare)
	return true, nil
}

// visit writes an entry, if it is not as it was.
func (c *changes) visit(e Entry, content *Content) error {
	was, err := c.find(e.Name)
	if err != nil {
		return err
	}
	for n := len(c.waiting); n > 0 && !isAbove(c.waiting[n-1].Name, e.Name); n-- {
		c.waiting = c.waiting[:n-1]
	}
	c.told(e)
	same, err := c.same(e, content, was)
	if err != nil {
		return err
	}
	if same {
		c.totals.add(e.Kind, e.Size, was.Sum, was.Bare)
		if e.Kind == Folder {
			c.waiting = append(c.waiting, e)
		}
		return nil
	}
	if was != nil && was.Kind != e.Kind {
		if err := c.gone(e.Name); err != nil {
			return err
		}
	}
	for _, f := range c.waiting {
		if _, err := c.write(f, nil); err != nil { // it was counted when it was visited
			return err
		}
	}
	c.waiting = nil
	if e.Kind == File && content.several() {
		c.linked[e.Name] = true
	}
	l, err := c.write(e, content)
	c.totals.add(l.Kind, l.Size, l.Sum, l.Bare)
	return err
}

// same says whether an entry is as it was.
func (c *changes) same(e Entry, content *Content, was *Line) (bool, error) {
	if was == nil || was.Kind != e.Kind {
		return false, nil
	}
	h := xxh3.New()
	switch e.Kind {
	case File:
		if !c.out.ByContent || content.several() { // all names of a file travel together
			return false, nil
		}
		if _, err := io.CopyBuffer(h, onlyReader{content}, c.buf); err != nil {
			return false, err
		}
		if err := content.again(); err != nil {
			return false, err
		}
	case HardLink:
		if c.linked[e.Target] || was.Inode != e.inode && was.Inode != 0 || was.Change != e.change {
			return false, nil
		}
	}
	return xxh3.Hash128(text(e, h)) == was.Sum, nil
}

// isAbove says whether a folder is above an entry.
func isAbove(folder, name string) bool {
	return folder == "." || strings.HasPrefix(name, folder+"/")
}

// several says whether a file has more than one name.
func (c *Content) several() bool {
	sys, ok := system.FactsOf(c.was)
	return ok && sys.Links > 1
}

// again begins the content from its start.
func (c *Content) again() error {
	_, err := c.f.Seek(0, io.SeekStart)
	c.left, c.short = c.size, false
	return errors.Join(err)
}
