package cli

import (
	"github.com/spf13/cobra"

	"grainkeep/internal/config"
	"grainkeep/internal/dump"
	"grainkeep/internal/engine"
	"grainkeep/internal/job"
	"grainkeep/internal/phrase"
)

func (a *app) slotsCommand() *cobra.Command {
	var from, remove string
	cmd := explain(&cobra.Command{
		Use: "slots SOURCE", Short: "Show what a server holds back of its log for dumps of changes, and remove it",
		Args: args(0, 1, "a source"),
		RunE: func(_ *cobra.Command, names []string) error {
			return a.slots(append(names, from)[0], remove)
		},
		ValidArgsFunction: a.configured(job.Set.Sources),
	}, usage{`A PostgreSQL server keeps its log for those who read changes from it, in slots. Lists those of
Grain Keep: which job of this configuration each is of, and how much it holds back. One that is
of no job here may be another machine's: nothing is removed unless it is named.`, [2]string{
		"grainkeep slots quay", "grainkeep slots quay --remove grainkeep_1f2e3d4c5b6a_16384"}})
	cmd.Flags().StringVar(&from, "from", "", "`URL` of a source that is not configured")
	cmd.Flags().StringVar(&remove, "remove", "",
		"remove the slot of this `NAME`, and its publication; the next dump of changes compares")
	return cmd
}

type jsonSlot struct {
	Name     string `json:"name"`
	Database string `json:"database"`
	Job      string `json:"job,omitempty"`
	Bytes    int64  `json:"held_bytes"`
	State    string `json:"state"`
	Active   bool   `json:"active"`
}

func (a *app) slots(from, remove string) error {
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
	held, err := h.Held(a.ctx)
	if err != nil {
		return err
	}
	known := a.readers(f)
	t := a.newTable([]string{"Slot", "Database", "Job", "Held back", "State"}, "Held back")
	list := []jsonSlot{}
	for _, x := range held {
		of := known[x.Reader]
		list = append(list, jsonSlot{x.Name, x.Database, of, x.Bytes, x.State, x.Active})
		if of == "" {
			of = "none here"
		}
		size := "?"
		if x.Bytes >= 0 {
			size = phrase.Bytes(x.Bytes)
		}
		state := x.State
		if x.Active {
			state += ", being read"
		}
		t.row(x.Name, x.Database, of, size, state)
	}
	if len(held) == 0 {
		a.say("The server has no slot of Grain Keep.")
	} else {
		a.print("%s\n", t.render())
	}
	return a.emit(list)
}

// readers are the jobs of the configuration, by what tells their readers of a log apart.
func (a *app) readers(f *config.File) map[string]string {
	known := map[string]string{}
	if f == nil {
		return known
	}
	for name, j := range f.Job {
		if k, err := job.Of(f).OpenKeep(a.ctx, j.Keep); err == nil { // else the job is not known, and shown so
			known[dump.Reader(k.ID, name)] = name
		}
	}
	return known
}
