package blob

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
)

// Bounds are what a file says of itself; one that holds more is damaged.
type Bounds struct {
	Stored int64 // bytes in the store
	Raw    int64 // bytes of text
}

// ExcessError says that a file unpacks to more than it says.
type ExcessError struct{ Limit int64 }

func (e *ExcessError) Error() string {
	return fmt.Sprintf("unpacks to more than the %d bytes that it says", e.Limit)
}

// Source reads a file of a dump: store → digest → decompression → text. One goroutine
// uses it.
type Source struct {
	f      io.ReadCloser
	z      io.ReadCloser
	digest hash.Hash
	tee    io.Reader
	left   int64 // text that may still come
	limit  int64
}

// Open reads the text of a file, which it closes in the end.
func Open(f io.ReadCloser, c Compression, b Bounds) (*Source, error) {
	s := &Source{f: f, digest: sha256.New(), left: b.Raw, limit: b.Raw}
	s.tee = io.TeeReader(io.LimitReader(f, b.Stored+1), s.digest)
	var err error
	if s.z, err = c.reader(s.tee); err != nil {
		f.Close()
		return nil, err
	}
	return s, nil
}

// Read gives text.
func (s *Source) Read(p []byte) (int, error) {
	if int64(len(p)) > s.left+1 {
		p = p[:s.left+1]
	}
	n, err := s.z.Read(p)
	if int64(n) > s.left {
		n = int(s.left)
		s.left = 0
		return n, &ExcessError{s.limit}
	}
	s.left -= int64(n)
	return n, err
}

// Short says how much less text came than the file says; after the end only.
func (s *Source) Short() int64 { return s.left }

// Sum reads what is left of the file and gives the digest of all its bytes.
func (s *Source) Sum() (string, error) {
	if _, err := io.Copy(io.Discard, s.tee); err != nil {
		return "", err
	}
	return hex.EncodeToString(s.digest.Sum(nil)), nil
}

// Close closes the file.
func (s *Source) Close() error {
	s.z.Close()
	return s.f.Close()
}

// Digest reads a file, of which at most limit bytes count, and gives its SHA-256 and its
// length; a length above the limit means that there is more. step is told of the bytes
// as they come, and ends the reading with false.
func Digest(f io.Reader, limit int64, step func(bytes int64) bool) (string, int64, error) {
	h := sha256.New()
	buf := make([]byte, 256<<10)
	var n int64
	for n <= limit {
		k, err := f.Read(buf[:min(int64(len(buf)), limit+1-n)])
		h.Write(buf[:k])
		n += int64(k)
		if err == io.EOF || !step(int64(k)) {
			break
		}
		if err != nil {
			return "", n, err
		}
	}
	return hex.EncodeToString(h.Sum(nil)), n, nil
}
