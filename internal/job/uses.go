package job

import (
	"context"

	"grainkeep/internal/event"
	"grainkeep/internal/step"
)

// Uses are the keeps whose steps have been run, until Leave. Not for use side by side.
type Uses struct {
	feed *event.Feed
	open map[string]*step.Use
}

// NewUses begins with none; the feed hears of the steps.
func NewUses(feed *event.Feed) *Uses { return &Uses{feed: feed, open: map[string]*step.Use{}} }

// With gives the set with keeps whose steps are run when they are opened.
func (s Set) With(u *Uses) Set { s.uses = u; return s }

// enter runs the steps before a keep is used, once.
func (s Set) enter(ctx context.Context, name string) error {
	if s.uses == nil {
		return nil
	}
	if _, entered := s.uses.open[name]; entered {
		return nil
	}
	c := s.f.Keep[name]
	a, err := s.around(c.Before, c.After, usesName)
	if err != nil {
		return err
	}
	use, err := a.Enter(ctx, name, step.Facts{Keep: s.f.Place(c)}, s.uses.feed)
	if err == nil {
		s.uses.open[name] = use
	}
	return err
}

// Leave runs the steps after the keeps were used.
func (u *Uses) Leave(ctx context.Context) (failed []error) {
	for _, use := range u.open {
		if err := use.Leave(ctx, u.feed); err != nil {
			failed = append(failed, err)
		}
	}
	u.open = map[string]*step.Use{}
	return failed
}
