package stream

import (
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"io"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
)

// Info describes a finished file.
type Info struct {
	Raw    int64  // bytes of text
	Stored int64  // bytes on disk
	SHA256 string // of the bytes on disk
}

// Guard is asked before bytes go to the disk; it refuses when a floor would be
// crossed.
type Guard func(bytes int) error

const (
	chunk  = 256 << 10
	chunks = 4
)

// File writes one file of a dump: text → compression → digest → disk. The
// compression works beside the caller, at most chunks behind.
type File struct {
	f      *os.File
	digest hash.Hash
	guard  Guard
	raw    int64
	stored int64
	meter  *atomic.Int64

	buf  []byte
	full chan []byte
	free chan []byte
	err  atomic.Pointer[error] // the first failure of the background side
	done sync.WaitGroup
}

// Create starts a file; its folder is made if need be. The meter, if any,
// follows the bytes of text as they are compressed.
func Create(path string, c Compression, guard Guard, meter *atomic.Int64) (*File, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	w := &File{f: f, digest: sha256.New(), guard: guard, meter: meter,
		buf: make([]byte, 0, chunk), full: make(chan []byte, chunks), free: make(chan []byte, chunks)}
	z, err := c.writer(diskSide{w})
	if err != nil {
		f.Close()
		return nil, err
	}
	for range chunks - 1 {
		w.free <- make([]byte, 0, chunk)
	}
	w.done.Add(1)
	go w.compress(z)
	return w, nil
}

// diskSide is the far end of the compressor.
type diskSide struct{ w *File }

func (d diskSide) Write(p []byte) (int, error) {
	if d.w.guard != nil {
		if err := d.w.guard(len(p)); err != nil {
			return 0, err
		}
	}
	d.w.digest.Write(p)
	n, err := d.w.f.Write(p)
	d.w.stored += int64(n)
	return n, err
}

func (w *File) compress(z io.WriteCloser) {
	defer w.done.Done()
	for b := range w.full {
		if w.err.Load() == nil {
			if _, err := z.Write(b); err != nil {
				w.err.Store(&err)
			}
			w.raw += int64(len(b))
			if w.meter != nil {
				w.meter.Add(int64(len(b)))
			}
		}
		w.free <- b[:0]
	}
	if err := z.Close(); err != nil && w.err.Load() == nil {
		w.err.Store(&err)
	}
}

func (w *File) failure() error {
	if e := w.err.Load(); e != nil {
		return *e
	}
	return nil
}

// Write takes text. An error of the disk shows at a later Write or at Close.
func (w *File) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		room := cap(w.buf) - len(w.buf)
		if room == 0 {
			if err := w.failure(); err != nil {
				return 0, err
			}
			w.full <- w.buf
			w.buf = <-w.free
			continue
		}
		k := min(room, len(p))
		w.buf = append(w.buf, p[:k]...)
		p = p[k:]
	}
	return n, nil
}

// Close finishes the file and syncs it to the disk.
func (w *File) Close() (Info, error) {
	w.full <- w.buf
	close(w.full)
	w.done.Wait()
	err := w.failure()
	if err == nil {
		err = w.f.Sync()
	}
	if e := w.f.Close(); err == nil {
		err = e
	}
	return Info{Raw: w.raw, Stored: w.stored, SHA256: hex.EncodeToString(w.digest.Sum(nil))}, err
}

// Source reads a file of a dump: disk → digest → decompression → text.
type Source struct {
	f      *os.File
	z      io.ReadCloser
	digest hash.Hash
	tee    io.Reader
}

// Open opens a file of a dump for reading its text.
func Open(path string, c Compression) (*Source, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	s := &Source{f: f, digest: sha256.New()}
	s.tee = io.TeeReader(f, s.digest)
	if s.z, err = c.reader(s.tee); err != nil {
		f.Close()
		return nil, err
	}
	return s, nil
}

// Read gives text.
func (s *Source) Read(p []byte) (int, error) { return s.z.Read(p) }

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

// Digest reads a file and gives its SHA-256 and its length.
func Digest(path string) (string, int64, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	h := sha256.New()
	n, err := io.CopyBuffer(struct{ io.Writer }{h}, f, make([]byte, chunk))
	return hex.EncodeToString(h.Sum(nil)), n, err
}
