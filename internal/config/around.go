package config

import (
	"slices"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
	"grainkeep/internal/step"
	"grainkeep/internal/stream"
)

// Step is a command around the work.
type Step struct {
	Run      []string `toml:"run,omitempty"`   // the program and its arguments
	Shell    string   `toml:"shell,omitempty"` // instead: a line for sh
	Limit    string   `toml:"limit,omitempty"` // how long it may take
	Folder   string   `toml:"folder,omitempty"`
	User     string   `toml:"user,omitempty"`
	Optional bool     `toml:"optional,omitempty"` // its failure is a warning
}

// Steps reads a list of steps.
func (f *File) Steps(list []Step) (steps []step.Step, err error) {
	for _, s := range list {
		words := s.Run
		switch {
		case s.Shell != "" && len(words) > 0:
			return nil, fault.Wrong("config-unclear", "a step has run and shell").Advise("write one of them")
		case s.Shell != "":
			words = []string{"/bin/sh", "-c", s.Shell}
		case len(words) == 0 || words[0] == "":
			return nil, fault.Wrong("config-unclear", "a step says nothing to run").
				Advise(`write the program and its arguments: run = ["systemctl", "stop", "ferry-web"]`)
		}
		one := step.Step{Words: words, User: s.User, Optional: s.Optional}
		if s.Folder != "" {
			one.Folder = f.Absolute(s.Folder)
		}
		if one.Limit, err = age(s.Limit, step.DefaultLimit); err != nil {
			return nil, err
		}
		steps = append(steps, one)
	}
	return steps, nil
}

// age reads a length of time; empty: another.
func age(text string, otherwise time.Duration) (time.Duration, error) {
	if text == "" {
		return otherwise, nil
	}
	return phrase.ParseAge(text)
}

// Command is the engine of a source that is dumped by commands of one's own.
const Command = "command"

func (f *File) checkCommand(where string, s Source) error {
	switch {
	case len(s.Dump) == 0:
		return f.wrong(where, "the key dump is missing").
			Advise(`write the command that writes a dump to its standard output: dump = ["/usr/local/bin/…"]`)
	case s.Server+s.TLS+s.CA+s.Path+s.Secret != "":
		return f.wrong(where,
			"a source of the engine \"command\" has only the keys dump, restore, check, folder, user and limit")
	}
	return f.checkAges(where, map[string]string{"limit": s.Limit})
}

// Stream gives the commands of a source.
func (f *File) Stream(name string) (*stream.Source, error) {
	s := f.Source[name]
	limit, err := age(s.Limit, stream.DefaultLimit)
	if err != nil {
		return nil, err
	}
	command := func(words []string) *step.Step {
		if len(words) == 0 {
			return nil
		}
		one := &step.Step{Words: words, User: s.User, Limit: limit}
		if s.In != "" {
			one.Folder = f.Absolute(s.In)
		}
		return one
	}
	return &stream.Source{Name: name, Dump: *command(s.Dump), Restore: command(s.Restore), Check: command(s.Check)}, nil
}

// How a dump of changes tells which files changed.
const (
	ByTimes   = "times" // also where nothing is said
	ByContent = "content"
)

// Chained says whether a job takes dumps that build on others.
func (j Job) Chained() bool { return j.Differential != nil || j.Incremental != nil }

// How incrementals find what changed in a database.
const (
	ChangesAuto    = "auto"    // from the server's log, where it tells; also where nothing is said
	ChangesLog     = "log"     // the same, with a warning where it does not
	ChangesCompare = "compare" // by comparison
)

// checkKinds looks at the dumps of a job that build on others.
func (f *File) checkKinds(where string, j Job) error {
	switch {
	case j.Changes != "" && !slices.Contains([]string{ChangesAuto, ChangesLog, ChangesCompare}, j.Changes):
		return f.wrong(where, "changes is %q", j.Changes).Advise("write %q, %q or %q", ChangesAuto, ChangesLog,
			ChangesCompare)
	case j.Changes != "" && j.Incremental == nil:
		return f.wrong(where, "changes says how incrementals find what changed, and there are none").
			Advise("say when they are taken: incremental = \"each 15 min\"")
	case !j.Chained():
		return nil
	case j.Source != "" && f.Source[j.Source].Engine == "command":
		return f.wrong(where, "what a command writes has no differential and incremental dumps").
			Advise("give the job's folders a job of their own, without a source")
	case j.Full == nil:
		return f.wrong(where, "a chain without fulls grows for ever").
			Advise("say when a new one begins: full = \"02:30 on sunday\"")
	}
	return nil
}

func (f *File) checkFiles(where string, list []Files) error {
	seen := map[string]bool{}
	for _, c := range list {
		switch {
		case c.Name == "":
			return f.wrong(where, "files: the key name is missing").Advise("its dumps are called +files-NAME")
		case !phrase.JobName().MatchString(c.Name):
			return f.wrong(where, "files: a folder cannot be named %q",
				c.Name).Advise("use small letters, digits, - and _")
		case seen[c.Name]:
			return f.wrong(where, "files: two folders are named %q", c.Name)
		case c.Folder == "":
			return f.wrong(where, "files: the key folder is missing")
		case c.ChangedBy != "" && c.ChangedBy != ByTimes && c.ChangedBy != ByContent:
			return f.wrong(where, "files: changed_by is %q", c.ChangedBy).Advise("write %q or %q", ByTimes, ByContent)
		}
		seen[c.Name] = true
	}
	return nil
}
