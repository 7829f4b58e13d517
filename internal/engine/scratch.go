package engine

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"grainkeep/internal/pattern"
)

// Databases of a server under these names are being drilled or restored.
const (
	DrillPrefix   = "grainkeep_drill_"
	RestorePrefix = "grainkeep_restore_"
)

// WorkName is the name that a database has until it is complete: it tells the keep and
// the run.
func (t TargetSpec) WorkName() string {
	if t.Name == "" {
		return DrillPrefix + t.KeepID + "_" + t.Run
	}
	return RestorePrefix + t.KeepID + "_" + t.Run
}

// WorkOf says whether a name is one that a keep's own runs give.
func WorkOf(keepID, name string) bool {
	return strings.HasPrefix(name, DrillPrefix+keepID+"_") || strings.HasPrefix(name, RestorePrefix+keepID+"_")
}

// AsideName is the name that an old database gets, of at most limit bytes: one that no
// other has.
func (t TargetSpec) AsideName(limit int, taken func(name string) (bool, error)) (string, error) {
	name := t.Name + "_before_" + strings.ToLower(t.Aside.UTC().Format("20060102T150405Z"))
	for n := 1; ; n++ {
		free := name
		if n > 1 { // within the same second
			free += fmt.Sprint("_", n)
		}
		for free = free[max(0, len(free)-limit):]; !utf8.RuneStart(free[0]); free = free[1:] { // no half of a character
		}
		if there, err := taken(free); err != nil || !there {
			return free, err
		}
	}
}

// BesideName is a name for what is restored beside a database: bookings_restored, bookings_restored_2;
// a file keeps its ending.
func BesideName(name string, n int) string {
	const most = 48 // bytes, well below what servers allow
	ending := ""
	if i := strings.LastIndexByte(name, '.'); i > 0 {
		name, ending = name[:i], name[i:]
	}
	for len(name) > most || !utf8.ValidString(name) {
		name = name[:len(name)-1]
	}
	if name += "_restored"; n > 1 {
		name += fmt.Sprint("_", n)
	}
	return name + ending
}

// aside is how the name of a database ends that a restore moved aside.
var aside = pattern.Of(`[_-]before[_-]\d{8}[tT]\d{6}[zZ](?:_\d+)?(?:\.\w+)?$`)

// MovedAside says whether a name is that of a database that a restore moved aside.
func MovedAside(name string) bool { return aside().MatchString(name) }

// Swept tells what was done about what killed runs had left.
type Swept struct {
	Removed  []string // scratch databases
	Foreign  []string // with names of scratch databases, which do not bear the keep's mark
	Finished []string // restored databases that are in their place now
	Notes    []string // sentences about what else to know
}

// Sentences says it.
func (s Swept) Sentences() (list []string) {
	for _, n := range s.Removed {
		list = append(list, fmt.Sprintf("removed the scratch database %s that a killed run left", n))
	}
	for _, n := range s.Foreign {
		list = append(list,
			fmt.Sprintf("%s looks like a scratch database but does not bear this keep's mark; it was not touched", n))
	}
	for _, n := range s.Finished {
		list = append(list, fmt.Sprintf("finished a restore that was killed: the database %s is in its place now", n))
	}
	return append(list, s.Notes...)
}
