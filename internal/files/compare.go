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

// Differ compares a tar with a folder that it was unpacked into, entry by entry, without owners and attributes. It
// is for those that are known to differ: it gives the first few sentences.
func Differ(ctx context.Context, r io.Reader, folder string, most int) (list []string, err error) {
	is := map[string]xxh3.Uint128{}
	tree, err := Open(folder, Choice{})
	if err != nil {
		return nil, err
	}
	defer tree.Close()
	err = tree.Walk(ctx, func(e Entry, c *Content) error {
		h := xxh3.New()
		if c != nil {
			if _, err := io.Copy(h, onlyReader{c}); err != nil {
				return err
			}
		}
		if len(is) < maxCompared {
			is[e.Name] = xxh3.Hash128(text(bare(e), h))
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	in := tar.NewReader(r)
	for len(list) < most {
		hdr, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return list, err
		}
		e, err := entryOf(hdr)
		if err != nil {
			return list, err
		}
		h := xxh3.New()
		if _, err := io.Copy(h, in); err != nil {
			return list, err
		}
		got, there := is[e.Name]
		delete(is, e.Name)
		switch {
		case !there:
			list = append(list, e.Name+" did not come back")
		case got != xxh3.Hash128(text(bare(e), h)):
			list = append(list, e.Name+" came back with another content, mode, time or kind")
		}
	}
	var more []string
	for name := range is {
		more = append(more, name+" came back, and was not dumped")
	}
	sort.Strings(more)
	return append(list, more[:max(0, min(len(more), most-len(list)))]...), nil
}
