package phrase

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"grainkeep/internal/pattern"
)

// JobName is what names of jobs look like.
var JobName = pattern.Of(`^[a-z0-9_-]{1,64}$`)

// Reserved are the names that no job may have: a keep's own folders.
var Reserved = []string{"jobs", "proofs", "holds", "runs"}

// IsJob says whether a job may have a name.
func IsJob(name string) bool { return JobName().MatchString(name) && !slices.Contains(Reserved, name) }

// Floor is free space that must be left: a number of bytes or a share of the whole.
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
		if err != nil || !(v >= 0 && v < 100) {
			return Floor{}, fmt.Errorf("%q is not a share from 0%% to 99%%", s)
		}
		return Floor{Percent: v}, nil
	}
	n, err := ParseBytes(s)
	return Floor{Bytes: n}, err
}
