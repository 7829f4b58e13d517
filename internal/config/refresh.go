package config

import (
	"grainkeep/internal/phrase"
)

// Refresh is a test or training database that is made anew from a dump.
type Refresh struct {
	Dump       string   `toml:"dump"`           // JOB/DATABASE
	From       string   `toml:"from,omitempty"` // a keep; empty: all of them
	To         string   `toml:"to"`             // a source
	As         string   `toml:"as"`             // the name of the database
	When       any      `toml:"when,omitempty"`
	Unproven   bool     `toml:"unproven,omitempty"` // the newest dump will do, proven or not
	KeepOld    bool     `toml:"keep_old,omitempty"` // the one before stays, renamed aside
	Disconnect bool     `toml:"disconnect,omitempty"`
	ReadOnly   bool     `toml:"read_only,omitempty"`
	Owners     string   `toml:"owners,omitempty"`
	Owner      []string `toml:"owner,omitempty"` // OLD=NEW
	WithRoles  bool     `toml:"with_roles,omitempty"`
	SQL        []string `toml:"sql,omitempty"` // in the new database, before it gets its name
	Limit      string   `toml:"limit,omitempty"`

	Mask    map[string]any `toml:"mask,omitempty"`     // what becomes of the columns of a pattern
	MaskKey string         `toml:"mask_key,omitempty"` // where the key is that masked values depend on

	Before []Step `toml:"before,omitempty"`
	After  []Step `toml:"after,omitempty"`
}

// Refreshes lists the names of the refreshes, sorted.
func (f *File) Refreshes() []string { return sorted(f.Refresh) }

func (f *File) checkRefresh(name string, r Refresh) error {
	where := "refresh." + name
	if !phrase.IsJob(name) {
		return f.wrong(where, "a refresh cannot be named so").Advise("use small letters, digits, - and _, at most 64")
	}
	if err := f.checkMadeOf(where, r.Dump, r.From, r.To, r.As, r.Owners); err != nil {
		return err
	}
	if _, err := Schedules(r.When); err != nil {
		return f.wrong(where, "when: %v", err)
	}
	if err := f.checkMasks(name, r); err != nil {
		return err
	}
	if err := f.checkSteps(where, r.Before, r.After); err != nil {
		return err
	}
	return f.checkAges(where, map[string]string{"limit": r.Limit})
}
