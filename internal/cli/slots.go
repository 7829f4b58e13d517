package cli

import (
	"context"

	"github.com/spf13/cobra"

	"grainkeep/internal/config"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/job"
	"grainkeep/internal/phrase"
)

func (a *app) slotsCommand() *cobra.Command {
	var from, remove string
	var trim bool
	cmd := explain(&cobra.Command{
		Use: "slots SOURCE", Short: "Show what a server holds back of its log for dumps of changes, and remove it",
		Args: args(0, 1, "a source"),
		RunE: func(_ *cobra.Command, names []string) error {
			return a.slots(append(names, from)[0], remove, trim)
		},
		ValidArgsFunction: a.configured(job.Set.Sources),
	}, usage{`A PostgreSQL server keeps its log for those who read changes from it, in slots. Lists those of
Grain Keep: which job of this configuration each is of, and how much it holds back. One that is
of no job here may be another machine's: nothing is removed unless it is named, or is past the
log_limit of its job and --trim is given.`, [2]string{
		"grainkeep slots quay", "grainkeep slots quay --remove grainkeep_1f2e3d4c5b6a_16384"}})
	cmd.Flags().StringVar(&from, "from", "", "`URL` of a source that is not configured")
	cmd.Flags().StringVar(&remove, "remove", "",
		"remove the slot of this `NAME`, and its publication; the next dump of changes compares")
	cmd.Flags().BoolVar(&trim, "trim", false, "remove those that hold back more than the log_limit of their job")
	return cmd
}

type jsonSlot struct {
	Name     string `json:"name"`
	Source   string `json:"source,omitempty"`
	Database string `json:"database"`
	Job      string `json:"job,omitempty"`
	Bytes    int64  `json:"held_bytes"`
	Limit    int64  `json:"limit_bytes,omitempty"`
	State    string `json:"state"`
	Lost     bool   `json:"lost"`
	Active   bool   `json:"active"`
}

func (a *app) slots(from, remove string, trim bool) error {
	f, err := a.config()
	if err != nil {
		return err
	}
	at, err := sourceOf(f, "slots", from)
	if err != nil {
		return err
	}
	src, err := engine.Open(a.ctx, at)
	if err != nil {
		return err
	}
	defer src.Close()
	h, ok := src.(engine.Holder)
	if !ok {
		a.say("Such a source holds nothing back for those who read its log.")
		return a.emit([]jsonSlot{})
	}
	if remove != "" {
		if err := h.LetGo(a.ctx, remove); err != nil {
			return err
		}
		a.say("Removed %s.", phrase.Clean(remove))
	}
	held, err := a.jobs(f).Slots(a.ctx, at.Name, h)
	if err != nil {
		return err
	}
	if trim {
		feed := &event.Feed{}
		feed.Listen(a.hear)
		if held, err = job.Trim(a.ctx, h, held, feed); err != nil {
			return err
		}
	}
	left, err := h.Leftovers(a.ctx)
	if err != nil {
		return err
	}
	for _, x := range left {
		held = append(held, job.Slot{Held: x, Source: at.Name})
	}
	return a.showSlots(held)
}

func (a *app) showSlots(held []job.Slot) error {
	t := a.newTable([]string{"Slot", "Database", "Job", "Held back", "At most", "State"}, "Held back", "At most").
		without("At most").words("State")
	list := []jsonSlot{}
	for _, x := range held {
		list = append(list, jsonSlot{x.Name, x.Source, x.Database, x.Job, x.Bytes, x.Limit, x.State, x.Lost, x.Active})
		of, size, limit, state := x.Job, "?", "–", x.State
		if of == "" {
			of = "none here"
		}
		if x.Bytes >= 0 {
			size = phrase.Bytes(x.Bytes)
		}
		if x.Limit > 0 {
			limit = phrase.Bytes(x.Limit)
		}
		if x.Active {
			state += ", being read"
		}
		t.row(x.Name, x.Database, of, size, limit, state)
	}
	if len(held) == 0 {
		a.say("The server has no slot of Grain Keep.")
	} else {
		a.print("%s\n", t.render())
	}
	return a.emit(list)
}

// watched is what the sources that are followed hold back of their logs, once that is let go which is past a limit.
// Where one cannot be asked, that is a warning.
func (a *app) watched(f *config.File, trim *event.Feed) (list []job.Slot) {
	for _, name := range a.jobs(f).Followed() {
		slots, err := a.heldBy(f, name, trim)
		if err != nil {
			a.warn("source-unasked", "%s could not be asked what it holds back of its log: %v", name, err)
		}
		list = append(list, slots...)
	}
	return list
}

// heldBy is the same of one of them.
func (a *app) heldBy(f *config.File, name string, trim *event.Feed) ([]job.Slot, error) {
	ctx, cancel := context.WithTimeout(a.ctx, askFor)
	defer cancel()
	at, err := a.jobs(f).Location(name)
	if err != nil {
		return nil, err
	}
	src, err := engine.Open(ctx, at)
	if err != nil {
		return nil, err
	}
	defer src.Close()
	h, ok := src.(engine.Holder)
	if !ok {
		return nil, nil
	}
	slots, err := a.jobs(f).Slots(ctx, name, h)
	if err != nil {
		return nil, err
	}
	return job.Trim(ctx, h, slots, trim)
}

// tellHeld tells how a source's slots are: what is wrong with one as a warning, the others in a line.
func (a *app) tellHeld(source string, slots []job.Slot) {
	var good []string
	for _, x := range slots {
		if why := x.Trouble(); why != "" {
			a.warn("log-held", "%s holds back of its log %s: %s", source, x.Words(), why)
		} else {
			good = append(good, x.Words())
		}
	}
	if len(good) > 0 {
		a.say("%s holds back of its log: %s.", source, several(good))
	}
}
