// Package stream moves rows: text in, compressed files with digests out, and
// back. Its memory is bounded whatever the size of a table or of a value.
package stream

import (
	"compress/gzip"
	"io"

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

// window bounds what an encoder and a decoder hold of the text.
const window = 1 << 20

type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }

func (c Compression) writer(w io.Writer) (io.WriteCloser, error) {
	switch c {
	case Zstd:
		return zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedFastest),
			zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(window), zstd.WithLowerEncoderMem(true))
	case Gzip:
		return gzip.NewWriterLevel(w, gzip.BestSpeed)
	}
	return nopCloser{w}, nil
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
