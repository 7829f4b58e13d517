// Package standby keeps a second database up: first a restore, then each dump as it comes, put upon the one before. How far
// it has come stands in the database itself, and changes with its rows: so nothing is applied twice, whoever is killed.
package standby

import (
	"context"
	"errors"
	"slices"
	"time"

	"grainkeep/internal/chain"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/restore"
)

// Standby is a database that is kept up.
type Standby struct {
	Name    string
	To      engine.Location
	As      string          // its name there
	Options restore.Options // what becomes of owners and roles
	Behind  time.Duration   // past this age it is made anew, if that is the shorter way; 0: never for that
}

// Outcome is what following came to.
type Outcome struct {
	Dump         *keep.Dump // that it is at now
	Applied      int        // dumps that were put upon others
	Transactions int64      // in those, as far as a log told
	Rows         int64      // that changed
	Made         string     // why it was made anew; empty: it was not
	First        bool       // it was made for the first time
	Restored     *restore.Outcome
	Writable     string // why others may write to it; empty: they may not
}

// step is a dump to be put upon the one before, and what the database is at then.
type step struct {
	plan *chain.Plan // that ends with it
	then string      // a dump's origin: it is the same in every keep, sealed or not
}

// way are the dumps between the one that a database is at and the end of a plan; why says that there is no such way.
func way(all []*keep.Dump, links chain.Links, at string, to *chain.Plan) (steps []step, why string, err error) {
	return wayOver(all, links, at, to, map[*keep.Dump]bool{})
}

// wayOver does it over the chains that were not passed yet.
func wayOver(all []*keep.Dump, links chain.Links, at string, to *chain.Plan, passed map[*keep.Dump]bool) (steps []step, why string,
	err error) {
	dumps := to.Dumps()
	if i := slices.IndexFunc(dumps, func(d *keep.Dump) bool { return d.Origin() == at }); i >= 0 {
		for _, d := range dumps[i+1:] {
			p, err := links.To(d)
			if err != nil {
				return nil, "", err
			}
			if d.Manifest.Kind != manifest.Incremental && at != to.Base.Origin() {
				return nil, "a differential builds on the full, and the database is further on already", nil
			}
			at = d.Origin()
			steps = append(steps, step{p, at})
		}
		return steps, "", nil
	}
	for _, joint := range slices.Backward(dumps) {
		closed := slices.IndexFunc(all, func(d *keep.Dump) bool { return d.Manifest != nil && d.Manifest.Closes == joint.Origin() })
		if closed < 0 {
			continue
		}
		if passed[all[closed]] {
			return nil, "its dumps close each other's chains in a circle", nil
		}
		passed[all[closed]] = true
		end, err := links.To(all[closed])
		if err != nil {
			return nil, "the chain that it followed is broken: " + err.Error(), nil
		}
		if steps, why, err = wayOver(all, links, at, end, passed); err != nil || why != "" {
			return nil, why, err
		}
		if len(steps) == 0 { // it is at the end of the old chain, which is the beginning of the new one
			return nil, "it is past the end of the chain that it followed", nil
		}
		steps[len(steps)-1].then = joint.Origin()
		more, why, err := wayOver(all, links, joint.Origin(), to, passed)
		return append(steps, more...), why, err
	}
	return nil, "no dump of the keep builds on what it is at", nil
}

// Lag is how far a database is behind the newest dump.
type Lag struct {
	Dumps        int
	Transactions int64  // in those, as far as a log told
	Anew         string // why it would be made anew; empty: it would not
}

// Behind says how far what is at a dump is behind the end of a plan.
func Behind(ctx context.Context, all []*keep.Dump, at string, to *chain.Plan) (l Lag, err error) {
	steps, why, err := way(all, chain.Link(all), at, to)
	if err != nil {
		return l, err
	}
	l.Dumps, l.Anew = len(steps), why
	for _, s := range steps {
		if err := s.plan.Last().Whole(ctx); err != nil {
			return l, err
		}
		if log := s.plan.Last().Manifest.Payload.SQL.Log; log != nil {
			l.Transactions += log.Transactions
		}
	}
	return l, nil
}

// upkeeper opens the server of a standby.
func (s *Standby) upkeeper(ctx context.Context) (engine.Source, engine.Upkeeper, error) {
	src, err := engine.Open(ctx, s.To)
	if err != nil {
		return nil, nil, err
	}
	u, is := src.(engine.Upkeeper)
	if !is {
		return nil, nil, errors.Join(fault.Wrong("standby-impossible", "a standby is a database of a server, and %s is none", s.To.Name).
			Advise("restore the file by 'refresh'"), src.Close())
	}
	return src, u, nil
}

// Follow brings the database to the end of a plan. The dumps are all that there are of its name. released is the mark that
// is not followed any more.
func (s *Standby) Follow(ctx context.Context, all []*keep.Dump, to *chain.Plan, feed *event.Feed) (out *Outcome, err error) {
	src, u, err := s.upkeeper(ctx)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, src.Close()) }()
	at, err := u.Marked(ctx, s.As)
	if err != nil {
		return nil, err
	}
	out = &Outcome{}
	switch at {
	case "":
		out.First = true
		err = s.remake(ctx, u, src, to, false, out, feed)
	case Released:
		return nil, fault.Wrong("standby-released", "the database %s was released: it is no standby any more", s.As).
			Advise("'grainkeep standby release %s' finishes what was begun; to have a standby again, give it another name", s.Name)
	default:
		err = s.onward(ctx, u, src, all, at, to, out, feed)
	}
	if err != nil {
		return nil, err
	}
	out.Writable, err = u.Readable(ctx, s.As)
	return out, err
}

// onward goes the way from where the database is, or makes it anew where there is none.
func (s *Standby) onward(ctx context.Context, u engine.Upkeeper, src engine.Source, all []*keep.Dump, at string, to *chain.Plan,
	out *Outcome, feed *event.Feed) error {
	links := chain.Link(all)
	steps, why, err := way(all, links, at, to)
	if err != nil {
		return err
	}
	if why == "" && s.Behind > 0 && links[at] != nil && to.Until.Sub(links[at].Manifest.Moment) > s.Behind && len(steps) > len(to.Dumps()) {
		why = "it was further behind than its limit, and that is the shorter way"
	}
	out.Dump = links[at]
	for i := 0; i < len(steps) && why == ""; i++ {
		if why, err = s.apply(ctx, u, at, steps[i], out, feed); err != nil {
			return err
		}
		at = steps[i].then
		out.Dump = links[at]
	}
	if why == "" {
		return nil
	}
	out.Made = why
	feed.Warn("standby-anew", "", "the standby %s is made anew: %s", s.Name, why)
	return s.remake(ctx, u, src, to, true, out, feed)
}

// hopeless are the codes of errors that say that a dump cannot be put upon what is there.
var hopeless = []string{restore.Elsewise, "rows-differ", "rows-missing", engine.RuleBroken}

// apply puts one dump upon the one before; why says that it cannot be.
func (s *Standby) apply(ctx context.Context, u engine.Upkeeper, at string, x step, out *Outcome, feed *event.Feed) (why string,
	err error) {
	session, err := u.Onward(ctx, s.As, at)
	if err != nil {
		return "", err
	}
	rows, err := restore.Onward(ctx, x.plan, session, feed)
	if err == nil {
		err = session.Commit(context.WithoutCancel(ctx), x.then)
	}
	if e := session.Close(); err == nil && e != nil {
		err = e
	}
	var f *fault.Error
	if errors.As(err, &f) && ctx.Err() == nil && slices.Contains(hopeless, f.Code) {
		return f.Error(), nil
	}
	if err != nil {
		return "", err
	}
	out.Applied++
	out.Rows += rows
	if log := x.plan.Last().Manifest.Payload.SQL.Log; log != nil {
		out.Transactions += log.Transactions
	}
	return "", nil
}

// remake restores the end of a plan, and puts it in the place of the database that is there. It is read-only, where the
// server has a means, and what would act on rows is held back.
func (s *Standby) remake(ctx context.Context, u engine.Upkeeper, src engine.Source, to *chain.Plan, replace bool, out *Outcome,
	feed *event.Feed) error {
	opt := s.Options
	opt.Name, opt.Replace, opt.Disconnect, opt.Passive, opt.Held = s.As, replace, replace, true, u.HeldBack()
	opt.After = u.MarkSQL(to.Last().Origin())
	if f, is := src.(engine.Freezer); is && f.Freezable(ctx) == nil {
		opt.ReadOnly = true
	}
	got, err := restore.Run(ctx, to, s.To, opt, feed)
	if err != nil {
		return err
	}
	out.Restored, out.Dump = got, to.Last()
	if got.Aside == "" {
		return nil
	}
	if err := src.(engine.Dropper).Drop(ctx, got.Aside); err != nil {
		return fault.New("aside-left", err, "the standby is made anew, and the one before, %s, could not be removed", got.Aside)
	}
	return nil
}

// Released is the mark of a database whose release was begun.
const Released = "released"

// At is the origin of the dump that the database is at; empty: there is no such database.
func (s *Standby) At(ctx context.Context) (string, error) {
	src, u, err := s.upkeeper(ctx)
	if err != nil {
		return "", err
	}
	at, err := u.Marked(ctx, s.As)
	return at, errors.Join(err, src.Close())
}

// Release makes what was held back, and lets the database be written. links are the dumps that there are. It tells what
// could not be made as it was.
func (s *Standby) Release(ctx context.Context, links chain.Links, feed *event.Feed) (left []string, err error) {
	src, u, err := s.upkeeper(ctx)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, src.Close()) }()
	at, err := u.Marked(ctx, s.As)
	switch {
	case err != nil:
		return nil, err
	case at == "":
		return nil, fault.Wrong("standby-absent", "there is no standby %s at %s", s.As, s.To.Name).
			Advise("'grainkeep standby follow %s' makes it", s.Name)
	case at == Released:
		return nil, u.Release(ctx, s.As)
	case links[at] == nil:
		return nil, fault.New("dump-absent", nil, "the dump %.10s, at which %s is, is not in the keep, and what was held back stands in it",
			at, s.As).
			Advise("follow first, or name the keep that has it")
	}
	plan, err := links.To(links[at])
	if err == nil {
		err = plan.Whole(ctx)
	}
	if err != nil {
		return nil, err
	}
	held, err := restore.HeldBack(ctx, plan, u.HeldBack())
	if err != nil {
		return nil, err
	}
	if left, err = s.complete(ctx, u, at, held, feed); err != nil {
		return nil, err
	}
	return left, u.Release(context.WithoutCancel(ctx), s.As)
}

// complete makes objects that were held back. A rule that the rows break is added without testing them, or left out.
func (s *Standby) complete(ctx context.Context, u engine.Upkeeper, at string, held []engine.Object, feed *event.Feed) (left []string,
	err error) {
	session, err := u.Onward(ctx, s.As, at)
	if err != nil {
		return nil, err
	}
	defer func() {
		if e := session.Close(); err == nil {
			err = e
		}
	}()
	feed.Gauge().Begin("releasing "+s.As, len(held), 0)
	for _, o := range held {
		sql := o.SQL
		if s.Options.Owners == restore.Mine {
			if o.Section == engine.Owners || o.Kind == "owner" {
				continue
			}
			sql = o.AsCurrentUser(sql)
		}
		err := tried(ctx, session, sql)
		if err != nil && o.Unchecked != "" && tried(ctx, session, o.Unchecked) == nil {
			left = append(left, "the "+o.ID()+" was added without testing the rows that are there: "+err.Error())
			continue
		}
		if err != nil && !o.Rule {
			return nil, fault.New("release-failed", err, "the %s could not be made", o.ID())
		}
		if err != nil {
			left = append(left, "the "+o.ID()+" is left out: "+err.Error())
		}
		feed.Gauge().Done.Add(1)
	}
	return left, session.Commit(context.WithoutCancel(ctx), Released)
}

// tried runs statements; if they fail, what was done before stays.
func tried(ctx context.Context, s engine.Session, sql string) error {
	const point = "grainkeep_release"
	if err := s.Exec(ctx, "SAVEPOINT "+point+";\n"); err != nil {
		return err
	}
	err := s.Exec(ctx, sql)
	if err != nil && ctx.Err() == nil {
		_ = s.Exec(ctx, "ROLLBACK TO SAVEPOINT "+point+";\n") // a server whose definitions are no part of transactions has none
	}
	return err
}
