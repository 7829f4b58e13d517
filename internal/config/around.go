package config

import (
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
	"grainkeep/internal/step"
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
