package restore

import (
	"context"
	"fmt"
	"slices"

	"grainkeep/internal/chain"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/pattern"
	"grainkeep/internal/payload"
)

// Elsewise is the code of the error that says why a database cannot be brought from one dump to the next: it must be made
// anew.
const Elsewise = "made-otherwise"

// Onward brings a database from where the dump before a plan's last one left it to the end of the plan, in a session's
// transaction. It gives how many rows changed. What was held back stays so.
func Onward(ctx context.Context, plan *chain.Plan, s engine.UpkeepSession, feed *event.Feed) (int64, error) {
	if err := plan.Whole(ctx); err != nil {
		return 0, err
	}
	l, _, err := picked(ctx, plan, Options{Passive: true})
	if err != nil {
		return 0, err
	}
	l.meter, l.out, l.joined = feed.Gauge(), &Outcome{}, true
	if why, err := l.otherwise(ctx); err != nil || why != "" {
		if why != "" {
			err = fault.New(Elsewise, nil, "the dump %s cannot be put upon the one before: %s", plan.Last().Short(), why)
		}
		return 0, err
	}
	l.meter.Begin("bringing "+l.m.Database+" onward", len(l.tables), 0)
	rows := int64(0)
	for _, t := range l.tables {
		x := l.layers[t.ID][len(l.layers[t.ID])-1]
		n, err := l.onward(ctx, s, t, x)
		if err != nil {
			return rows, err
		}
		rows += n
		l.meter.Done.Add(1)
	}
	n, err := l.streamsOnward(ctx, s)
	if err != nil {
		return rows, err
	}
	return rows + n, l.rowLike(ctx, s)
}

// onward brings one table's rows onward, but for what the log tells.
func (l *loader) onward(ctx context.Context, s engine.Session, t manifest.Table, x payload.Layer) (int64, error) {
	switch t.Change {
	case manifest.Ranges:
		return t.Counts.Written + t.Counts.Removed, l.layer(ctx, s, x)
	case manifest.Whole:
		if err := s.Exec(ctx, "DELETE FROM "+t.ID+";\n"); err != nil {
			return 0, err
		}
		rows := int64(0)
		for _, path := range t.Files {
			n, err := l.file(ctx, s, x.Files, t.ID, path)
			if err != nil {
				return 0, err
			}
			rows += n
		}
		if rows != t.Rows {
			return 0, missing(rows, t.Rows, t.ID)
		}
		return rows, nil
	}
	return 0, nil
}

// streamsOnward replays what the log told in the last dump.
func (l *loader) streamsOnward(ctx context.Context, s engine.UpkeepSession) (rows int64, err error) {
	lanes, err := l.parts.Streams(l.layers)
	if err != nil {
		return 0, err
	}
	for _, lane := range lanes {
		for _, x := range lane {
			if !x.Last {
				continue
			}
			if err := l.stream(ctx, s, x); err != nil {
				return 0, err
			}
			for _, n := range x.Rows {
				rows += n
			}
		}
	}
	return rows, nil
}

// rowLike runs what goes with rows: values of sequences, views that hold rows.
func (l *loader) rowLike(ctx context.Context, s engine.Session) error {
	for _, o := range l.objects {
		if o.Kind != "sequence value" && o.Kind != "refresh" {
			continue
		}
		sql, err := l.files.SQL(ctx, o)
		if err == nil {
			err = s.Exec(ctx, sql)
		}
		if err != nil {
			return fmt.Errorf("the %s: %w", o.ID(), err)
		}
	}
	return nil
}

var counter = pattern.Of(` AUTO_INCREMENT=\d+`)

// otherwise says in which way the plan's last dump is made otherwise than the one before; empty: just its rows are.
func (l *loader) otherwise(ctx context.Context) (string, error) {
	last := l.plan.Last().Manifest
	dumps := l.plan.Dumps()
	if len(dumps) < 2 {
		return "it builds on nothing", nil
	}
	before, err := payload.NewChain(dumps[:len(dumps)-1])
	if err != nil {
		return "", err
	}
	if was := before.Last().Manifest.Payload.SQL; was.Catalog == last.Payload.SQL.Catalog {
		return "", nil
	}
	for _, t := range last.Tables() {
		if was := l.parts.Before(t.ID); was.ID == "" || was.Shape != t.Shape {
			return "the table " + t.ID + " is another one", nil
		}
		if t.ID == "large objects" {
			return "it has large objects", nil
		}
	}
	old, err := before.Structure.Objects(ctx)
	if err != nil {
		return "", err
	}
	now, err := l.parts.Structure.Objects(ctx)
	if err != nil {
		return "", err
	}
	return differ(old, now), nil
}

// differ says which object is not as before.
func differ(old, now []engine.Object) string {
	was := map[string]string{}
	for _, o := range old {
		if !slices.Contains(rowLike, o.Kind) {
			was[o.ID()] = counter().ReplaceAllString(o.SQL, "")
		}
	}
	for _, o := range now {
		if slices.Contains(rowLike, o.Kind) {
			continue
		}
		sql, there := was[o.ID()]
		if !there || sql != counter().ReplaceAllString(o.SQL, "") {
			return "the " + o.ID() + " is new, or another one"
		}
		delete(was, o.ID())
	}
	for id := range was {
		return "the " + id + " is gone"
	}
	return ""
}

// HeldBack gives what of a plan's last dump was held back, with its SQL, in load order.
func HeldBack(ctx context.Context, plan *chain.Plan, kinds []string) (list []engine.Object, err error) {
	parts, err := payload.NewChain(plan.Dumps())
	if err != nil {
		return nil, err
	}
	all, err := parts.Structure.Objects(ctx)
	if err != nil {
		return nil, err
	}
	held := heldBack(all, kinds)
	for _, o := range all {
		if held[o.ID()] {
			list = append(list, o)
		}
	}
	slices.SortStableFunc(list, func(a, b engine.Object) int {
		return slices.Index(engine.Structure, a.Section) - slices.Index(engine.Structure, b.Section)
	})
	return list, nil
}

// heldBack are the IDs of the objects of some kinds, of those that need one of them, and of what acts by itself.
func heldBack(all []engine.Object, kinds []string) map[string]bool {
	held := map[string]bool{}
	for grown := true; grown; {
		grown = false
		for _, o := range all {
			if held[o.ID()] {
				continue
			}
			if slices.Contains(kinds, o.Kind) || o.Section == engine.Active ||
				slices.ContainsFunc(o.Needs, func(n string) bool { return held[n] }) {
				held[o.ID()], grown = true, true
			}
		}
	}
	return held
}
