package folder

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"sync"
	"time"

	"grainkeep/internal/store"
	"grainkeep/internal/system"
)

// A lease is a file with its holder's name in it. It is held in two ways at once: by a
// lock, which the kernel gives up for a holder that dies, but which two machines over a
// shared mount may not see of each other; and by a heartbeat, the file's time, which
// everybody sees.

const maxLease = 4 << 10 // bytes

// heartbeat is how often a holder shows that it is alive; tests are faster.
var heartbeat = store.Heartbeat

type lease struct {
	s    *Store
	name string
	f    *os.File
	me   store.Holder
	stop chan struct{}
	gone sync.WaitGroup

	mu   sync.Mutex
	lost error
}

// Lease implements store.Leaser.
func (s *Store) Lease(_ context.Context, name string) (store.Lease, error) {
	l, err := s.tryLease(name)
	if err != nil {
		return nil, err
	}
	l.gone.Go(l.beat)
	return l, nil
}

// tryLease takes a lease. Its file may be removed by its last holder at any time, so
// once it is locked it must still be the one that has the name.
func (s *Store) tryLease(name string) (*lease, error) {
	for range 100 {
		if err := s.makeFolders(name); err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				continue // the last to leave removed the folder
			}
			return nil, err
		}
		f, err := s.lockFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		held, err := s.claim(f, name)
		if err == nil && held == nil {
			return s.hold(f, name)
		}
		f.Close()
		if held != nil {
			return nil, held
		}
		if !errors.Is(err, errGone) {
			return nil, err
		}
	}
	return nil, s.broken("lock", name, fs.ErrExist)
}

var errGone = errors.New("its last holder removed it")

// lockFile opens a lease's file. A link in its place is an error, and so is a pipe.
func (s *Store) lockFile(name string) (*os.File, error) {
	if st, err := s.root.Lstat(name); err == nil && !st.Mode().IsRegular() {
		return nil, s.broken("lock", name, store.ErrNotRegular)
	}
	f, err := s.root.OpenFile(name, os.O_CREATE|os.O_RDWR|system.NoFollow|system.NoWait, 0o600)
	if err != nil {
		return nil, s.broken("lock", name, err)
	}
	if st, err := f.Stat(); err != nil || !st.Mode().IsRegular() {
		f.Close()
		return nil, s.broken("lock", name, store.ErrNotRegular)
	}
	return f, nil
}

// claim says who holds a lease whose file is open, or locks it.
func (s *Store) claim(f *os.File, name string) (*store.HeldError, error) {
	var holder store.Holder
	data, err := io.ReadAll(io.LimitReader(f, maxLease))
	if err != nil {
		return nil, s.broken("read", name, err)
	}
	known := json.Unmarshal(data, &holder) == nil && holder.PID != 0
	if system.Lock(f) != nil {
		return &store.HeldError{Holder: holder, Here: holder.Boot == store.ThisBoot()}, nil
	}
	here, err := f.Stat()
	if err != nil {
		return nil, err
	}
	there, err := s.root.Lstat(name)
	if err != nil || !os.SameFile(here, there) {
		return nil, errGone
	}
	if !known || holder.Boot == store.ThisBoot() {
		return nil, nil // on this machine the lock alone tells: its holder is dead
	}
	now, err := s.clock(name)
	if err != nil {
		return nil, err
	}
	if silent := now.Sub(here.ModTime()); silent < store.Expiry {
		return &store.HeldError{Holder: holder, Silent: silent}, nil
	}
	return nil, nil
}

// clock is the time by the store's own clock, which the times of its files are of.
func (s *Store) clock(beside string) (time.Time, error) {
	f, temp, err := s.temporary(beside)
	if err != nil {
		return time.Time{}, err
	}
	_, err = f.WriteString("now")
	st, e := f.Stat()
	err = errors.Join(err, e, f.Close(), s.root.Remove(temp))
	if err != nil {
		return time.Time{}, err
	}
	return st.ModTime(), nil
}

// hold writes this process's name into a lease that it has locked.
func (s *Store) hold(f *os.File, name string) (*lease, error) {
	l := &lease{s: s, name: name, f: f, stop: make(chan struct{}), me: store.Me()}
	if err := l.write(); err != nil {
		f.Close()
		return nil, s.broken("lock", name, err)
	}
	return l, nil
}

func (l *lease) write() error {
	data, err := json.Marshal(l.me)
	if err != nil {
		return err
	}
	if err := l.f.Truncate(int64(len(data))); err != nil {
		return err
	}
	_, err = l.f.WriteAt(data, 0)
	return err
}

// beat shows that this process is alive, until the lease is released or lost.
func (l *lease) beat() {
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	for {
		select {
		case <-l.stop:
			return
		case <-tick.C:
		}
		if l.Held() != nil {
			return
		}
		if err := l.write(); err != nil {
			l.fail(err)
			return
		}
	}
}

func (l *lease) fail(err error) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.lost == nil {
		l.lost = err
	}
	return l.lost
}

// Held implements store.Lease.
func (l *lease) Held() error {
	l.mu.Lock()
	lost := l.lost
	l.mu.Unlock()
	if lost != nil {
		return lost
	}
	here, err := l.f.Stat()
	if err != nil {
		return l.fail(err)
	}
	there, err := l.s.root.Lstat(l.name)
	if err != nil || !os.SameFile(here, there) {
		return l.fail(l.s.broken("lock", l.name, errors.New("somebody removed the lease of this run")))
	}
	return nil
}

// Release implements store.Lease. The folder of the leases goes too, if nothing else is
// in it.
func (l *lease) Release() error {
	close(l.stop)
	l.gone.Wait()
	var err error
	if l.Held() == nil {
		err = l.s.root.Remove(l.name)
	}
	_ = l.s.root.Remove(path.Dir(l.name)) // not empty: others are at work
	return errors.Join(err, l.f.Close())
}
