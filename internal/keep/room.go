package keep

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"

	"golang.org/x/sys/unix"

	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
)

// Floor is the free space that must be left on a keep's file system: a number
// of bytes or a share of the whole.
type Floor struct {
	Bytes   int64
	Percent float64
}

// ParseFloor reads "15%" or "20 GiB". Empty means no floor.
func ParseFloor(s string) (Floor, error) {
	s = strings.TrimSpace(s)
	if s == "" {
		return Floor{}, nil
	}
	if p, ok := strings.CutSuffix(s, "%"); ok {
		v, err := strconv.ParseFloat(strings.TrimSpace(p), 64)
		if err != nil || v < 0 || v >= 100 {
			return Floor{}, fmt.Errorf("%q is not a share from 0%% to 99%%", s)
		}
		return Floor{Percent: v}, nil
	}
	n, err := phrase.ParseBytes(s)
	return Floor{Bytes: n}, err
}

// Room is the state of a keep's file system, in bytes.
type Room struct{ Free, Total, Floor int64 }

// Left is how much may still be written above the floor; negative when the
// floor is crossed already.
func (r Room) Left() int64 { return r.Free - r.Floor }

// Room reads the state of the keep's file system.
func (k *Keep) Room() (Room, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(k.Folder, &st); err != nil {
		return Room{}, fault.New("keep-unreadable", err, "cannot read the free space of %s", k.Folder)
	}
	size := int64(st.Bsize)
	r := Room{Free: int64(st.Bavail) * size, Total: int64(st.Blocks) * size, Floor: k.Floor.Bytes}
	if k.Floor.Percent > 0 {
		r.Floor = int64(float64(r.Total) * k.Floor.Percent / 100)
	}
	return r, nil
}

// FloorReached is the refusal to write below the floor.
func (k *Keep) FloorReached(r Room) error {
	return fault.New("floor-reached", nil, "the floor of the keep %s is reached: %s free, and %s must be left",
		k.Folder, phrase.Bytes(r.Free), phrase.Bytes(r.Floor)).
		Advise("make room on its drive, use a larger one, or lower the floor")
}

// between two looks at the free space
const guardEvery = 4 << 20

// Guard gives a check for writers: it refuses bytes that would cross the floor,
// and any bytes once the keep has gone.
func (k *Keep) Guard() func(n int) error {
	var since atomic.Int64
	since.Store(guardEvery)
	return func(n int) error {
		if since.Add(int64(n)) < guardEvery {
			return nil
		}
		since.Store(0)
		if err := k.Present(); err != nil {
			return err
		}
		r, err := k.Room()
		if err != nil {
			return err
		}
		if r.Floor > 0 && r.Left() < 0 {
			return k.FloorReached(r)
		}
		return nil
	}
}

// SameDrive says whether two paths lie on one file system.
func SameDrive(a, b string) bool {
	x, err := os.Stat(a)
	if err != nil {
		return false
	}
	y, err := os.Stat(b)
	if err != nil {
		return false
	}
	sx, ok1 := x.Sys().(*syscall.Stat_t)
	sy, ok2 := y.Sys().(*syscall.Stat_t)
	return ok1 && ok2 && sx.Dev == sy.Dev
}
