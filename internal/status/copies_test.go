package status

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

func TestRuleOfThree(t *testing.T) {
	at := func(day int) map[string]*keep.Dump {
		return Newest([]*keep.Dump{{Manifest: &manifest.Manifest{Job: "nightly", Database: "a",
			Moment: time.Date(2026, 3, day, 2, 30, 0, 0, time.UTC)}}})
	}
	audit := func(places ...Place) (int, int, int, string) {
		c := Audit("nightly", "a", "drive 1", places)
		return c.Count, c.Media, c.Away, c.Words()
	}
	for name, x := range map[string]struct {
		places             []Place
		count, media, away int
		lacks              string
	}{
		"one keep beside the data": {[]Place{{Name: "barn", Medium: "drive 1", Newest: at(1)}}, 2, 1, 0,
			"2 of the 3 copies that are wanted, all on one medium, none on another machine"},
		"one on a drive of its own": {[]Place{{Name: "barn", Medium: "drive 2", Newest: at(1)}}, 2, 2, 0,
			"2 of the 3 copies that are wanted, none on another machine"},
		"all": {[]Place{{Name: "barn", Medium: "drive 2", Newest: at(1)}, {Name: "vault", Medium: "vault", Away: true,
			Newest: at(1)}}, 3, 3, 1, ""},
		"one that is behind": {[]Place{{Name: "barn", Medium: "drive 2", Newest: at(2)}, {Name: "vault", Medium: "vault",
			Away: true, Newest: at(1)}}, 3, 3, 1, "vault lacks the newest"},
		"one that is empty": {[]Place{{Name: "barn", Medium: "drive 2", Newest: at(2)}, {Name: "vault", Medium: "vault",
			Away: true}}, 2, 2, 0, "vault has no copy, 2 of the 3 copies that are wanted, none on another machine"},
	} {
		count, media, away, lacks := audit(x.places...)
		require.Equal(t, []any{x.count, x.media, x.away, x.lacks}, []any{count, media, away, lacks}, name)
	}
}
