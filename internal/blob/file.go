package blob

import (
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"

	"golang.org/x/sys/unix"
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
	chunk     = 512 << 10 // bytes of text that are compressed as one
	pushEvery = 8 << 20
	behind    = 48 // chunks of all files that may be under way: enough to keep a reader going while others compress
)

var (
	chunks     = sync.Pool{New: func() any { b := make([]byte, 0, chunk); return &b }}
	packed     = sync.Pool{New: func() any { return new([]byte) }}
	compressor = make(chan struct{}, runtime.GOMAXPROCS(0)) // bounds the chunks compressed at one time
	underWay   = make(chan struct{}, behind)
)

// parcel is a chunk on its way to the disk.
type parcel struct {
	text *[]byte
	out  *[]byte
	err  error
	done chan struct{}
}

// File writes one file of a dump: text → compression → digest → disk. Chunks are
// compressed side by side and written in their order.
type File struct {
	f      *os.File
	c      Compression
	guard  Guard
	digest hash.Hash
	info   Info
	pushed int64 // bytes that the disk was told to begin with

	text  *[]byte
	queue chan *parcel
	ended chan struct{}
	err   atomic.Pointer[error] // the first failure behind the caller's back
}

// Create starts a file; its folder is made if need be.
func Create(path string, c Compression, guard Guard) (*File, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	w := &File{f: f, c: c, guard: guard, digest: sha256.New(), text: chunks.Get().(*[]byte),
		queue: make(chan *parcel, behind), ended: make(chan struct{})}
	go w.store()
	return w, nil
}

// Write takes text. An error of the disk shows at a later Write or at Close.
func (w *File) Write(p []byte) (int, error) {
	n := len(p)
	for {
		room := chunk - len(*w.text)
		if len(p) <= room {
			*w.text = append(*w.text, p...)
			return n, nil
		}
		*w.text = append(*w.text, p[:room]...)
		p = p[room:]
		if e := w.err.Load(); e != nil {
			return 0, *e
		}
		w.send()
		w.text = chunks.Get().(*[]byte)
	}
}

// send hands the current chunk on.
func (w *File) send() {
	p := &parcel{text: w.text, done: make(chan struct{})}
	w.text = nil
	underWay <- struct{}{}
	go func() {
		defer close(p.done)
		compressor <- struct{}{}
		defer func() { <-compressor }()
		p.out = packed.Get().(*[]byte)
		*p.out, p.err = w.c.encode((*p.out)[:0], *p.text)
	}()
	w.queue <- p
}

// store writes chunks in their order.
func (w *File) store() {
	defer close(w.ended)
	for p := range w.queue {
		<-p.done
		n := len(*p.text)
		*p.text = (*p.text)[:0]
		chunks.Put(p.text)
		if err := w.storeOne(p); err != nil && w.err.Load() == nil {
			w.err.Store(&err)
		}
		packed.Put(p.out)
		w.info.Raw += int64(n)
		<-underWay
	}
}

func (w *File) storeOne(p *parcel) error {
	if e := w.err.Load(); e != nil {
		return *e
	}
	if p.err != nil {
		return p.err
	}
	if w.guard != nil {
		if err := w.guard(len(*p.out)); err != nil {
			return err
		}
	}
	w.digest.Write(*p.out)
	n, err := w.f.Write(*p.out)
	w.info.Stored += int64(n)
	if w.info.Stored-w.pushed >= pushEvery {
		// Only a hint: Close syncs, and tells errors. It has less to wait for then.
		_ = unix.SyncFileRange(int(w.f.Fd()), w.pushed, w.info.Stored-w.pushed, unix.SYNC_FILE_RANGE_WRITE)
		w.pushed = w.info.Stored
	}
	return err
}

// Close finishes the file and syncs it to the disk.
func (w *File) Close() (Info, error) {
	w.send()
	close(w.queue)
	<-w.ended
	var err error
	if e := w.err.Load(); e != nil {
		err = *e
	} else {
		err = w.f.Sync()
	}
	if e := w.f.Close(); err == nil {
		err = e
	}
	w.info.SHA256 = hex.EncodeToString(w.digest.Sum(nil))
	return w.info, err
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
	n, err := io.CopyBuffer(struct{ io.Writer }{h}, f, make([]byte, 256<<10))
	return hex.EncodeToString(h.Sum(nil)), n, err
}
