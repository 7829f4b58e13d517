package blob

import (
	"io"
	"sync"
)

const (
	aheadChunk = 256 << 10 // bytes
	aheadDepth = 4         // chunks
)

// Ahead reads from another reader in the background, so that who makes the text
// and who takes it work at the same time.
type Ahead struct {
	full   chan piece
	empty  chan []byte
	now    piece
	rest   []byte
	stop   chan struct{}
	once   sync.Once
	ending sync.WaitGroup
}

type piece struct {
	text []byte
	err  error
}

// NewAhead begins to read. Close must be called before the other reader is closed.
func NewAhead(r io.Reader) *Ahead {
	a := &Ahead{full: make(chan piece, aheadDepth), empty: make(chan []byte, aheadDepth), stop: make(chan struct{})}
	for range aheadDepth {
		a.empty <- nil
	}
	a.ending.Go(func() { a.run(r) })
	return a
}

func (a *Ahead) run(r io.Reader) {
	defer close(a.full)
	for {
		var buf []byte
		select {
		case buf = <-a.empty:
		case <-a.stop:
			return
		}
		if buf == nil {
			buf = make([]byte, aheadChunk)
		}
		n, err := io.ReadFull(r, buf[:aheadChunk])
		if err == io.ErrUnexpectedEOF && n > 0 {
			err = nil // the next read tells whether it is the end
		}
		select {
		case a.full <- piece{buf[:n], err}:
		case <-a.stop:
			return
		}
		if err != nil {
			return
		}
	}
}

// Read gives text.
func (a *Ahead) Read(p []byte) (int, error) {
	for len(a.rest) == 0 {
		if a.now.err != nil {
			return 0, a.now.err
		}
		if a.now.text != nil {
			a.empty <- a.now.text
		}
		a.now = <-a.full
		a.rest = a.now.text
		if a.now.text == nil && a.now.err == nil {
			return 0, io.ErrClosedPipe // after Close
		}
	}
	n := copy(p, a.rest)
	a.rest = a.rest[n:]
	return n, nil
}

// Close ends the reading and waits for it.
func (a *Ahead) Close() {
	a.once.Do(func() { close(a.stop) })
	a.ending.Wait()
}
