package cli

import (
	"fmt"
	"slices"
	"strings"

	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
)

// Bounds of what a failed drill shows; show has the rest.
const (
	shownDifferences = 12
	shownOfOne       = 3 // differences of one thing
	shownLines       = 4 // of a definition that differ
	shownLine        = 200
)

// failedDrill is a dump that failed, with what was found.
type failedDrill struct {
	dump  *keep.Dump
	proof *keep.Proof
}

// printDifferences shows what differs, some of each thing, line by line.
func (a *app) printDifferences(d *keep.Dump, p *keep.Proof) {
	shown, of := 0, map[string]int{}
	for _, x := range p.Details {
		if of[x.Of]++; of[x.Of] > shownOfOne || shown == shownDifferences {
			continue
		}
		shown++
		a.print("        %s\n", x.Text)
		for _, l := range differingLines(x.Was, x.Is) {
			a.print("            %s\n", l)
		}
		if a.quiet && !a.json {
			a.tell(fmt.Sprintf("%s: %s\n", phrase.Clean(d.Path()), phrase.Clean(x.Text)))
		}
	}
	if more := len(p.Differences) - shown; more > 0 {
		a.print("        and %s; 'grainkeep show %s' lists all\n", phrase.Plural(int64(more), "more difference"),
			d.Short())
	}
}

// differingLines are those lines of two forms of a definition that the other has not.
func differingLines(was, is string) (list []string) {
	if was == "" && is == "" {
		return nil
	}
	only := func(a, b, say string) {
		others, n := strings.Split(b, "\n"), 0
		for l := range strings.SplitSeq(a, "\n") {
			if slices.Contains(others, l) {
				continue
			}
			if n++; n > shownLines {
				return
			}
			list = append(list, say+phrase.Shorten(strings.TrimSpace(l), shownLine))
		}
	}
	only(was, is, "was dumped as:  ")
	only(is, was, "came back as:   ")
	return list
}

// adviceOn says what the differences of failed drills mean.
func adviceOn(bad []failedDrill) string {
	has := map[keep.Concern]bool{}
	other := ""
	for _, b := range bad {
		for _, x := range b.proof.Details {
			has[x.Concern] = true
		}
		if from := b.dump.Manifest.Source; from.Version != b.proof.Version {
			other = fmt.Sprintf(" (it is of %s %s and was drilled on %s: drill it on a server of its own version to tell a bad "+
				"dump from a difference between servers)", from.Product, from.Version, b.proof.Version)
		}
	}
	switch {
	case has[keep.OfDump]:
		return "it does not restore: take a new dump now, and keep the older ones" + other
	case has[keep.OfRows]:
		return "rows did not come back as they were dumped: do not rely on it, take a new dump now, and look for the cause" + other
	case has[keep.OfDefinitions]:
		return "the rows came back as they were, and definitions did not: look at each before you rely on it" + other
	}
	return "it restores as it was dumped, and the data does not meet the job's checks: look at the live database"
}
