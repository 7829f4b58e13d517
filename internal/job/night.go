package job

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/time/rate"

	"grainkeep/internal/config"
	"grainkeep/internal/dump"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/files"
	"grainkeep/internal/journal"
	"grainkeep/internal/manifest"
	"grainkeep/internal/mask"
	"grainkeep/internal/phrase"
	"grainkeep/internal/step"
	"grainkeep/internal/stream"
)

// Folders of this machine's own files, in the state folder.
const (
	undoneName = "undone" // notes about steps that are to be run after work
	usesName   = "keeps"  // the same about keeps
)

// State is the folder of this machine's own files; empty: nothing says where it may be.
func (s Set) State() string { return config.StateFolder(s.f) }

// MakeGood runs the steps that killed runs left undone.
func (s Set) MakeGood(ctx context.Context, feed *event.Feed) error {
	if s.State() == "" {
		return nil
	}
	return errors.Join(step.MakeGood(ctx, filepath.Join(s.State(), undoneName), feed),
		step.Abandoned(ctx, filepath.Join(s.State(), usesName), feed))
}

// around makes steps around work. Without a place for notes there are none: they could be left undone.
func (s Set) around(before, after []config.Step, folder string) (a step.Around, err error) {
	a.Folder = filepath.Join(s.State(), folder)
	if len(before)+len(after) > 0 && s.State() == "" {
		return a, fault.Wrong("state-unplaced", "steps need a folder in which is noted what is to be done afterwards").
			Advise("name one: [journal] folder = \"/var/lib/grainkeep\"")
	}
	if a.Before, err = s.f.Steps(before); err == nil {
		a.After, err = s.f.Steps(after)
	}
	return a, err
}

// night sets what a job has around its dumps.
func (s Set) night(d *dump.Job, name string) (err error) {
	j := s.f.Job[name]
	if d.Steps, err = s.around(j.Before, j.After, undoneName); err != nil {
		return err
	}
	for _, v := range []struct {
		text string
		into *time.Duration
	}{{j.Limit, &d.Limit}, {j.Wait, &d.Wait}} {
		if v.text != "" {
			if *v.into, err = phrase.ParseAge(v.text); err != nil {
				return err
			}
		}
	}
	for _, c := range j.Files {
		d.Folders = append(d.Folders, dump.Folder{Name: c.Name, Path: s.f.Absolute(c.Folder),
			Choice: files.Choice{Only: c.Only, Except: c.Except}, Split: c.Split,
			ByContent: c.ChangedBy == config.ByContent})
	}
	if d.Stream, err = s.Stream(j.Source); err != nil {
		return err
	}
	if d.Folder, err = phrase.ParseFolderName(j.Name); err != nil {
		return err
	}
	d.Tries = j.Tries
	bound, err := config.ParseRate(j.Rate)
	if bound > 0 {
		d.Pace = rate.NewLimiter(rate.Limit(bound), int(min(bound, 1<<30)))
	}
	d.Accept = s.Accepted(name)
	return err
}

// Stream gives the commands of a source that is dumped by commands; nil: it is none.
func (s Set) Stream(source string) (*stream.Source, error) {
	if s.f == nil || s.f.Source[source].Engine != config.Command {
		return nil, nil
	}
	return s.f.Stream(source)
}

// FolderOf is where the companion folder is that a dump is named after, by the configuration.
func (s Set) FolderOf(of, dumped string) (string, bool) {
	if s.f == nil {
		return "", false
	}
	name, sub, _ := strings.Cut(strings.TrimPrefix(dumped, manifest.FilesStart), "/")
	for _, c := range s.f.Job[of].Files {
		if c.Name == name {
			return filepath.Join(s.f.Absolute(c.Folder), sub), filepath.IsLocal(sub) || sub == ""
		}
	}
	return "", false
}

// Accepted are the codes of warnings that a job or its source accepts.
func (s Set) Accepted(name string) []string {
	if s.f == nil {
		return nil
	}
	j := s.f.Job[name]
	return slices.Concat(j.Accept, s.f.Source[j.Source].Accept)
}

// AfterDrill are the steps after a job's drills.
func (s Set) AfterDrill(name string) (step.Around, error) {
	if s.f == nil {
		return step.Around{}, nil
	}
	return s.around(nil, s.f.Job[name].AfterDrill, undoneName)
}

// AroundRefresh are the steps around a refresh.
func (s Set) AroundRefresh(name string) (step.Around, error) {
	r := s.f.Refresh[name]
	return s.around(r.Before, r.After, undoneName)
}

// Masks are the masks of a refresh. There may be none: then they tell just which columns look as if they needed one.
func (s Set) Masks(name string) (*mask.Set, error) {
	rules, err := s.f.Masks(name)
	if err != nil {
		return nil, err
	}
	var key engine.Secret
	if place := s.f.Refresh[name].MaskKey; place != "" {
		if key, err = s.secretAt(place); err != nil {
			return nil, err
		}
	}
	return mask.New(rules, []byte(key.Reveal()))
}

// Low says whether a job's work has a low priority.
func (s Set) Low(name string) bool { return s.f != nil && s.f.Job[name].Priority == config.Low }

// Journal opens the journal: the shared one that the configuration names, or the file in the state folder. A
// damaged file is put aside, and its new name given.
func (s Set) Journal(ctx context.Context) (j *journal.Journal, aside string, err error) {
	folder := s.State()
	if folder == "" {
		return nil, "", fault.Wrong("state-unplaced", "nothing says where the journal may be").
			Advise("name a folder: [journal] folder = \"/var/lib/grainkeep\"")
	}
	if s.f == nil || s.f.Journal.Source == "" {
		return journal.Open(ctx, folder)
	}
	at, err := s.Location(s.f.Journal.Source)
	if err != nil {
		return nil, "", err
	}
	at.Database = s.f.Journal.Database
	db, err := engine.OpenSQL(ctx, at)
	if err != nil {
		return nil, "", err
	}
	j, err = journal.Share(ctx, db, s.f.Journal.Source+"/"+at.Database, folder)
	return j, "", err
}

// JournalKeeps is how long runs stay in the journal.
func (s Set) JournalKeeps() time.Duration {
	if s.f == nil || s.f.Journal.KeepFor == "" {
		return config.DefaultKeepFor
	}
	d, err := phrase.ParseAge(s.f.Journal.KeepFor) // checked when it was read
	if err != nil {
		return config.DefaultKeepFor
	}
	return d
}
