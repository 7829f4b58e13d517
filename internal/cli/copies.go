package cli

import (
	"fmt"
	"slices"
	"strings"

	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/dump"
	"grainkeep/internal/job"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
	"grainkeep/internal/status"
)

// tellCopies tells of each database what it lacks of three copies on two media, one of them away; the same of a whole job
// in one line. Keeps on other machines are not asked offline: then nothing is said of the jobs that are copied there.
func (a *app) tellCopies(lines []status.Line, list []jsonStatus, offline bool) {
	f, err := a.config()
	if err != nil || f == nil {
		return
	}
	places := map[string]*status.Place{}
	said := map[string][]string{} // what is lacking of a job, by database
	for i, l := range lines {
		j := f.Job[l.Job]
		if offline && slices.ContainsFunc(j.CopyTo, func(k string) bool { return f.Keep[k].Store != "" }) {
			continue
		}
		of := []status.Place{}
		for _, name := range append([]string{j.Keep}, j.CopyTo...) {
			if p := a.placeOf(f, name, places); p != nil {
				of = append(of, *p)
			}
		}
		c := status.Audit(l.Job, l.Database, job.Of(f).LiveMedium(l.Job), of)
		list[i].Copies = &jsonCopies{Count: c.Count, Media: c.Media, Away: c.Away, Lacks: c.Lacks}
		if len(j.CopyTo) > 0 && slices.ContainsFunc(c.Have, func(h status.Copy) bool { return h.Behind }) {
			a.warn("copy-behind", "%s: %s", strings.TrimSuffix(l.Job+"/"+l.Database, "/"), c.Words())
			continue
		}
		said[l.Job] = append(said[l.Job], c.Words())
	}
	for _, name := range f.Jobs() {
		if lacks := slices.Compact(slices.Sorted(slices.Values(said[name]))); len(lacks) == 1 && lacks[0] != "" {
			a.say("Copies of %s (the live data counts as one): %s.", name, lacks[0])
		}
	}
}

// placeOf looks into a keep, once; nil: it cannot be.
func (a *app) placeOf(f *config.File, name string, known map[string]*status.Place) *status.Place {
	if p, seen := known[name]; seen {
		return p
	}
	known[name] = nil
	k, err := a.jobs(f).OpenKeep(a.ctx, name)
	if err == nil {
		p := &status.Place{Name: name}
		p.Medium, p.Away = k.Medium()
		dumps, listed := a.listed[name]
		if !listed {
			dumps, err = k.Dumps(a.ctx)
		}
		if err == nil {
			p.Newest = status.Newest(dumps)
			known[name] = p
			return p
		}
	}
	a.warn("copy-unseen", "the copies in %s could not be looked at: %v", name, err)
	return nil
}

// provenElsewhere gives the dumps of a job the proofs that drills of their copies made, in the keeps that are drilled in
// turns.
func (a *app) provenElsewhere(f *config.File, name string, dumps []*keep.Dump) {
	j := f.Job[name]
	proofs := map[string][]keep.Proof{} // by what the copies are of
	for _, n := range j.DrillFrom {
		if n == j.Keep {
			continue
		}
		k, err := a.jobs(f).OpenKeep(a.ctx, n)
		var copies []*keep.Dump
		if err == nil {
			copies, err = k.Dumps(a.ctx)
		}
		if err != nil {
			a.warn("copy-unseen", "the copies in %s could not be looked at: %v", n, err)
			continue
		}
		for _, d := range copies {
			if d.Manifest != nil && d.Manifest.Job == name && d.ProofErr == nil {
				proofs[d.Origin()] = append(proofs[d.Origin()], d.Proofs...)
			}
		}
	}
	for _, d := range dumps {
		if more := proofs[d.Origin()]; d.Manifest != nil && d.Manifest.Job == name && len(more) > 0 {
			d.Proofs = slices.Concat(d.Proofs, more) // those of a listing are shared
			slices.SortStableFunc(d.Proofs, func(x, y keep.Proof) int { return x.At.Compare(y.At) })
		}
	}
}

// copiesOf says how each database that a job takes stands by the rule of three; the same of several in one line.
func (a *app) copiesOf(f *config.File, name string, s *dump.Survey) {
	j, known := f.Job[name], map[string]*status.Place{}
	var places []status.Place
	for _, n := range append([]string{j.Keep}, j.CopyTo...) {
		if p := a.placeOf(f, n, known); p != nil {
			places = append(places, *p)
		}
	}
	said := map[string][]string{} // databases, by what is to be said of them
	var order []string
	for _, d := range s.Plan.Databases {
		c := status.Audit(name, d.Name, job.Of(f).LiveMedium(name), places)
		if c.Oldest.IsZero() { // it has not been dumped yet
			continue
		}
		text := inWordsOf(c)
		if len(said[text]) == 0 {
			order = append(order, text)
		}
		said[text] = append(said[text], d.Name)
	}
	for _, text := range order {
		of := strings.Join(said[text], ", ")
		if len(order) == 1 && len(said[text]) > 1 {
			of = "each"
		}
		a.say("Copies of %s: %s.", of, text)
	}
}

// inWordsOf tells of the copies of a database: how many, on what, how old and how proven, and which is missing.
func inWordsOf(c status.Copies) string {
	proven := 0
	for _, h := range c.Have {
		if h.Newest != nil && h.Newest.State() == keep.Proven {
			proven++
		}
	}
	text := fmt.Sprintf("%d with the live data, on %s, %d away", c.Count, plurality(c.Media, "medium", "media"), c.Away)
	if !c.Oldest.IsZero() {
		text += fmt.Sprintf("; the oldest of %s; %d proven", phrase.Ago(clock.Since(c.Oldest)), proven)
	}
	if c.Words() != "" {
		text += "; lacking: " + c.Words()
	}
	return text
}

func plurality(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
