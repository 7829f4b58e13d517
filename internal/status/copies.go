package status

import (
	"fmt"
	"strings"
	"time"

	"grainkeep/internal/keep"
)

// Place is a keep in which copies of a job's dumps may be.
type Place struct {
	Name   string                // in the configuration
	Medium string                // tells drives and services apart
	Away   bool                  // it is on another machine
	Newest map[string]*keep.Dump // by JOB/DATABASE, as Newest gives it
}

// Copies is how a database stands by the rule of three: three copies, the live data among them, on two media, one of them
// away.
type Copies struct {
	Job, Database string
	Have          []Copy
	Count         int // copies, with the live data
	Media         int // on which they are
	Away          int // copies on other machines
	Oldest        time.Time
	Lacks         []string // in words; none: the rule holds
}

// Copy is what a place has of a database.
type Copy struct {
	Place  string
	Newest *keep.Dump // nil: it has none
	Behind bool       // it lacks the newest that there is
}

// The rule of three.
const (
	wantedCopies = 3
	wantedMedia  = 2
)

// Audit counts the copies of a database, whose live data is on a medium.
func Audit(job, database, live string, places []Place) Copies {
	c := Copies{Job: job, Database: database, Count: 1}
	media := map[string]bool{live: true}
	var newest *keep.Dump
	for _, p := range places {
		n := p.Newest[job+"/"+database]
		c.Have = append(c.Have, Copy{Place: p.Name, Newest: n})
		if n != nil && (newest == nil || n.Manifest.Moment.After(newest.Manifest.Moment)) {
			newest = n
		}
	}
	for i, p := range places {
		h := &c.Have[i]
		if h.Newest == nil {
			h.Behind = true
			c.Lacks = append(c.Lacks, p.Name+" has no copy")
			continue
		}
		if h.Behind = h.Newest.Manifest.Moment.Before(newest.Manifest.Moment); h.Behind {
			c.Lacks = append(c.Lacks, p.Name+" lacks the newest")
		}
		c.Count++
		media[p.Medium] = true
		if p.Away {
			c.Away++
		}
		if at := h.Newest.Manifest.Moment; c.Oldest.IsZero() || at.Before(c.Oldest) {
			c.Oldest = at
		}
	}
	c.Media = len(media)
	if c.Count < wantedCopies {
		c.Lacks = append(c.Lacks, fmt.Sprintf("%d of the %d copies that are wanted", c.Count, wantedCopies))
	}
	if c.Media < wantedMedia {
		c.Lacks = append(c.Lacks, "all on one medium")
	}
	if c.Away == 0 {
		c.Lacks = append(c.Lacks, "none on another machine")
	}
	return c
}

// Words say what is lacking; empty: nothing.
func (c Copies) Words() string { return strings.Join(c.Lacks, ", ") }

// Newest gives the newest of some dumps, which come oldest first, of each database of a job.
func Newest(dumps []*keep.Dump) map[string]*keep.Dump {
	newest := map[string]*keep.Dump{}
	for _, d := range dumps {
		if d.Manifest != nil {
			newest[d.Name()] = d
		}
	}
	return newest
}
