package s3

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"github.com/minio/minio-go/v7"

	"grainkeep/internal/store"
)

// The size of parts, in bytes. A service takes ten thousand of an object, so later ones are larger: 135 GiB in all.
const (
	firstBytes = 256 << 10 // of which room is made before it is known that more comes
	partBytes  = 5 << 20   // the least that services take
	laterParts = 5000      // from this part on twice as large
	lastParts  = 8000      // from this one on eight times
	mostParts  = 10000
)

// Create implements store.Store. The object is not there before it is complete.
func (s *Store) Create(ctx context.Context, name string) (store.Writer, error) {
	if err := store.CheckName(name); err != nil {
		return nil, err
	}
	return &writer{ctx: ctx, s: s, name: name}, nil
}

// writer takes the bytes of one object, and sends them in parts; what fits into one is sent as a whole. While a part is
// under way the next one is gathered, for a few objects at a time: memory is bounded.
type writer struct {
	ctx    context.Context
	s      *Store
	name   string
	buffer []byte
	spare  []byte // of a part that has arrived
	size   int64
	upload string // empty: none has begun
	parts  []minio.CompletePart
	flying chan arrival // of the part that is under way; nil: none is
}

// arrival is what came of a part.
type arrival struct {
	part   minio.CompletePart
	err    error
	buffer []byte
}

// ahead bounds the parts that are under way while the next ones are gathered, of all objects.
var ahead = make(chan struct{}, 3)

func (w *writer) Write(p []byte) (n int, err error) {
	for len(p) > 0 {
		w.makeRoom(len(p))
		room := min(len(p), w.partSize()-len(w.buffer))
		w.buffer = append(w.buffer, p[:room]...)
		p, n, w.size = p[room:], n+room, w.size+int64(room)
		if len(w.buffer) == w.partSize() {
			if err := w.send(); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

// makeRoom makes room for bytes that come: little at first, then for a whole part.
func (w *writer) makeRoom(n int) {
	if w.buffer == nil && w.spare != nil {
		w.buffer, w.spare = w.spare, nil
	}
	if w.buffer == nil {
		w.buffer = make([]byte, 0, firstBytes)
	}
	if len(w.buffer)+n > cap(w.buffer) && cap(w.buffer) < w.partSize() {
		w.buffer = append(make([]byte, 0, w.partSize()), w.buffer...)
	}
}

// partSize is that of the part that is gathered.
func (w *writer) partSize() int {
	n := len(w.parts)
	if w.flying != nil {
		n++
	}
	switch {
	case n >= lastParts:
		return 8 * partBytes
	case n >= laterParts:
		return 2 * partBytes
	}
	return partBytes
}

// send sends what is gathered as the next part, once the one before has arrived.
func (w *writer) send() (err error) {
	if err := w.arrive(); err != nil {
		return err
	}
	if w.upload == "" {
		w.upload, err = w.s.c.NewMultipartUpload(w.ctx, w.s.at.bucket, w.s.key(w.name), w.s.options(w.name))
		if err != nil {
			return w.s.broken("write", w.name, err)
		}
	}
	if len(w.parts) == mostParts {
		return w.s.broken("write", w.name, errors.New("it is too large for this kind of store"))
	}
	w.flying = make(chan arrival, 1)
	select {
	case ahead <- struct{}{}:
		go func(number int, buffer []byte, done chan arrival) {
			a := w.part(number, buffer)
			<-ahead
			done <- a
		}(len(w.parts)+1, w.buffer, w.flying)
		w.buffer = nil
		return nil
	default: // enough is under way
		w.flying <- w.part(len(w.parts)+1, w.buffer)
		w.buffer = nil
		return w.arrive()
	}
}

// part sends a part.
func (w *writer) part(number int, data []byte) arrival {
	sum := sha256.Sum256(data)
	p, err := w.s.c.PutObjectPart(w.ctx, w.s.at.bucket, w.s.key(w.name), w.upload, number, bytes.NewReader(data),
		int64(len(data)), minio.PutObjectPartOptions{Sha256Hex: hex.EncodeToString(sum[:]), Md5Base64: w.s.md5(w.name, data),
			DisableContentSha256: true}) // which is ours: it is not to be reckoned a second time
	return arrival{minio.CompletePart{PartNumber: number, ETag: p.ETag}, err, data[:0]}
}

// arrive waits for the part that is under way.
func (w *writer) arrive() error {
	if w.flying == nil {
		return nil
	}
	a := <-w.flying
	w.flying, w.spare = nil, a.buffer
	if a.err != nil {
		return w.s.broken("write", w.name, a.err)
	}
	w.parts = append(w.parts, a.part)
	return nil
}

// Commit implements store.Writer.
func (w *writer) Commit() (err error) {
	if w.upload == "" {
		return w.whole()
	}
	if len(w.buffer) > 0 {
		err = w.send()
	}
	if err == nil {
		err = w.arrive()
	}
	if err == nil {
		err = w.complete()
	}
	if err != nil {
		return errors.Join(err, w.Abort())
	}
	return nil
}

// whole sends what was written as one object, if there is none yet.
func (w *writer) whole() error {
	s := w.s
	if s.unconditional.Load() {
		if there, err := store.Exists(w.ctx, s, w.name); there || err != nil {
			return s.broken("write", w.name, errors.Join(err, fs.ErrExist))
		}
	}
	err := s.put(w.ctx, w.name, w.buffer, onlyNew)
	if exists(err) { // perhaps by us, and the answer was lost
		if now, e := store.ReadAll(w.ctx, s, w.name, int64(len(w.buffer))); e == nil && bytes.Equal(now, w.buffer) {
			return nil
		}
	}
	if err != nil {
		return s.broken("write", w.name, err)
	}
	return nil
}

// complete makes the object of its parts, if there is none yet.
func (w *writer) complete() error {
	s := w.s
	finish := func(o minio.PutObjectOptions) error {
		_, err := s.c.CompleteMultipartUpload(w.ctx, s.at.bucket, s.key(w.name), w.upload, w.parts, o)
		return err
	}
	o := minio.PutObjectOptions{}
	if !s.unconditional.Load() {
		onlyNew(&o)
	} else if there, err := store.Exists(w.ctx, s, w.name); there || err != nil {
		return s.broken("write", w.name, errors.Join(err, fs.ErrExist))
	}
	err := finish(o)
	if unknown(err) {
		s.unconditional.Store(true)
		return w.complete()
	}
	if code(err) == "NoSuchUpload" || exists(err) { // the answer that was lost may have been that it is done
		e, e2 := s.Stat(w.ctx, w.name)
		if code(err) == "NoSuchUpload" && e2 == nil && e.Bytes == w.size {
			w.upload = ""
			return nil
		}
	}
	if err != nil {
		return s.broken("write", w.name, err)
	}
	w.upload = ""
	e, err := s.Stat(w.ctx, w.name)
	if errors.Is(err, fs.ErrPermission) { // who may only write takes the service at its word
		return nil
	}
	if err == nil && e.Bytes != w.size {
		err = fmt.Errorf("the service has %d bytes of %s, and %d were written", e.Bytes, s.Where(w.name), w.size)
	}
	return err
}

// Abort implements store.Writer.
func (w *writer) Abort() error {
	if w.upload == "" {
		return nil
	}
	_ = w.arrive() // whatever came of it goes
	err := w.s.c.AbortMultipartUpload(context.WithoutCancel(w.ctx), w.s.at.bucket, w.s.key(w.name), w.upload)
	if code(err) == "NoSuchUpload" {
		err = nil
	}
	w.upload = ""
	return err
}

// Open implements store.Store.
func (s *Store) Open(ctx context.Context, name string, offset, length int64) (io.ReadCloser, error) {
	if err := store.CheckName(name); err != nil {
		return nil, err
	}
	e, err := s.Stat(ctx, name)
	if err != nil {
		return nil, err
	}
	if e.Folder {
		return nil, s.broken("open", name, store.ErrNotRegular)
	}
	end := e.Bytes
	if length >= 0 {
		end = min(end, offset+length)
	}
	r := &reader{ctx: ctx, s: s, name: name, at: offset, end: end}
	if offset < end {
		err = r.open()
	}
	return r, err
}

// reader reads an object, and goes on where a connection was lost.
type reader struct {
	ctx     context.Context
	s       *Store
	name    string
	at, end int64
	body    io.ReadCloser
	tag     string // of the object that was opened first
}

func (r *reader) open() error {
	o := minio.GetObjectOptions{}
	err := o.SetRange(r.at, r.end-1)
	if err == nil && r.tag != "" {
		err = o.SetMatchETag(r.tag)
	}
	if err != nil {
		return err
	}
	body, info, _, err := r.s.c.GetObject(r.ctx, r.s.at.bucket, r.s.key(r.name), o)
	if err != nil {
		return r.s.broken("open", r.name, err)
	}
	r.body, r.tag = body, info.ETag
	return nil
}

func (r *reader) Read(p []byte) (int, error) {
	for n := 0; ; n++ {
		if r.at >= r.end {
			return 0, io.EOF
		}
		if r.body == nil {
			if err := r.open(); err != nil {
				return 0, err
			}
		}
		got, err := r.body.Read(p)
		r.at += int64(got)
		if got > 0 || err == nil {
			return got, nil
		}
		r.body.Close()
		r.body = nil
		if r.ctx.Err() != nil {
			return 0, context.Cause(r.ctx)
		}
		if n == tries {
			return 0, r.s.broken("read", r.name, err)
		}
	}
}

// Close implements io.Closer.
func (r *reader) Close() error {
	if r.body == nil {
		return nil
	}
	return r.body.Close()
}
