package cli

import (
	"errors"
	"time"

	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/web"
)

// measured is for how long a reading is given again: it reads whole keeps.
const measured = 20 * time.Second

// measure reads how everything stands.
func (n *night) measure() (web.Reading, error) {
	n.read.Lock()
	defer n.read.Unlock()
	if clock.Since(n.readAt) < measured {
		n.reading.UnderWay = len(n.server.UnderWay())
		return n.reading, nil
	}
	b := n.aside()
	r, err := b.reading(n.config())
	err = errors.Join(append(b.leave(), err)...)
	if err != nil {
		return web.Reading{}, err
	}
	r.UnderWay = len(n.server.UnderWay())
	n.mu.Lock()
	for _, x := range n.slots {
		r.Slots = append(r.Slots, web.Slot{Source: x.Source, Name: x.Name, Job: x.Job, Database: x.Database, Bytes: x.Bytes,
			Limit: x.Limit, Lost: x.Lost})
	}
	n.mu.Unlock()
	n.reading, n.readAt = r, clock.Now()
	return r, nil
}

// reading measures how everything stands.
func (a *app) reading(f *config.File) (r web.Reading, err error) {
	lines, err := a.statusLines(nil)
	if err != nil {
		return r, err
	}
	for _, l := range lines {
		s := web.Sample{Job: l.Job, Database: l.Database, State: string(l.State), Next: l.Next}
		s.Kinds = map[string]time.Time{}
		for kind, d := range l.Of {
			s.Kinds[string(kind)] = d.Manifest.Moment
		}
		if d := l.Last; d != nil {
			s.Moment, s.Took, s.Bytes = d.Manifest.Moment, d.Manifest.Finished.Sub(d.Manifest.Started),
				d.Manifest.StoredBytes
			s.Rows = d.Manifest.Rows()
			if p := d.LastProof(); p != nil && p.Proven {
				s.Proven = p.At
			}
		}
		r.Databases = append(r.Databases, s)
	}
	for _, name := range f.Keeps() {
		k, err := a.jobs(f).OpenKeep(a.ctx, name)
		if err != nil {
			return r, err
		}
		if room, err := k.Room(a.ctx); err == nil && room.Known {
			r.Rooms = append(r.Rooms, web.Room{Keep: name, Free: room.Free, Floor: room.Floor})
		}
	}
	j := a.openJournal(f)
	if j == nil {
		return r, nil
	}
	counts, err := j.Counts(a.ctx)
	if err != nil {
		return r, err
	}
	for _, c := range counts {
		r.Runs = append(r.Runs, web.Ended{Job: c.Job, Command: c.Command, Result: string(c.Result), N: c.N})
	}
	unsent, err := j.Messages(a.ctx)
	r.Unsent = len(unsent)
	return r, err
}
