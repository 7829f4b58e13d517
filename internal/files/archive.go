package files

import (
	"archive/tar"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os/user"
	"sort"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/zeebo/xxh3"

	"grainkeep/internal/rows"
)

// FingerprintVersion names the algorithm in manifests: the 128-bit XXH3 hash of each entry (its kind, name, target,
// mode, owner, time, size, attributes and the hash of its content), summed modulo 2^128.
const FingerprintVersion = "entry-xxh3-128-sum/1"

// Keys of our own among the records of a tar.
const (
	attrKey   = "SCHILY.xattr."
	sparseKey = "GRAINKEEP.sparse"
)

// Totals are what was found.
type Totals struct {
	Entries int64
	Bytes   int64          // of content
	Kinds   map[string]int // how many of each
	Sum     rows.Fingerprint
	Bare    rows.Fingerprint // the same without owners and attributes, which not everybody may set everywhere
	Written int64            // of the entries, those that are in the tar
}

// bare is an entry without owner and attributes.
func bare(e Entry) Entry {
	e.UID, e.GID, e.Attrs = 0, 0, nil
	e.Mode &^= fs.ModeSetuid | fs.ModeSetgid
	return e
}

// add counts an entry, with its hashes.
func (t *Totals) add(kind Kind, size int64, sum, bare xxh3.Uint128) {
	t.count(kind, size)
	t.Sum.AddHash(sum)
	t.Bare.AddHash(bare)
}

func (t *Totals) count(kind Kind, size int64) {
	if t.Kinds == nil {
		t.Kinds = map[string]int{}
	}
	t.Entries++
	t.Bytes += size
	t.Kinds[string(kind)]++
}

// Output is where a tree is written to.
type Output struct {
	Tar   io.Writer
	Index io.Writer // of what is in the tar; nil: none

	// What makes the tar one of changes only:
	Past      *Past
	Gone      io.Writer // the names of what is not there any more, or is of another kind now
	ByContent bool      // files are read to know whether they changed, instead of trusting times
}

// Write writes the tree as a tar. told is told of each entry before it is read.
func (t *Tree) Write(ctx context.Context, out Output, told func(e Entry)) (Totals, error) {
	w := &writing{tree: t, out: out, tar: tar.NewWriter(out.Tar), names: owners{}, told: told,
		buf: make([]byte, 256<<10)}
	var err error
	if out.Past != nil {
		err = w.changes(ctx)
	} else {
		err = t.Walk(ctx, w.put)
	}
	return w.totals, errors.Join(err, w.tar.Close())
}

// writing is a tree that is written.
type writing struct {
	tree   *Tree
	out    Output
	tar    *tar.Writer
	names  owners
	told   func(e Entry)
	totals Totals
	buf    []byte
	line   []byte
}

// racy is how long after a change a file may be changed again without its times telling: what file systems round to.
var racy = 2 * time.Second // tests of this machine's own file system have less time

// put writes an entry, and counts it.
func (w *writing) put(e Entry, c *Content) error {
	w.told(e)
	l, err := w.write(e, c)
	w.totals.add(l.Kind, l.Size, l.Sum, l.Bare)
	return err
}

// write writes an entry, and its line of the index.
func (w *writing) write(e Entry, c *Content) (l Line, err error) {
	now := time.Now() // the file system's clock, not that which the demo moves
	if err := w.tar.WriteHeader(header(e, w.names)); err != nil {
		return l, fmt.Errorf("%s: %w", e.Name, err)
	}
	h := xxh3.New()
	steady := true
	if c != nil {
		if _, err := io.CopyBuffer(io.MultiWriter(w.tar, h), onlyReader{c}, w.buf); err != nil {
			return l, fmt.Errorf("%s: %w", e.Name, err)
		}
		if changed, err := c.changed(); changed || err != nil {
			steady = false
		}
	}
	l = Line{Name: e.Name, Kind: e.Kind, Size: e.Size, Time: e.Time.UnixNano(), Change: e.change, Inode: e.inode,
		Sum: xxh3.Hash128(text(e, h)), Bare: xxh3.Hash128(text(bare(e), h))}
	if !steady || e.change >= now.Add(-racy).UnixNano() {
		l.Inode = 0
	}
	w.totals.Written++
	if w.out.Index == nil {
		return l, nil
	}
	w.line = l.append(w.line[:0])
	_, err = w.out.Index.Write(w.line)
	return l, err
}

// onlyReader hides everything but Read.
type onlyReader struct{ io.Reader }

// text is what the fingerprint of an entry is of.
func text(e Entry, content *xxh3.Hasher) []byte {
	var b []byte
	part := func(s string) {
		b = binary.AppendUvarint(b, uint64(len(s)))
		b = append(b, s...)
	}
	part(string(e.Kind))
	part(e.Name)
	part(e.Target)
	b = fmt.Appendf(b, "%o %d %d %d %d;", uint32(e.Mode), e.UID, e.GID, e.Time.UnixNano(), e.Size)
	names := make([]string, 0, len(e.Attrs))
	for n := range e.Attrs {
		names = append(names, n)
	}
	sort.Strings(names)
	for _, n := range names {
		part(n)
		part(e.Attrs[n])
	}
	if e.Kind == File {
		sum := content.Sum128().Bytes()
		b = append(b, sum[:]...)
	}
	return b
}

// owners are the names of users and groups, each looked up once.
type owners map[string]string

func (o owners) of(kind string, id int) string {
	key := kind + strconv.Itoa(id)
	name, known := o[key]
	if !known {
		if kind == "u" {
			if u, err := user.LookupId(strconv.Itoa(id)); err == nil {
				name = u.Username
			}
		} else if g, err := user.LookupGroupId(strconv.Itoa(id)); err == nil {
			name = g.Name
		}
		o[key] = name
	}
	return name
}

var types = map[Kind]byte{File: tar.TypeReg, Folder: tar.TypeDir, Link: tar.TypeSymlink, HardLink: tar.TypeLink,
	Pipe: tar.TypeFifo}

func header(e Entry, names owners) *tar.Header {
	mode := int64(e.Mode.Perm())
	for _, m := range modes {
		if e.Mode&m.bit != 0 {
			mode |= m.tar
		}
	}
	h := &tar.Header{Typeflag: types[e.Kind], Name: e.Name, Linkname: e.Target, Size: e.Size, Mode: mode, Uid: e.UID,
		Gid:   e.GID,
		Uname: names.of("u", e.UID), Gname: names.of("g", e.GID), ModTime: e.Time, Format: tar.FormatPAX,
		PAXRecords: map[string]string{}}
	if e.Kind == Folder {
		h.Name += "/"
	}
	for n, v := range e.Attrs {
		h.PAXRecords[attrKey+n] = v
	}
	if e.Sparse {
		h.PAXRecords[sparseKey] = "1"
	}
	if !utf8.ValidString(e.Name) || !utf8.ValidString(e.Target) {
		h.PAXRecords["hdrcharset"] = "BINARY"
	}
	return h
}

// entryOf reads a header back. What it names is checked where it is unpacked.
func entryOf(h *tar.Header) (e Entry, err error) {
	e = Entry{Name: strings.TrimSuffix(h.Name, "/"), Target: h.Linkname, UID: h.Uid, GID: h.Gid, Time: h.ModTime,
		Size:   h.Size,
		Sparse: h.PAXRecords[sparseKey] != ""}
	for k, t := range types {
		if t == h.Typeflag {
			e.Kind = k
		}
	}
	if e.Kind == "" {
		return e, fmt.Errorf("%.200q is of the kind %q, which is not unpacked", h.Name, h.Typeflag)
	}
	e.Mode = h.FileInfo().Mode() & modeBits
	if e.Kind == Link {
		e.Mode = 0o777
	}
	for k, v := range h.PAXRecords {
		if n, ok := strings.CutPrefix(k, attrKey); ok {
			if e.Attrs == nil {
				e.Attrs = map[string]string{}
			}
			e.Attrs[n] = v
		}
	}
	return e, nil
}

// Read reads a tree as Write does, and throws the content away.
func (t *Tree) Read(ctx context.Context, told func(e Entry)) (Totals, error) {
	return t.Write(ctx, Output{Tar: io.Discard}, told)
}
