package blob

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"hash"
	"runtime"
	"sync"
	"sync/atomic"

	"grainkeep/internal/store"
)

// Info describes a finished file.
type Info struct {
	Path   string // as the dump names it
	Raw    int64  // bytes of text
	Stored int64  // bytes in the store
	SHA256 string // of the bytes in the store
}

// Guard is asked before bytes go to the disk; it refuses when a floor would be
// crossed.
type Guard func(bytes int) error

const (
	chunk     = 512 << 10 // bytes of text that are compressed as one
	pushEvery = 8 << 20
	behind    = 24 // chunks of all files that may be under way: enough to keep a reader going while others compress
)

var (
	chunks     = sync.Pool{New: func() any { b := make([]byte, 0, chunk); return &b }}
	packed     = sync.Pool{New: func() any { return new([]byte) }}
	compressor = make(chan struct{}, runtime.GOMAXPROCS(0)) // bounds the chunks compressed at one time
	underWay   = make(chan struct{}, behind)
)

// parcel is a chunk on its way to the disk.
type parcel struct {
	raw  int // bytes of text
	out  *[]byte
	err  error
	done chan struct{}
}

// hinter is a file that can begin to bring its bytes to the disk early.
type hinter interface{ Hint(offset, length int64) }

// File writes one file of a dump: text → compression → digest → store. Chunks are
// compressed side by side and written in their order. One goroutine uses it.
type File struct {
	w      store.Writer
	c      Compression
	guard  Guard
	digest hash.Hash
	info   Info
	pushed int64 // bytes that the disk was told to begin with
	done   func(Info)

	text  *[]byte
	queue chan *parcel
	ended chan struct{}
	err   atomic.Pointer[error] // the first failure behind the caller's back
}

// New starts a file. The guard may be nil.
func New(w store.Writer, c Compression, guard Guard) *File {
	f := &File{w: w, c: c, guard: guard, digest: sha256.New(), text: chunks.Get().(*[]byte),
		queue: make(chan *parcel, behind), ended: make(chan struct{})}
	go f.store()
	return f
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
	text := w.text
	w.text = nil
	p := &parcel{raw: len(*text), done: make(chan struct{})}
	underWay <- struct{}{}
	go func() {
		defer close(p.done)
		compressor <- struct{}{}
		defer func() { <-compressor }()
		p.out = packed.Get().(*[]byte)
		*p.out, p.err = w.c.encode((*p.out)[:0], *text)
		*text = (*text)[:0] // what waits for the store is packed
		chunks.Put(text)
	}()
	w.queue <- p
}

// store writes chunks in their order.
func (w *File) store() {
	defer close(w.ended)
	for p := range w.queue {
		<-p.done
		if err := w.storeOne(p); err != nil && w.err.Load() == nil {
			w.err.Store(&err)
		}
		packed.Put(p.out)
		w.info.Raw += int64(p.raw)
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
	n, err := w.w.Write(*p.out)
	w.info.Stored += int64(n)
	if h, ok := w.w.(hinter); ok && w.info.Stored-w.pushed >= pushEvery {
		h.Hint(w.pushed, w.info.Stored-w.pushed)
		w.pushed = w.info.Stored
	}
	return err
}

// Close finishes the file: after it, it is durable. The cause is an error of the one who
// wrote the text: then, or if the store failed, there is no file.
func (w *File) Close(cause error) (Info, error) {
	w.send()
	close(w.queue)
	<-w.ended
	if e := w.err.Load(); e != nil {
		cause = *e // what the store says is why the writer failed, too
	}
	w.info.SHA256 = hex.EncodeToString(w.digest.Sum(nil))
	if cause != nil {
		return w.info, errors.Join(cause, w.w.Abort())
	}
	err := w.w.Commit()
	if err == nil && w.done != nil {
		w.done(w.info)
	}
	return w.info, err
}
