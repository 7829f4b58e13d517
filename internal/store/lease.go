package store

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"time"
)

// ErrSwapped is what Swap says where a file is not as it was read: somebody else was faster.
var ErrSwapped = errors.New("somebody else has changed it")

// Swapper is a store without locks of its own, in which leases are small files.
type Swapper interface {
	Store
	// Swap puts new bytes in the place of a small file that holds the old ones; without old ones, only where there is no
	// such file. Else ErrSwapped.
	Swap(ctx context.Context, name string, old, data []byte) error
	// Clock is the time by the store's own clock, which the times of its files are of.
	Clock(ctx context.Context) (time.Time, error)
}

// leaseFile is what stands in the file of a lease.
type leaseFile struct {
	Holder
	Token string `json:"token"` // tells one lease from the next
	Beat  int64  `json:"beat"`
}

const maxLease = 4 << 10 // bytes

// fileLease is a lease that is a file, with its holder's name in it. The file's time is the holder's heartbeat. A lease
// whose holder was silent for longer than Expiry is taken over, by whoever swaps its bytes first.
type fileLease struct {
	s    Swapper
	name string
	stop context.CancelFunc
	gone sync.WaitGroup

	mu    sync.Mutex
	own   leaseFile
	bytes []byte
	alive time.Time // when it was known last that the file is ours, by this machine's clock
	lost  error
}

// LeaseByFile takes the lease of a name, or fails with a *HeldError.
func LeaseByFile(ctx context.Context, s Swapper, name string) (Lease, error) {
	var token [8]byte
	rand.Read(token[:])
	l := &fileLease{s: s, name: name, own: leaseFile{Holder: Me(), Token: hex.EncodeToString(token[:])}}
	var err error
	if l.bytes, err = json.Marshal(l.own); err != nil {
		return nil, err
	}
	old, err := vacant(ctx, s, name)
	if err != nil {
		return nil, err
	}
	switch err := s.Swap(ctx, name, old, l.bytes); {
	case errors.Is(err, ErrSwapped):
		if _, err := vacant(ctx, s, name); err != nil {
			return nil, err
		}
		return nil, &HeldError{} // it was taken, and given up again
	case err != nil:
		return nil, err
	}
	l.alive = time.Now()
	beating, stop := context.WithCancel(context.WithoutCancel(ctx))
	l.stop = stop
	l.gone.Go(func() { l.beat(beating) })
	return l, nil
}

// vacant gives what stands in the file of a lease that is nobody's any more; nil: there is none. It fails with a
// *HeldError where somebody holds it.
func vacant(ctx context.Context, s Swapper, name string) (old []byte, err error) {
	e, err := s.Stat(ctx, name)
	if err == nil {
		old, err = ReadAll(ctx, s, name, maxLease)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var f leaseFile
	if json.Unmarshal(old, &f) != nil {
		f = leaseFile{} // half written by somebody: its time tells
	}
	if f.Gone() {
		return old, nil
	}
	now, err := s.Clock(ctx)
	if err != nil {
		return nil, err
	}
	if silent := now.Sub(e.Time); silent < Expiry {
		return nil, &HeldError{Holder: f.Holder, Silent: max(0, silent), Here: f.Here()}
	}
	return old, nil
}

// beat shows that this process is alive, until the lease is released or lost. That the store cannot be reached for a
// while is borne.
func (l *fileLease) beat(ctx context.Context) {
	tick := time.NewTicker(Heartbeat)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if err := l.renew(ctx); errors.Is(err, ErrSwapped) {
			return
		}
	}
}

func (l *fileLease) renew(ctx context.Context) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.lost != nil {
		return ErrSwapped
	}
	next := l.own
	next.Beat++
	data, err := json.Marshal(next)
	if err != nil {
		return err
	}
	began := time.Now()
	wait, cancel := context.WithTimeout(ctx, Expiry/4)
	defer cancel()
	switch err = l.s.Swap(wait, l.name, l.bytes, data); {
	case err == nil:
		l.own, l.bytes, l.alive = next, data, began
	case errors.Is(err, ErrSwapped) || errors.Is(err, fs.ErrNotExist):
		// Our own bytes may stand there all the same: an answer that was lost.
		if now, e := ReadAll(wait, l.s, l.name, maxLease); e == nil && bytes.Equal(now, data) {
			l.own, l.bytes, l.alive = next, data, began
			return nil
		}
		l.lost = fmt.Errorf("the lease %s was taken over or removed", l.s.Where(l.name))
	}
	return err
}

// Held implements Lease: it looks at the file.
func (l *fileLease) Held() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.lost != nil {
		return l.lost
	}
	ctx, cancel := context.WithTimeout(context.Background(), Expiry/4)
	defer cancel()
	now, err := ReadAll(ctx, l.s, l.name, maxLease)
	switch {
	case err == nil && bytes.Equal(now, l.bytes):
		return nil
	case err == nil || errors.Is(err, fs.ErrNotExist):
		l.lost = fmt.Errorf("the lease %s was taken over or removed", l.s.Where(l.name))
	case time.Since(l.alive) > Expiry/2:
		l.lost = fmt.Errorf("the lease %s could not be renewed for too long: %w", l.s.Where(l.name), err)
	}
	return l.lost
}

// Release implements Lease.
func (l *fileLease) Release() error {
	l.stop()
	l.gone.Wait()
	if l.Held() != nil {
		return nil // it is somebody else's
	}
	ctx, cancel := context.WithTimeout(context.Background(), Expiry/4)
	defer cancel()
	return IgnoreAbsent(l.s.Remove(ctx, l.name))
}
