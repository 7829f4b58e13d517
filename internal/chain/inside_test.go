package chain

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

// TestPlacesInALog: names of files count up beyond six digits, and positions have halves of 32 bits.
func TestPlacesInALog(t *testing.T) {
	for _, order := range [][2]string{{"bin.000009:4", "bin.000010:4"}, {"bin.999999:700", "bin.1000000:4"},
		{"bin.000001:4", "bin.000001:5"}, {"9/FFFFFFFF", "7FFFFFFF/0"}, {"0/FFFFFFFF", "1/0"}} {
		a, ok := placeOf(order[0])
		require.True(t, ok, order)
		b, ok := placeOf(order[1])
		require.True(t, ok, order)
		require.True(t, a.before(b), order)
		require.False(t, b.before(a), order)
	}
}

// TestTheBoundaryIsThePosition: what was committed in time, and lies in a dump that follows, is restored too: also
// behind one in which nothing happened, and across the full of the next chain.
func TestTheBoundaryIsThePosition(t *testing.T) {
	chained := func(id, base string, closes string) *keep.Dump {
		d := dumpOf(id, "bookings", "r", time.Time{})
		d.ID, d.Manifest.Base, d.Manifest.Closes, d.Manifest.Kind = id, base, closes, manifest.Incremental
		return d
	}
	full, next := dumpOf("full", "bookings", "r", time.Time{}), dumpOf("next", "bookings", "r", time.Time{})
	full.ID, full.Manifest.Kind, next.ID, next.Manifest.Kind = "full", manifest.Full, "next", manifest.Full
	a, quiet, closing, b := chained("a", "full", ""), chained("quiet", "a", ""), chained("closing", "quiet", "next"),
		chained("b", "next", "")
	of := []*keep.Dump{full, a, quiet, closing, next, b}
	told := map[*keep.Dump]*cut{}
	say := func(d *keep.Dump, last, later int64) {
		told[d] = &cut{plan: &Plan{Changes: []*keep.Dump{d}}, last: manifest.Transaction{Number: last},
			next: manifest.Transaction{Number: later}}
	}
	look := func(d *keep.Dump) (*cut, error) {
		if told[d] == nil {
			return nil, errors.New("damaged")
		}
		return told[d], nil
	}
	end := func() *keep.Dump {
		c, err := told[a].onward(of, look)
		require.NoError(t, err)
		return c.plan.Last()
	}
	say(a, 3, 0)
	say(quiet, 0, 0)
	say(closing, 2, 0)
	say(b, 1, 2)
	require.Equal(t, b, end(), "one of the next chain was in time")
	say(b, 0, 1)
	require.Equal(t, closing, end())
	say(closing, 0, 1)
	require.Equal(t, a, end(), "nothing more was in time")
	say(a, 3, 4)
	delete(told, quiet)
	require.Equal(t, a, end(), "what comes later is not looked at")
	say(a, 3, 0)
	_, err := told[a].onward(of, look)
	require.ErrorContains(t, err, "damaged", "what may be missing is an error")
}
