package job

import (
	"context"
	"fmt"

	"grainkeep/internal/config"
	"grainkeep/internal/dump"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/phrase"
)

// Slot is what a source's server holds back of its log.
type Slot struct {
	engine.Held
	Source string
	Job    string // for which; empty: for none of this configuration
	Limit  int64  // of that job, in bytes; 0: it has none
}

// Over says whether it holds back more than its job allows.
func (s Slot) Over() bool { return s.Limit > 0 && s.Bytes > s.Limit }

// Trouble says what is wrong with it, or soon will be; empty: nothing.
func (s Slot) Trouble() string {
	switch {
	case s.Lost:
		return "the server gave up what it held back, which was more than it may be: the next dump compares"
	case s.Over():
		return "that is more than the job's log_limit: it goes with the next look of 'grainkeep schedule serve', or by " +
			"'grainkeep slots --trim', and the next dump compares"
	case s.Limit > 0 && s.Bytes > s.Limit/4*3:
		return "that is near the job's log_limit"
	case s.Job == "":
		return "no job of this configuration reads it: 'grainkeep slots " + s.Source + "' shows it"
	}
	return ""
}

// Words say how much is held back, and for what.
func (s Slot) Words() string {
	of := s.Job
	if of == "" {
		of = "no job here"
	}
	if s.Database != "" {
		of += "/" + s.Database
	}
	text := "an unknown part"
	if s.Bytes >= 0 {
		text = phrase.Bytes(s.Bytes)
	}
	if s.Limit > 0 {
		text += " of at most " + phrase.Bytes(s.Limit)
	}
	return fmt.Sprintf("%s for %s", text, of)
}

// Health says how it stands by itself.
func (s Slot) Health() string {
	size := "an unknown part"
	if s.Bytes >= 0 {
		size = phrase.Bytes(s.Bytes)
	}
	text := fmt.Sprintf("%s of the log for %s (slot %s: %s)", size, s.Database, s.Name, s.State)
	if s.Lost {
		text += "; it cannot be read any more, and the next dump compares"
	}
	return text
}

// Followed lists the sources of which jobs may follow the log, sorted.
func (s Set) Followed() (names []string) {
	for _, source := range s.Sources() {
		for _, j := range s.f.Job {
			if j.Source == source && changesOf(j) != dump.Compare && s.f.Source[source].Engine != config.Command {
				names = append(names, source)
				break
			}
		}
	}
	return names
}

// Slots lists what a server holds back, and for which jobs. The keeps of the jobs are opened for it; source is empty
// where it is none of the configuration.
func (s Set) Slots(ctx context.Context, source string, of engine.Holder) ([]Slot, error) {
	held, err := of.Held(ctx)
	if err != nil || len(held) == 0 {
		return nil, err
	}
	readers := map[string]string{}
	if s.f != nil {
		for name, j := range s.f.Job {
			if source != "" && j.Source != source {
				continue
			}
			if k, err := s.OpenKeep(ctx, j.Keep); err == nil { // else its slots count as no job's, and are shown so
				readers[dump.Reader(k.ID, name)] = name
			}
		}
	}
	list := make([]Slot, len(held))
	for i, x := range held {
		list[i] = Slot{Held: x, Source: source, Job: readers[x.Reader]}
		if name := list[i].Job; name != "" {
			list[i].Limit, err = logLimit(s.f.Job[name])
		}
		if err != nil {
			return nil, err
		}
	}
	return list, nil
}

// Trim lets go of what is held back beyond the limits of jobs, tells of each, and gives what is left.
func Trim(ctx context.Context, of engine.Holder, slots []Slot, feed *event.Feed) (left []Slot, err error) {
	for _, x := range slots {
		if !x.Over() || x.Active { // who reads it now frees it
			left = append(left, x)
			continue
		}
		if err := of.LetGo(ctx, x.Name); err != nil {
			return nil, err
		}
		feed.Warn("slot-trimmed", "", "%s held back of its log %s: the slot %s is gone, and the job's next dump of changes "+
			"compares", x.Source, x.Words(), x.Name)
	}
	return left, nil
}

// logLimit is how much a job's slot may hold back, in bytes; 0: nothing is said.
func logLimit(j config.Job) (int64, error) {
	if j.LogLimit == "" {
		return 0, nil
	}
	return phrase.ParseBytes(j.LogLimit)
}
