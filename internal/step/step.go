// Package step runs what an administrator wants done around the work: commands that stop an application before
// its dumps and start it after them, or that mount the drive of a keep. What was begun is written down before, so
// that it is made good whatever happens.
package step

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"time"

	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
	"grainkeep/internal/system"
)

// Step is one command.
type Step struct {
	Words    []string      `json:"words"` // the program and its arguments; no shell reads them
	Limit    time.Duration `json:"limit"` // it is ended after that; 0: DefaultLimit
	Folder   string        `json:"folder,omitempty"`
	User     string        `json:"user,omitempty"`     // that it runs as; empty: the same
	Optional bool          `json:"optional,omitempty"` // its failure is a warning
}

// DefaultLimit is how long a step may take that says nothing of it.
const DefaultLimit = 10 * time.Minute

// grace is how long a step has to end by itself when it is told to.
const grace = 10 * time.Second

// Bounds of what is kept of a step's output.
const (
	maxLine  = 4 << 10         // bytes
	straggle = 2 * time.Second // after its end, for those that it leaves behind with its output open
	maxLines = 10_000          // of one step
	tail     = 2 << 10         // bytes, for the message of a failure
)

// String is the step as people read it.
func (s Step) String() string { return strings.Join(s.Words, " ") }

// Stage says when a step runs.
type Stage string

// The stages.
const (
	Before     Stage = "before"
	After      Stage = "after"
	AfterDrill Stage = "after_drill"
	KeepBefore Stage = "keep before"
	KeepAfter  Stage = "keep after"
	Dump       Stage = "dump"
	Restore    Stage = "restore"
	Check      Stage = "check"
)

// Facts are what steps are told, as variables of their environment.
type Facts struct {
	Job       string   `json:"job,omitempty"`
	Run       string   `json:"run,omitempty"`
	Kind      string   `json:"kind,omitempty"`
	Databases []string `json:"databases,omitempty"`
	Dumps     []string `json:"dumps,omitempty"`   // paths of those that are done
	Result    string   `json:"result,omitempty"`  // "good", "failed", "stopped", "killed"
	Keep      string   `json:"keep,omitempty"`    // its place
	Target    string   `json:"target,omitempty"`  // of a restore by a command: the name that was asked for
	Scratch   string   `json:"scratch,omitempty"` // of a drill by a command: a folder for its scratch instance
}

// inherited are the variables that a step gets of our own. Secrets may be in the others.
var inherited = []string{"PATH", "HOME", "USER", "LOGNAME", "SHELL", "LANG", "LC_ALL", "TZ", "TMPDIR",
	"XDG_RUNTIME_DIR",
	"DBUS_SESSION_BUS_ADDRESS"}

func (f Facts) environment(stage Stage) (env []string) {
	for _, name := range inherited {
		if v, ok := os.LookupEnv(name); ok {
			env = append(env, name+"="+v)
		}
	}
	for _, v := range []struct{ name, value string }{{"STEP", string(stage)}, {"JOB", f.Job}, {"RUN", f.Run}, {"KIND",
		f.Kind},
		{"DATABASES", strings.Join(f.Databases, "\n")}, {"DUMPS", strings.Join(f.Dumps, "\n")}, {"RESULT", f.Result},
		{"KEEP", f.Keep},
		{"TARGET", f.Target}, {"SCRATCH", f.Scratch}} {
		env = append(env, "GRAINKEEP_"+v.name+"="+strings.ReplaceAll(v.value, "\x00", ""))
	}
	return env
}

// Begun is told when a step begins.
type Begun struct {
	Stage Stage
	Step  Step
}

// Word implements event.Event.
func (Begun) Word() string { return "step" }

// Text implements event.Event.
func (b Begun) Text() string { return string(b.Stage) + ": " + b.Step.String() }

// Output is a line that a step wrote.
type Output struct{ Line string }

// Word implements event.Event.
func (Output) Word() string { return "output" }

// Text implements event.Event.
func (o Output) Text() string { return o.Line }

// Run runs a step to its end. It is ended when the context is, or at its limit, with all that it started in its
// own process group.
func (s Step) Run(ctx context.Context, stage Stage, facts Facts, feed *event.Feed) error {
	return s.Pipe(ctx, stage, facts, nil, nil, feed)
}

// Pipe runs a step that reads from in and writes to out; either may be nil. What it writes to standard error is
// told; so is its standard output where out is nil.
func (s Step) Pipe(ctx context.Context, stage Stage, facts Facts, in io.Reader, to io.Writer, feed *event.Feed) error {
	if !system.Programs {
		return system.Lacks("steps cannot be run", "their programs could not be asked to end")
	}
	feed.Tell(Begun{stage, s})
	limit := s.Limit
	if limit == 0 {
		limit = DefaultLimit
	}
	late := fault.New("step-late", nil, "the step %q did not end within %s", s, phrase.Duration(limit)).
		Advise("it was ended; give it a longer limit, or see in the run's log what it waited for")
	ctx, cancel := context.WithTimeoutCause(ctx, limit, late)
	defer cancel()
	cmd := exec.CommandContext(ctx, s.Words[0], s.Words[1:]...)
	cmd.Dir, cmd.Env = s.Folder, facts.environment(stage)
	system.Group(cmd)
	if err := s.become(cmd); err != nil {
		return err
	}
	cmd.Cancel = func() error { return system.EndGroup(cmd.Process) }
	cmd.WaitDelay = grace
	out := &lines{feed: feed}
	said, w, err := os.Pipe()
	if err != nil {
		return err
	}
	defer said.Close()
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, w, w
	sink := &remembering{w: to}
	if to != nil {
		cmd.Stdout = sink
	}
	err = errors.Join(cmd.Start(), w.Close())
	if err == nil {
		heard := make(chan struct{})
		go func() {
			defer close(heard)
			_, _ = io.Copy(out, said) // it ends when nobody holds the other end, or it is closed below
		}()
		err = cmd.Wait()
		select {
		case <-heard:
		case <-time.After(straggle):
			said.Close() // somebody who was left behind has it open: a service that was started
			<-heard
		}
	}
	if sink.err != nil && ctx.Err() == nil { // that is why it failed
		return sink.err
	}
	if cmd.Process != nil && ctx.Err() != nil {
		_ = system.KillGroup(cmd.Process) // who did not listen; mostly nobody is left
	}
	out.end()
	switch {
	case err == nil, errors.Is(err, exec.ErrWaitDelay) && ctx.Err() == nil: // it ended well, and left somebody behind
		return nil
	case ctx.Err() != nil:
		return context.Cause(ctx)
	}
	e := fault.New("step-failed", err, "the step %q failed", s)
	if last := out.last(); last != "" {
		return e.Advise("it said: %s", last)
	}
	return e.Advise("try it by hand; the run's log has what it wrote")
}

// remembering keeps the first error of a writer.
type remembering struct {
	w   io.Writer
	err error
}

// Write implements io.Writer.
func (r *remembering) Write(p []byte) (int, error) {
	n, err := r.w.Write(p)
	if r.err == nil {
		r.err = err
	}
	return n, err
}

// lines tells what is written into it line by line, within bounds.
type lines struct {
	feed *event.Feed
	part []byte
	n    int
	kept []byte // the end of all
}

// Write implements io.Writer.
func (l *lines) Write(p []byte) (int, error) {
	l.kept = append(l.kept, p[max(0, len(p)-tail):]...)
	l.kept = l.kept[max(0, len(l.kept)-tail):]
	for _, c := range p {
		if c == '\n' || len(l.part) >= maxLine {
			l.flush()
		}
		if c != '\n' {
			l.part = append(l.part, c)
		}
	}
	return len(p), nil
}

func (l *lines) flush() {
	switch l.n++; {
	case l.n < maxLines:
		l.feed.Tell(Output{string(l.part)})
	case l.n == maxLines:
		l.feed.Tell(Output{"… (it wrote more)"})
	}
	l.part = l.part[:0]
}

func (l *lines) end() {
	if len(l.part) > 0 {
		l.flush()
	}
}

// last is the last line that says something.
func (l *lines) last() (line string) {
	s := bufio.NewScanner(strings.NewReader(string(l.kept)))
	s.Buffer(nil, tail+1)
	for s.Scan() {
		if t := strings.TrimSpace(s.Text()); t != "" {
			line = t
		}
	}
	return line
}

var _ io.Writer = (*lines)(nil)

// all runs steps in their order. A failure ends it unless every one is to be tried; the errors of optional steps
// are told as warnings.
func all(ctx context.Context, steps []Step, stage Stage, facts Facts, feed *event.Feed, every bool) error {
	var failed []error
	for _, s := range steps {
		err := s.Run(ctx, stage, facts, feed)
		if err == nil {
			continue
		}
		if s.Optional && ctx.Err() == nil {
			feed.Warn("step-failed", "", "%v", err)
			continue
		}
		if failed = append(failed, err); !every {
			break
		}
	}
	switch len(failed) {
	case 0:
		return nil
	case 1:
		return failed[0]
	}
	return fault.New("step-failed", errors.Join(failed[1:]...), "%s failed: %v", fmt.Sprintf("%d steps", len(failed)),
		failed[0])
}
