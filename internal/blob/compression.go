// Package blob is one stored file: text → chunks → compression → digest → store, and
// back. Its memory is bounded whatever the size of a table or of a value.
package blob

import (
	"bytes"
	"errors"
	"io"
	"sync"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"grainkeep/internal/fault"
)

// Compression is how the files of a dump are compressed.
type Compression string

// The compressions.
const (
	Zstd Compression = "zstd"
	Gzip Compression = "gzip"
	None Compression = "none"
)

// ParseCompression reads a compression's name; empty means zstd.
func ParseCompression(s string) (Compression, error) {
	switch c := Compression(s); c {
	case "":
		return Zstd, nil
	case Zstd, Gzip, None:
		return c, nil
	}
	return "", fault.Wrong("compression-unknown", "there is no compression %q", s).
		Advise("use zstd, gzip or none")
}

// Ending is what the compression adds to a file name.
func (c Compression) Ending() string {
	switch c {
	case Zstd:
		return ".zst"
	case Gzip:
		return ".gz"
	}
	return ""
}

// Unpack is the shell command that decompresses its standard input.
func (c Compression) Unpack() string {
	switch c {
	case Zstd:
		return "zstd -dcq"
	case Gzip:
		return "gzip -dc"
	}
	return "cat"
}

// A compressed file is a row of independent frames (zstd) or members (gzip), each
// of one chunk of text: every decompressor reads them as one, and they can be
// made side by side.

var zstdEncoder = sync.OnceValues(func() (*zstd.Encoder, error) {
	return zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(chunk),
		zstd.WithEncoderCRC(false), zstd.WithAllLitEntropyCompression(true)) // bytes as text repeat nothing
})

var gzipWriters = sync.Pool{New: func() any {
	w, _ := gzip.NewWriterLevel(nil, gzip.BestSpeed) // the level is known to be valid
	return w
}}

// encode appends the compressed form of one chunk to dst.
func (c Compression) encode(dst, text []byte) ([]byte, error) {
	switch c {
	case Zstd:
		e, err := zstdEncoder()
		if err != nil {
			return dst, err
		}
		return e.EncodeAll(text, dst), nil
	case Gzip:
		out := bytes.NewBuffer(dst)
		w := gzipWriters.Get().(*gzip.Writer)
		defer gzipWriters.Put(w)
		w.Reset(out)
		_, err := w.Write(text)
		err = errors.Join(err, w.Close())
		return out.Bytes(), err
	}
	return append(dst, text...), nil
}

func (c Compression) reader(r io.Reader) (io.ReadCloser, error) {
	switch c {
	case Zstd:
		d, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(8<<20),
			zstd.WithDecoderLowmem(true))
		if err != nil {
			return nil, err
		}
		return d.IOReadCloser(), nil
	case Gzip:
		return gzip.NewReader(r)
	}
	return io.NopCloser(r), nil
}
