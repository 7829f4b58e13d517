// Package stream dumps and restores systems that are no database of ours, by an administrator's own commands: one
// writes a dump to its standard output, one restores it from its standard input, one checks what there is and prints
// facts about it.
package stream

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/step"
)

// Source is such a system.
type Source struct {
	Name    string
	Dump    step.Step
	Restore *step.Step // nil: its dumps cannot be drilled, nor restored by this program
	Check   *step.Step // nil: a drill compares nothing
}

// DefaultLimit is how long each of the commands may take where nothing else is said.
const DefaultLimit = 12 * time.Hour

// Bounds of the facts.
const (
	maxFacts = 1000
	maxText  = 64 << 10 // bytes of all that a check prints
)

// Write writes a dump.
func (s Source) Write(ctx context.Context, w io.Writer, facts step.Facts, feed *event.Feed) error {
	return s.Dump.Pipe(ctx, step.Dump, facts, nil, w, feed)
}

// Read restores a dump, into what the facts name.
func (s Source) Read(ctx context.Context, r io.Reader, facts step.Facts, feed *event.Feed) error {
	if s.Restore == nil {
		return fault.Wrong("restore-absent", "the source %s names no command that restores", s.Name).
			Advise("give it restore = [\"…\"], or restore by hand as the dump's README.txt says")
	}
	return s.Restore.Pipe(ctx, step.Restore, facts, r, nil, feed)
}

// Facts asks the check: of what is live, or of the scratch instance that the facts name. It prints lines NAME: VALUE.
func (s Source) Facts(ctx context.Context, facts step.Facts, feed *event.Feed) (map[string]string, error) {
	if s.Check == nil {
		return nil, nil
	}
	var out bytes.Buffer
	if err := s.Check.Pipe(ctx, step.Check, facts, nil, &limited{w: &out}, feed); err != nil {
		return nil, err
	}
	return parse(out.Bytes())
}

// limited refuses more than maxText.
type limited struct{ w *bytes.Buffer }

// Write implements io.Writer.
func (l *limited) Write(p []byte) (int, error) {
	if l.w.Len()+len(p) > maxText {
		return 0, fault.New("facts-unclear", nil, "the check printed more than %d bytes", maxText).
			Advise("it prints a few lines NAME: VALUE")
	}
	return l.w.Write(p)
}

func parse(text []byte) (map[string]string, error) {
	facts := map[string]string{}
	s := bufio.NewScanner(bytes.NewReader(text))
	for s.Scan() {
		line := strings.TrimSpace(s.Text())
		if line == "" {
			continue
		}
		name, value, ok := strings.Cut(line, ":")
		if name = strings.TrimSpace(name); !ok || name == "" || len(facts) >= maxFacts {
			return nil, fault.New("facts-unclear", nil, "the check printed %.80q",
				line).Advise("it prints a few lines NAME: VALUE")
		}
		facts[name] = strings.TrimSpace(value)
	}
	return facts, s.Err()
}

// Same gives the facts that two looks agree on: what changed between them says nothing.
func Same(a, b map[string]string) map[string]string {
	same := map[string]string{}
	for k, v := range a {
		if w, ok := b[k]; ok && v == w {
			same[k] = v
		}
	}
	return same
}

// Differences says in sentences where a restored instance is not as it was.
func Differences(was, is map[string]string, names []string) (list []string) {
	for _, n := range names {
		got, there := is[n]
		switch {
		case !there:
			list = append(list, fmt.Sprintf("the check of the restored instance does not tell %s, which was %s", n,
				was[n]))
		case got != was[n]:
			list = append(list, fmt.Sprintf("%s is %s in the restored instance, and was %s", n, got, was[n]))
		}
	}
	return list
}
