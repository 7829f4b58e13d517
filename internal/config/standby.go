package config

import (
	"strings"
	"time"

	"grainkeep/internal/phrase"
)

// Standby is a second database that is kept up from dumps.
type Standby struct {
	Dump   string   `toml:"dump"`           // JOB/DATABASE
	From   string   `toml:"from,omitempty"` // a keep; empty: the job's
	To     string   `toml:"to"`             // a source
	As     string   `toml:"as"`             // the name of the database
	When   any      `toml:"when,omitempty"`
	Behind string   `toml:"behind,omitempty"` // how old its data may be
	Until  string   `toml:"until,omitempty"`  // the last day on which it is kept up
	Owners string   `toml:"owners,omitempty"`
	Owner  []string `toml:"owner,omitempty"` // OLD=NEW
	Roles  bool     `toml:"with_roles,omitempty"`
	Limit  string   `toml:"limit,omitempty"` // how long following may take
}

// Standbys lists the names of the standbys, sorted.
func (f *File) Standbys() []string { return sorted(f.Standby) }

// Ends is the instant from which a standby is not kept up any more; zero: there is none.
func (f *File) Ends(s Standby) (time.Time, error) {
	if s.Until == "" {
		return time.Time{}, nil
	}
	day, err := time.ParseInLocation(time.DateOnly, s.Until, f.Zone())
	return day.AddDate(0, 0, 1), err
}

func (f *File) checkStandby(name string, s Standby) error {
	where := "standby." + name
	if !phrase.IsJob(name) {
		return f.wrong(where, "a standby cannot be named so").Advise("use small letters, digits, - and _, at most 64")
	}
	if err := f.checkMadeOf(where, s.Dump, s.From, s.To, s.As, s.Owners); err != nil {
		return err
	}
	if e := f.Source[s.To].Engine; e == "sqlite" || e == Command {
		return f.wrong(where, "a standby is a database of a server, and %s is none", s.To).Advise("make a copy of the file anew by a refresh")
	}
	if _, err := Schedules(s.When); err != nil {
		return f.wrong(where, "when: %v", err)
	}
	if _, err := f.Ends(s); err != nil {
		return f.wrong(where, "until is %q", s.Until).Advise("write a day: until = \"2027-01-31\"")
	}
	return f.checkAges(where, map[string]string{"limit": s.Limit, "behind": s.Behind})
}

// checkMadeOf looks at what a database is made of, and where.
func (f *File) checkMadeOf(where, dump, from, to, as, owners string) error {
	of, database, ok := strings.Cut(dump, "/")
	switch {
	case !ok || of == "" || database == "" || strings.HasPrefix(database, "+"):
		return f.wrong(where, "dump is %q", dump).Advise("name a database's dumps: JOB/DATABASE")
	case from != "" && f.Keep[from].Folder+f.Keep[from].Store == "":
		return f.wrong(where, "there is no keep %q", from).Advise("the keeps are: %s", strings.Join(sorted(f.Keep), ", "))
	case f.Source[to].Engine == "":
		return f.wrong(where, "there is no source %q", to).Advise("the sources are: %s", strings.Join(sorted(f.Source), ", "))
	case as == "":
		return f.wrong(where, "the key as is missing").Advise("name the database that is made anew: as = \"bookings_training\"")
	case to == f.Job[of].Source && as == database:
		return f.wrong(where, "it would take the place of the very database that the job %s dumps", of).
			Advise("give it another name, or another source")
	case owners != "" && owners != "kept" && owners != "mine":
		return f.wrong(where, "owners is %q", owners).Advise("write \"kept\" or \"mine\"")
	}
	return nil
}
