package files

import (
	"archive/tar"
	"context"
	"errors"
	"io"
	"sort"

	"github.com/zeebo/xxh3"
)

// maxCompared bounds the entries that are compared one by one: what they take is memory.
const maxCompared = 300_000

// maxDifferences bounds those that are remembered.
const maxDifferences = 1000

// Comparison holds tars against a folder that they were unpacked into, entry by entry, without owners and
// attributes. It is for those that are known to differ.
type Comparison struct {
	is   map[string]xxh3.Uint128
	list []string
}

// NewComparison reads the folder.
func NewComparison(ctx context.Context, folder string) (*Comparison, error) {
	c := &Comparison{is: map[string]xxh3.Uint128{}}
	tree, err := Open(folder, Choice{})
	if err != nil {
		return nil, err
	}
	defer tree.Close()
	return c, tree.Walk(ctx, func(e Entry, content *Content) error {
		h := xxh3.New()
		if content != nil {
			if _, err := io.Copy(h, onlyReader{content}); err != nil {
				return err
			}
		}
		if len(c.is) < maxCompared {
			c.is[e.Name] = xxh3.Hash128(text(bare(e), h))
		}
		return nil
	})
}

// Tar compares what a tar holds: all of it, or what holds says.
func (c *Comparison) Tar(r io.Reader, holds func(name string) bool) error {
	in := tar.NewReader(r)
	for {
		hdr, err := in.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		e, err := entryOf(hdr)
		if err != nil {
			return err
		}
		if holds != nil && !holds(e.Name) {
			continue
		}
		h := xxh3.New()
		if _, err := io.Copy(h, in); err != nil {
			return err
		}
		got, there := c.is[e.Name]
		delete(c.is, e.Name)
		switch {
		case len(c.list) >= maxDifferences:
		case !there:
			c.list = append(c.list, e.Name+" did not come back")
		case got != xxh3.Hash128(text(bare(e), h)):
			c.list = append(c.list, e.Name+" came back with another content, mode, time or kind")
		}
	}
}

// Differences gives the first few sentences about what differs.
func (c *Comparison) Differences(most int) []string {
	var more []string
	for name := range c.is {
		more = append(more, name+" came back, and was not dumped")
	}
	sort.Strings(more)
	list := append(c.list, more...)
	return list[:min(len(list), most)]
}
