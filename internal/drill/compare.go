package drill

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/restore"
	"grainkeep/internal/stream"
)

// comparison holds a restored database against its manifest.
type comparison struct {
	d     *keep.Dump
	snap  engine.Snapshot
	out   *restore.Outcome
	proof *keep.Proof
}

func (c *comparison) differ(format string, args ...any) {
	c.proof.Differences = append(c.proof.Differences, fmt.Sprintf(format, args...))
}

// objects compares the database's facts and everything but rows.
func (c *comparison) objects() error {
	cat := c.snap.Catalog()
	for name, want := range c.d.Manifest.Facts {
		if got := cat.Facts[name]; got != want {
			c.differ("the database's %s is %q and was %q", name, got, want)
		}
	}
	dumped, err := restore.Objects(c.d)
	if err != nil {
		return err
	}
	restored := map[string]engine.Object{}
	for _, o := range cat.Objects {
		if o.Section != engine.Owners {
			restored[o.ID()] = o
		}
	}
	for _, want := range dumped {
		if want.Section == engine.Owners {
			continue
		}
		c.proof.Objects++
		got, ok := restored[want.ID()]
		delete(restored, want.ID())
		switch {
		case !ok && !slices.ContainsFunc(c.out.LeftOut, func(s string) bool { return strings.HasPrefix(s, want.ID()+" (") }):
			c.differ("the %s did not come back", want.ID())
		case ok && !c.same(want, got):
			c.differ("the %s came back as: %s", want.ID(), strings.TrimSpace(got.SQL))
		}
	}
	var more []string
	for id := range restored {
		more = append(more, id)
	}
	sort.Strings(more)
	for _, id := range more {
		c.differ("there is a %s that was not dumped", id)
	}
	return nil
}

func (c *comparison) same(want, got engine.Object) bool {
	if slices.Contains(c.out.Unchecked, want.ID()) {
		return canonical(want.Unchecked) == canonical(got.SQL)
	}
	return want.SQL == got.SQL || canonical(want.SQL) == canonical(got.SQL)
}

// tables reads every row back and compares counts and fingerprints.
func (c *comparison) tables(ctx context.Context, meter *stream.Meter) error {
	cat := c.snap.Catalog()
	want := map[string]manifest.Table{}
	var bytes int64
	for _, t := range c.d.Manifest.Tables {
		want[t.ID] = t
		bytes += t.Bytes
	}
	meter.Begin("reading "+c.d.Manifest.Database+" back", len(cat.Tables), bytes)
	found, err := stream.Scan(ctx, c.snap, meter, nil)
	if err != nil {
		return err
	}
	for i, t := range cat.Tables {
		w, ok := want[t.ID]
		delete(want, t.ID)
		if !ok {
			c.differ("there is a table %s that was not dumped", t.ID)
			continue
		}
		c.table(w, t, &found[i])
	}
	for id := range want {
		c.differ("the table %s did not come back", id)
	}
	sort.Strings(c.proof.Differences)
	return nil
}

func (c *comparison) table(want manifest.Table, t engine.Table, got *stream.Counter) {
	c.proof.Tables++
	c.proof.Rows += got.Rows
	switch {
	case !slices.Equal(want.Columns, t.Columns):
		c.differ("the table %s has the columns %v and had %v", t.ID, t.Columns, want.Columns)
	case got.Rows != want.Rows:
		c.differ("the table %s has %s and had %s", t.ID, phrase.Plural(got.Rows, "row"), phrase.Plural(want.Rows, "row"))
	case got.Sum.String() != want.Sum:
		c.differ("the table %s has other values: its fingerprint is %s and was %s", t.ID, got.Sum, want.Sum)
	}
}

// checks asks the administrator's questions.
func (c *comparison) checks(ctx context.Context, checks []Check) error {
	for _, q := range checks {
		if q.Database != "" && q.Database != c.d.Manifest.Database && !phrase.Match(q.Database, c.d.Manifest.Database) {
			continue
		}
		got, err := c.snap.Ask(ctx, q.SQL)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if fault.HasCode(err, engine.Trouble) {
			return err
		}
		a := keep.Answer{SQL: q.SQL, Wanted: q.Answer, Got: got, Good: err == nil && got == q.Answer}
		if err != nil {
			a.Got = "error: " + err.Error()
		}
		c.proof.Checks = append(c.proof.Checks, a)
		if !a.Good {
			c.differ("the check %q answers %q instead of %q", q.SQL, a.Got, q.Answer)
		}
	}
	return nil
}
