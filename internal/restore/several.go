package restore

import (
	"context"
	"slices"

	"grainkeep/internal/chain"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
)

// Task is one restore of several.
type Task struct {
	Plan    *chain.Plan
	To      engine.Location
	Options Options
}

// All restores several databases one after the other; none, where the place of any of them is
// taken. begun and done are told of each. What was left out since it needs another database is tried
// again at the end: outcomes are final when All returns.
func All(ctx context.Context, tasks []Task, feed *event.Feed, begun func(Task),
	done func(Task, *Outcome)) ([]*Outcome, error) {
	if len(tasks) > 1 {
		for _, t := range tasks {
			if err := t.vacant(ctx); err != nil {
				return nil, err
			}
		}
	}
	var list []*Outcome
	for _, t := range tasks {
		begun(t)
		out, err := Run(ctx, t.Plan, t.To, t.Options, feed)
		if err != nil {
			return list, err
		}
		list = append(list, out)
		done(t, out)
	}
	for more := len(tasks) > 1; more; {
		more = false
		for i, t := range tasks {
			made, err := list[i].retry(ctx, t.To)
			if err != nil {
				return list, err
			}
			more = more || made
		}
	}
	return list, nil
}

func (t Task) vacant(ctx context.Context) error {
	src, err := engine.Open(ctx, t.To)
	if err != nil {
		return err
	}
	defer src.Close()
	if t.Options.Name == engine.ServerWide || t.Options.Into {
		return nil
	}
	return src.Vacant(ctx, engine.TargetSpec{Name: t.Options.Name, Replace: t.Options.Replace,
		Disconnect: t.Options.Disconnect})
}

// retry makes in the finished database what was left out, if that works now, and says whether
// any of it did.
func (o *Outcome) retry(ctx context.Context, to engine.Location) (made bool, err error) {
	if !slices.ContainsFunc(o.LeftOut, func(l Lost) bool { return l.sql != "" }) {
		return false, nil
	}
	src, err := engine.Open(ctx, to)
	if err != nil {
		return false, err
	}
	defer src.Close()
	db, ok := src.(engine.Scripter)
	if !ok || o.Name == engine.ServerWide {
		return false, nil
	}
	o.LeftOut = slices.DeleteFunc(o.LeftOut, func(l Lost) bool {
		ok := l.sql != "" && db.Script(ctx, o.Name, l.sql) == nil
		made = made || ok
		return ok
	})
	return made, nil
}
