// Package job goes from configuration to work: it puts jobs, keeps, sources and checks
// together.
package job

import (
	"context"
	"errors"
	"slices"
	"strings"

	"grainkeep/internal/blob"
	"grainkeep/internal/config"
	"grainkeep/internal/drill"
	"grainkeep/internal/dump"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
)

// Set is what a configuration holds; without one, nothing.
type Set struct {
	f    *config.File
	uses *Uses
}

// Of gives the set of a configuration, which may be nil.
func Of(f *config.File) Set { return Set{f: f} }

func (s Set) has(source string) bool {
	if s.f == nil {
		return false
	}
	_, ok := s.f.Source[source]
	return ok
}

// Sources lists the names of the sources, sorted.
func (s Set) Sources() []string {
	if s.f == nil {
		return nil
	}
	return s.f.Sources()
}

// Location is where a configured source is.
func (s Set) Location(name string) (engine.Location, error) {
	if !s.has(name) {
		return engine.Location{}, fault.Wrong("source-unknown", "there is no source %q", name).
			Advise("the sources are: %s", orNone(s.Sources()))
	}
	c := s.f.Source[name]
	at := engine.Location{Name: name, Engine: c.Engine, Server: c.Server, User: c.User, TLS: c.TLS, CA: c.CA}
	if c.Path != "" {
		at.Path = s.f.Absolute(c.Path)
	}
	if c.Secret != "" {
		place := c.Secret
		if path, ok := strings.CutPrefix(place, "file:"); ok {
			place = "file:" + s.f.Absolute(path)
		}
		at.Secret = func() (engine.Secret, error) { return fetchSecret(place) }
	}
	return at, nil
}

// KeepPlace is where a configured keep is.
func (s Set) KeepPlace(name string) (string, bool) {
	if s.f == nil {
		return "", false
	}
	c, ok := s.f.Keep[name]
	if !ok {
		return "", false
	}
	return s.f.Place(c), true
}

// OpenKeep opens a configured keep.
func (s Set) OpenKeep(ctx context.Context, name string) (*keep.Keep, error) {
	place, ok := s.KeepPlace(name)
	if !ok {
		return nil, fault.Wrong("keep-unknown", "there is no keep %q", name).Advise("the keeps are: %s",
			orNone(s.Keeps()))
	}
	if err := s.enter(ctx, name); err != nil {
		return nil, err
	}
	k, err := keep.OpenFor(ctx, place, s.f.Keep[name].ID)
	if err != nil {
		var f *fault.Error
		if errors.As(err, &f) {
			f.Do = strings.ReplaceAll(f.Do, "'grainkeep keep create "+place+"'", "'grainkeep keep create "+name+"'")
		}
		return nil, err
	}
	s.Remember(k)
	if err := s.seals(k, name); err != nil {
		return nil, err
	}
	k.Floor, err = phrase.ParseFloor(s.f.Keep[name].Floor)
	return k, err
}

// Keeps lists the names of the keeps, sorted.
func (s Set) Keeps() []string {
	if s.f == nil {
		return nil
	}
	return s.f.Keeps()
}

// Known fails for a job that the configuration does not have.
func (s Set) Known(name string) error {
	if _, ok := s.f.Job[name]; ok {
		return nil
	}
	return fault.Wrong("job-unknown", "there is no job %q", name).Advise("the jobs are: %s", orNone(s.f.Jobs()))
}

// Dump makes the job of a name, with its keep open.
func (s Set) Dump(ctx context.Context, name string) (*dump.Job, error) {
	j, unopened, err := s.Survey(ctx, name)
	if err == nil {
		err = unopened
	}
	return j, err
}

// Survey makes the job of a name, without its keep where that cannot be opened: the source can
// be looked at all the same.
func (s Set) Survey(ctx context.Context, name string) (made *dump.Job, unopened, err error) {
	if err := s.Known(name); err != nil {
		return nil, nil, err
	}
	j := s.f.Job[name]
	at, err := s.sourceOf(j)
	if err != nil {
		return nil, nil, err
	}
	if j.LockWait != "" {
		if at.LockWait, err = phrase.ParseAge(j.LockWait); err != nil {
			return nil, nil, err
		}
	}
	if j.Silence != "" {
		if at.Silence, err = phrase.ParseAge(j.Silence); err != nil {
			return nil, nil, err
		}
	}
	at.Passwords, at.Hold, at.CopyFirst = j.Passwords != nil && *j.Passwords, j.HoldWriters, j.CopyFirst
	if j.Workers != nil {
		at.Workers = *j.Workers
	}
	k, unopened := s.OpenKeep(ctx, j.Keep)
	if unopened != nil {
		k = nil
	}
	at.LogUnbounded = j.LogLimit != "" // which is a bound of its own
	c, err := blob.ParseCompression(j.Compression)
	if err != nil {
		return nil, nil, err
	}
	text, err := s.f.Excerpt(name)
	var rows []dump.Condition
	for _, r := range j.Rows {
		rows = append(rows, dump.Condition{Table: r.Table, SQL: r.Condition})
	}
	made = &dump.Job{Name: name, Skip: j.SkipTables, Rows: rows, Source: at, Keep: k, Compression: c,
		Zone: s.f.Zone(), Config: text,
		Choice: dump.Choice{Databases: j.Databases, Optional: j.Optional, Except: j.Except},
		Server: serverToo(j), NoPasswords: j.Passwords != nil, Chained: j.Chained(), Changes: changesOf(j)}
	if err == nil && len(j.Seal) > 0 {
		made.Seal, err = s.SealFor("job."+name, j.Seal, j.Lone)
	}
	if err == nil {
		err = s.night(made, name)
	}
	return made, unopened, err
}

// sourceOf is where a job's databases are; without an engine: it has none.
func (s Set) sourceOf(j config.Job) (engine.Location, error) {
	if j.Source == "" {
		return engine.Location{}, nil
	}
	if s.f.Source[j.Source].Engine == config.Command {
		return engine.Location{Name: j.Source}, nil
	}
	return s.Location(j.Source)
}

// changesOf is how a job's incrementals find what changed; one that takes none has no use for a log.
func changesOf(j config.Job) string {
	if j.Incremental == nil {
		return dump.Compare
	}
	return j.Changes
}

// serverToo says whether a job dumps what belongs to the server itself: as it says, or else
// unless it is about one database that it names.
func serverToo(j config.Job) bool {
	if j.Server != nil {
		return *j.Server
	}
	named := slices.Concat(j.Databases, j.Optional)
	return len(named) != 1 || phrase.HasPattern(named[0])
}

// Checks are the questions of a job.
func Checks(f *config.File, name string) (list []drill.Check) {
	for _, c := range f.Job[name].Check {
		list = append(list, drill.Check{Database: c.Database, SQL: c.SQL, Answer: c.Answer})
	}
	return list
}

// DrillOn is the source that a job's drills are made on, if it names one.
func (s Set) DrillOn(name string) (at engine.Location, named bool, err error) {
	if s.f == nil || s.f.Job[name].DrillOn == "" {
		return engine.Location{}, false, nil
	}
	at, err = s.Location(s.f.Job[name].DrillOn)
	return at, true, err
}
