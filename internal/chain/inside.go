package chain

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/pattern"
	"grainkeep/internal/payload"
	"grainkeep/internal/phrase"
)

// Stop is where a plan stops inside its last dump.
type Stop struct {
	After manifest.Transaction // the last one that is restored
	Asked time.Time            // the moment that was asked for; zero: the transaction itself was
}

// transactionNamed is what names of transactions, and places in logs, look like.
var transactionNamed = pattern.Of(`^(?:[0-9]+(?:-[0-9]+-[0-9]+)?|[0-9A-Za-z._-]+:[0-9A-Za-z:_-]*[0-9]+|[0-9A-F]+/[0-9A-F]+)$`)

// Transaction reads what names a transaction: an id or a place in the server's log as 'find' prints them. With "before"
// the moment just before it is meant.
func Transaction(at string) (name string, before, ok bool) {
	name, before = strings.CutPrefix(strings.TrimSpace(at), "before ")
	name = strings.TrimSpace(name)
	return name, before, transactionNamed().MatchString(name)
}

// Inside makes the plan of a moment between two dumps of a database, from what the server's log told. There is none
// where no log tells of that moment; then the end of a dump is meant.
func Inside(ctx context.Context, dumps []*keep.Dump, job, database, at string, now time.Time) (*Plan, error) {
	of, _ := Moments(dumps, job, database)
	if len(of) == 0 {
		return nil, nil
	}
	links := Link(dumps)
	when, err := phrase.ParseWhen(at, Zone(of[len(of)-1]), now)
	if name, before, ok := Transaction(at); ok && err != nil {
		return links.named(ctx, of, name, before)
	}
	if err != nil || !when.Until.Before(now) {
		return nil, nil //nolint:nilerr // whoever looks for the end of a dump says what is wrong with it
	}
	c, err := links.cutAt(ctx, of, when.Until)
	if c == nil || err != nil {
		return nil, err
	}
	return links.stopped(c.plan, Stop{After: c.last, Asked: when.Until})
}

// InsideAll makes the plans of one moment between two runs of a job, of each database of its newest complete run before
// now. On one server they end at one place in its log. There are none where the log does not tell of that moment in all
// of the databases; then the ends of dumps are meant. What is no database comes as it was last before.
func InsideAll(ctx context.Context, dumps []*keep.Dump, job, at string, now time.Time) ([]*Plan, error) {
	run, err := Find(dumps, job, "", now)
	if err != nil || run[0].Manifest.Job != job {
		return nil, nil //nolint:nilerr // whoever looks for the ends of dumps says what is wrong
	}
	when, err := phrase.ParseWhen(at, Zone(run[0]), now)
	if err != nil || !when.Until.Before(now) {
		return nil, nil //nolint:nilerr // the same
	}
	links := Link(dumps)
	var cuts []*cut
	var plans []*Plan
	for _, d := range run {
		if d.Manifest.Payload.SQL == nil || d.Manifest.Database == engine.ServerWide {
			found, err := Find(dumps, d.Name(), at, now)
			if err != nil {
				return nil, err
			}
			p, err := links.To(found[0])
			if err != nil {
				return nil, err
			}
			plans = append(plans, p)
			continue
		}
		of, _ := Moments(dumps, job, d.Manifest.Database)
		c, err := links.cutAt(ctx, of, when.Until)
		if c == nil || err != nil {
			return nil, err
		}
		cuts = append(cuts, c)
	}
	for _, c := range cuts {
		if err := c.before(ctx, cuts); err != nil {
			return nil, err
		}
		p, err := links.stopped(c.plan, Stop{After: c.last, Asked: when.Until})
		if err != nil {
			return nil, err
		}
		plans = append(plans, p)
	}
	return plans, nil
}

// cut is where a moment lies inside a dump.
type cut struct {
	plan       *Plan
	last, next manifest.Transaction // before the moment, and after it; without numbers: there is none in the dump
}

// cutAt finds the dump of a database, by their moments, inside which a moment lies, and where; nil: no log tells of it. A
// dump's moment is a little later than its place in the log, so what was committed just before it can be in the dump
// that follows: where all of a dump was committed in time, the log is read on.
func (l Links) cutAt(ctx context.Context, of []*keep.Dump, until time.Time) (c *cut, err error) {
	for _, d := range of {
		base := l[d.Manifest.Base]
		if d.Manifest.Kind != manifest.Incremental || base == nil || !d.Manifest.Moment.After(until) ||
			base.Manifest.Moment.After(until) {
			continue
		}
		if c, err = l.cut(ctx, d, until); c != nil || err != nil {
			break
		}
	}
	if c == nil || err != nil {
		return nil, err
	}
	return c.onward(of, func(d *keep.Dump) (*cut, error) { return l.cut(ctx, d, until) })
}

// cut finds where a moment lies inside a dump; nil: it is not from a log.
func (l Links) cut(ctx context.Context, d *keep.Dump, until time.Time) (*cut, error) {
	p, err := l.To(d)
	if err == nil {
		err = p.Whole(ctx)
	}
	if err != nil {
		return nil, err
	}
	if d.Manifest.Payload.SQL == nil || d.Manifest.Payload.SQL.Log == nil {
		return nil, nil
	}
	c := &cut{plan: p}
	return c, eachTransaction(ctx, d, func(t manifest.Transaction) bool {
		if t.Time.After(until) { // in the log's order: clocks step back
			c.next = t
			return false
		}
		c.last = t
		return true
	})
}

// onward moves the cut into dumps that follow, as long as the log of those goes on with transactions that are in time.
func (c *cut) onward(of []*keep.Dump, look func(*keep.Dump) (*cut, error)) (*cut, error) {
	for at := c.plan.Last(); c.next.Number == 0; {
		if at = following(of, at); at == nil {
			return c, nil
		}
		on, err := look(at)
		switch {
		case err != nil:
			return nil, err
		case on == nil || on.last.Number == 0 && on.next.Number > 0:
			return c, nil
		case on.last.Number > 0:
			c = on
		}
	}
	return c, nil
}

// following is the increment in which the log goes on where a dump ends, or the full that it closes its chain for; nil:
// there is none.
func following(of []*keep.Dump, d *keep.Dump) *keep.Dump {
	at := slices.IndexFunc(of, func(o *keep.Dump) bool {
		base := o.Manifest.Base
		return o.Manifest.Kind == manifest.Incremental && base != "" &&
			(base == d.ID || base == d.Origin() || base == d.Manifest.Closes)
	})
	if at < 0 {
		return nil
	}
	return of[at]
}

// before moves the cut to where the first of some cuts of one server's log is: a transaction that is not wanted in one
// database may have been seen by a later one in another.
func (c *cut) before(ctx context.Context, all []*cut) error {
	var first logPlace
	for _, o := range all {
		at, ok := placeOf(o.next.Position)
		if ok && c.plan.sameLog(o.plan) && (first == logPlace{} || at.before(first)) {
			first = at
		}
	}
	if at, ok := placeOf(c.last.Position); !ok || first == (logPlace{}) || at.before(first) {
		return nil
	}
	c.last = manifest.Transaction{}
	return eachTransaction(ctx, c.plan.Last(), func(t manifest.Transaction) bool {
		if at, ok := placeOf(t.Position); !ok || !at.before(first) {
			return false
		}
		c.last = t
		return true
	})
}

// sameLog says whether two plans end in the log of one server.
func (p *Plan) sameLog(o *Plan) bool {
	a, b := p.Last().Manifest.To, o.Last().Manifest.To
	return a != nil && b != nil && a.System != "" && a.System == b.System
}

// stopped is a plan that stops inside its last dump, or the one before it, where nothing of the last is wanted.
func (l Links) stopped(p *Plan, s Stop) (*Plan, error) {
	if s.After.Number == 0 {
		d := l[p.Last().Manifest.Base]
		q, err := l.To(d)
		if err == nil {
			q.Asked = s.Asked
		}
		return q, err
	}
	p.Stop, p.Asked = &s, s.Asked
	if s.Asked.IsZero() || p.Until.After(s.Asked) {
		p.Until = s.After.Time
	}
	return p, nil
}

// named finds the transaction of a name, the newest first.
func (l Links) named(ctx context.Context, of []*keep.Dump, name string, before bool) (*Plan, error) {
	for _, d := range slices.Backward(of) {
		p, err := l.To(d)
		if err != nil || d.Manifest.Kind != manifest.Incremental {
			continue
		}
		if err := p.Whole(ctx); err != nil {
			return nil, err
		}
		if d.Manifest.Payload.SQL == nil || d.Manifest.Payload.SQL.Log == nil {
			continue
		}
		var last manifest.Transaction
		found := false
		place, isPlace := placeOf(name)
		err = eachTransaction(ctx, d, func(t manifest.Transaction) bool {
			if at, _ := placeOf(t.Position); isPlace && place.before(at) {
				found = found || last.Number > 0 // it lies behind another one of this dump
				return false
			}
			if found = t.ID == name || t.Position == name; !found || !before {
				last = t
			}
			return !found
		})
		if isPlace && !before && !found && d.Manifest.To != nil { // behind the last one
			end, from := positionPlace(d.Manifest.To), positionPlace(d.Manifest.From)
			found = end != logPlace{} && !end.before(place) && !place.before(from)
		}
		if err != nil {
			return nil, err
		}
		if found {
			p, err := l.stopped(p, Stop{After: last})
			if err == nil && before {
				p.Before = name
			}
			return p, err
		}
	}
	place, isPlace := placeOf(name)
	for _, d := range slices.Backward(of) { // the very place at which a dump stands
		if isPlace && !before && d.Manifest.To != nil && positionPlace(d.Manifest.To) == place {
			return l.To(d)
		}
	}
	return nil, fault.Wrong("transaction-absent", "no dump of %s has a transaction %s from the server's log",
		of[0].Name(), phrase.Clean(name)).Advise("'grainkeep find %s' lists those that there are", of[0].Name())
}

// logPlace is a place in a log: in one of its files, whose numbers count up, or in the one stream that it is.
type logPlace struct {
	file   string
	offset int64
}

// positionPlace is the place of a position.
func positionPlace(p *engine.Position) logPlace {
	if p == nil {
		return logPlace{}
	}
	if at, ok := placeOf(p.LSN); ok {
		return at
	}
	return logPlace{p.File, p.Offset}
}

func placeOf(text string) (p logPlace, ok bool) {
	if high, low, is := strings.Cut(text, "/"); is {
		h, err1 := strconv.ParseUint(high, 16, 32)
		l, err2 := strconv.ParseUint(low, 16, 32)
		return logPlace{"", int64(h<<32 | l)}, err1 == nil && err2 == nil
	}
	at := strings.LastIndexByte(text, ':')
	if at < 1 {
		return p, false
	}
	offset, err := strconv.ParseInt(text[at+1:], 10, 64)
	return logPlace{text[:at], offset}, err == nil && strings.Contains(text[:at], ".")
}

func (p logPlace) before(other logPlace) bool {
	if p.file == other.file {
		return p.offset < other.offset
	}
	a, b := numberOf(p.file), numberOf(other.file)
	return len(a) < len(b) || len(a) == len(b) && a < b
}

// numberOf is the number at the end of a log file's name, without zeros in front: names of more digits than six come
// after those with six.
func numberOf(file string) string {
	return strings.TrimLeft(file[strings.LastIndexByte(file, '.')+1:], "0")
}

// eachTransaction reads a dump's list of transactions, as long as more are wanted.
func eachTransaction(ctx context.Context, d *keep.Dump, each func(manifest.Transaction) bool) error {
	c, err := payload.NewReader(d)
	if err != nil {
		return err
	}
	more := true
	return c.EachTransaction(ctx, func(t manifest.Transaction) error {
		more = more && each(t)
		return nil
	})
}

// Reaches says why a plan that stops inside its last dump cannot give some tables as they were then; nil tables: all
// of them. Empty: it can.
func (p *Plan) Reaches(tables map[string]bool) string {
	if p.Stop == nil {
		return ""
	}
	d := p.Last()
	for _, t := range d.Manifest.Tables() {
		if (tables == nil || tables[t.ID]) && t.Change != manifest.Logged && t.Change != manifest.Unchanged {
			why := t.NoLog
			if why == "" {
				why = "it has all its rows"
			}
			return fmt.Sprintf("of %s, the dump %s has only how it was in the end: %s", t.ID, d.Short(), why)
		}
	}
	return ""
}
