package dump

import (
	"slices"

	"grainkeep/internal/engine"
)

// Untaken gives the databases of a source that none of some choices takes or leaves out by name, and those that
// restores moved aside.
func Untaken(there []engine.Database, choices []Choice) (untaken, aside []string) {
	known := map[string]bool{}
	for _, c := range choices {
		p, _ := Choose(c, there) // an entry that matches nothing is not what is asked here
		for _, d := range p.Databases {
			known[d.Name] = true
		}
		for _, d := range p.LeftOut {
			known[d] = true
		}
	}
	for _, d := range there {
		switch {
		case engine.MovedAside(d.Name):
			aside = append(aside, d.Name)
		case !known[d.Name] && !d.System && d.Odd == "":
			untaken = append(untaken, d.Name)
		}
	}
	slices.Sort(untaken)
	return untaken, aside
}
