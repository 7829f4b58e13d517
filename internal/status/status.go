// Package status says how each database of the jobs stands: by what the keeps hold, and by when it
// should have been dumped and drilled.
package status

import (
	"fmt"
	"slices"
	"time"

	"grainkeep/internal/dump"
	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/schedule"
)

// State is how a database stands, in a word.
type State string

// The states, from good to bad.
const (
	Good       State = "good"
	Shrunk     State = "shrunk"      // its newest dump lost a table, or most rows of one
	Unread     State = "unread"      // a dump of it was not read back for too long
	Unproven   State = "unproven"    // a drill was due since its newest proof
	Low        State = "low on room" // the next run will not fit above the keep's floor
	Late       State = "late"        // one dump was due since its newest, and is overdue
	Missed     State = "missed"      // several
	None       State = "none"        // there is no dump of it
	Failed     State = "failed"      // its newest run failed, or its newest dump failed its drill
	Unreadable State = "unreadable"  // its newest dump, or what may be it, cannot be read
)

// order is from good to bad.
var order = []State{Good, Shrunk, Unread, Unproven, Low, Late, Missed, None, Failed, Unreadable}

// Worse says whether a state is worse than another.
func (s State) Worse(than State) bool { return slices.Index(order, s) > slices.Index(order, than) }

// Stale says whether somebody should look.
func (s State) Stale() bool { return s != Good && s != Shrunk }

// Job is what is asked about.
type Job struct {
	Name      string
	Databases []string // that its configuration names
	Dumps     []Due    // by kind, the largest first
	Drill     []*phrase.Schedule
	Grace     time.Duration // how late is late
	Zone      *time.Location

	LastRun    *journal.Run         // the newest run of its dumps; nil: not known
	Read       map[string]time.Time // when dumps were last read back, by id
	ReadWithin time.Duration        // each dump is to be read back once in this time; 0: nothing says
	Room       keep.Room            // of its keep
}

// Due is when dumps of a kind are due.
type Due struct {
	Kind manifest.Kind
	When []*phrase.Schedule
}

// Line is how one database of a job stands.
type Line struct {
	Job, Database string
	Last          *keep.Dump                   // its newest dump that can be read; nil: there is none
	Of            map[manifest.Kind]*keep.Dump // the newest of each kind
	Proven        time.Time                    // when a dump of it was last proven; zero: never
	Unread        time.Time                    // when that dump of it was last read that is unread for longest; zero: there is none
	Next          time.Time                    // when its next dump is due; zero: nothing says
	State         State
	Why           string
}

// Of gives the lines of a job, by what its keep holds, sorted by database. Where nothing is known of it, there is one
// without a database.
func Of(j Job, dumps []*keep.Dump, now time.Time) (lines []Line) {
	newest, kinds := map[string]*keep.Dump{}, map[string]map[manifest.Kind]*keep.Dump{}
	var whole *keep.Dump // of the newest run that took all that the job means
	names := slices.Clone(j.Databases)
	for _, d := range dumps { // oldest first
		if d.Manifest == nil || d.Manifest.Job != j.Name {
			continue
		}
		newest[d.Manifest.Database] = d
		if kinds[d.Manifest.Database] == nil {
			kinds[d.Manifest.Database] = map[manifest.Kind]*keep.Dump{}
		}
		kinds[d.Manifest.Database][d.Manifest.Kind] = d
		switch run := d.Manifest.Run; {
		case run.Narrowed:
			names = append(names, d.Manifest.Database)
		case whole == nil || whole.Manifest.Run.ID != run.ID: // what it does not have is the job's no more
			whole, names = d, slices.Concat(j.Databases, run.Databases)
		}
	}
	if len(names) == 0 {
		names = []string{""} // nothing is known of it yet
	}
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		l := Line{Job: j.Name, Database: name, Last: newest[name], Of: kinds[name]}
		for _, d := range j.Dumps {
			if at := due(d.When, now, j.Zone); !at.IsZero() && (l.Next.IsZero() || at.Before(l.Next)) {
				l.Next = at
			}
		}
		l.Proven, l.Unread = j.known(name, dumps)
		l.State, l.Why = j.state(l, dumps, now)
		lines = append(lines, l)
	}
	return lines
}

// due is the first time after an instant that any phrase says.
func due(when []*phrase.Schedule, after time.Time, zone *time.Location) time.Time {
	next := schedule.Next([]schedule.Plan{{When: when}}, func(string, schedule.What) time.Time { return time.Time{} },
		after, zone, 1)
	if len(next) == 0 {
		return time.Time{}
	}
	return next[0].At
}

// mostMissed bounds how many missed runs are counted.
const mostMissed = 1000

// overdue counts the times that were due after an instant and are late now.
func (j Job) overdue(when []*phrase.Schedule, since, now time.Time) (n int, first time.Time) {
	for at := since; n < mostMissed; n++ {
		at = due(when, at, j.Zone)
		if at.IsZero() || at.Add(j.Grace).After(now) {
			return n, first
		}
		if n == 0 {
			first = at
		}
	}
	return n, first
}

func (j Job) state(l Line, dumps []*keep.Dump, now time.Time) (State, string) {
	for _, d := range dumps {
		if d.Err != nil && d.MayBeOf(j.Name, l.Database) && (l.Last == nil ||
			!d.When().Before(l.Last.Manifest.Moment)) {
			return Unreadable, "a dump that may be its newest cannot be read"
		}
	}
	if l.Last == nil {
		return None, "there is no dump of it yet"
	}
	m := l.Last.Manifest
	if s := l.Last.State(); s.Bad() {
		return Failed, "its newest dump " + string(s)
	}
	if why := j.failed(l); why != "" {
		return Failed, why
	}
	if late, why := j.late(l, now); why != "" {
		return late, why
	}
	if j.short(dumps) {
		return Low, "its keep has " + phrase.Bytes(max(0, j.Room.Left())) +
			" above its floor, and the last run took more"
	}
	if l.Last.Drillable() {
		if n, first := j.overdue(j.Drill, j.proven(l.Database, dumps), now); n > 0 {
			return Unproven, "a drill was due " + phrase.Ago(now.Sub(first))
		}
	}
	if since := now.Sub(l.Unread); j.ReadWithin > 0 && !l.Unread.IsZero() && since > j.ReadWithin+j.Grace {
		return Unread, "a dump of it was last read " + phrase.Ago(since) + ": 'grainkeep verify " + j.Name +
			" --due' reads it"
	}
	for _, w := range m.Warnings {
		if w.Code == dump.Shrunk {
			return Shrunk, w.Text
		}
	}
	return Good, ""
}

// late says whether dumps were due since the last of their kind, or of a larger one.
func (j Job) late(l Line, now time.Time) (worst State, why string) {
	worst = Good
	var since time.Time
	for _, d := range j.Dumps {
		if last := l.Of[d.Kind]; last != nil && last.Manifest.Started.After(since) {
			since = last.Manifest.Started
		}
		from, what, many := since, "it", "dump"
		if since.IsZero() { // there is no full: what there is stands for it
			from = l.Last.Manifest.Started
		}
		if len(j.Dumps) > 1 {
			many = string(d.Kind) + " dump"
			what = "its " + many
		}
		n, first := j.overdue(d.When, from, now)
		switch {
		case n == 1 && Late.Worse(worst):
			worst, why = Late, what+" was due "+phrase.Ago(now.Sub(first))
		case n > 1 && Missed.Worse(worst):
			worst, why = Missed, fmt.Sprintf("%s were due since the last, the first %s", phrase.Plural(int64(n), many),
				phrase.Ago(now.Sub(first)))
		}
	}
	return worst, why
}

// known is when a database was last proven, and when that dump of it was last read that is unread for longest.
func (j Job) known(database string, dumps []*keep.Dump) (proven, unread time.Time) {
	for _, d := range dumps {
		if d.Manifest == nil || d.Manifest.Job != j.Name || d.Manifest.Database != database {
			continue
		}
		if p := d.LastProof(); p != nil && p.Proven && p.At.After(proven) {
			proven = p.At
		}
		if at := LastRead(d, j.Read); unread.IsZero() || at.Before(unread) {
			unread = at
		}
	}
	return proven, unread
}

// failed says why the newest run did not dump a database, if it is newer than its newest dump.
func (j Job) failed(l Line) string {
	r := j.LastRun
	if r == nil || r.Result != journal.Failed && r.Result != journal.Killed ||
		!r.Started.After(l.Last.Manifest.Started) {
		return ""
	}
	why := r.Reason
	for _, p := range r.Parts {
		if p.Name == l.Database && p.Result == journal.Good {
			return ""
		}
		if p.Name == l.Database {
			why = p.Reason
		}
	}
	return "its newest run failed: " + why
}

// short says whether the keep lacks the room for another run like the last.
func (j Job) short(dumps []*keep.Dump) bool {
	if !j.Room.Known || j.Room.Floor == 0 {
		return false
	}
	last := map[string]int64{}
	for _, d := range dumps {
		if d.Manifest != nil && d.Manifest.Job == j.Name && d.Manifest.Kind == manifest.Full {
			last[d.Manifest.Database] = d.Manifest.StoredBytes
		}
	}
	var need int64
	for _, n := range last {
		need += n
	}
	return need > j.Room.Left()
}

// proven is when a database was last proven, or else first dumped: a drill can be due only since then.
func (j Job) proven(database string, dumps []*keep.Dump) (at time.Time) {
	var first time.Time
	for _, d := range dumps {
		if d.Manifest == nil || d.Manifest.Job != j.Name || d.Manifest.Database != database {
			continue
		}
		if first.IsZero() {
			first = d.Manifest.Finished
		}
		for _, p := range d.Proofs {
			if p.Proven && p.At.After(at) {
				at = p.At
			}
		}
	}
	if at.IsZero() {
		return first
	}
	return at
}

// LastRead is when a dump was last read to its end: by a drill, by what the journal knows, or when it was made.
func LastRead(d *keep.Dump, read map[string]time.Time) (at time.Time) {
	if d.Manifest == nil {
		return at
	}
	at = d.Manifest.Finished
	for _, t := range []time.Time{read[d.ID], provenAt(d)} {
		if t.After(at) {
			at = t
		}
	}
	return at
}

func provenAt(d *keep.Dump) time.Time {
	if p := d.LastProof(); p != nil && p.Proven {
		return p.At
	}
	return time.Time{}
}
