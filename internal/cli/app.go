package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
)

// app is one run of the program.
type app struct {
	screen
	ctx        context.Context
	configPath string
	logPath    string
	keys       []string // files with private keys
	json       bool
	quiet      bool
	wide       bool // what is shown need not fit the terminal

	log  *slog.Logger
	mute error // why the result could not be written

	uses        *job.Uses
	journal     *journal.Journal
	serving     bool                    // a schedule
	unjournaled bool                    // it cannot be used, and that was told
	run         *journal.Entry          // that goes on
	meter       *event.Meter            // of that
	listed      map[string][]*keep.Dump // what keeps of the configuration were found to hold
	readBack    map[string]time.Time    // when dumps were last read back, by id; once it was asked
	told        error                   // the first failure of that which did not end it

	result any  // of the command, for --json
	probed *int // the exit code of a probe, which takes the place of ours
	worst  fault.Class

	noting   sync.Mutex    // guards warnings: they may come from several readers
	warnings []jsonWarning // they make the exit code 3
}

// say tells people something that is not the result. What comes from outside is cleaned
// here, and in print, warn and complain, and nowhere else.
func (a *app) say(format string, args ...any) {
	if !a.quiet && !a.json {
		text := fmt.Sprintf(format+"\n", clean(args)...)
		if !hasBlock(args) {
			text = a.prose(a.stderr, text)
		}
		a.tell(text)
	}
}

// tell writes to standard error, where nobody could be told that it cannot be written.
func (a *app) tell(text string) { _ = a.writeTo(a.stderr, text) }

// print writes a part of the result.
func (a *app) print(format string, args ...any) {
	if !a.quiet && !a.json {
		if err := a.writeTo(a.stdout, a.fitted(a.stdout, format, args)); err != nil && a.mute == nil {
			a.mute = err
		}
	}
}

// fitted is a text whose lines break between words where the terminal is narrower: not what is a block, which has its
// own lines, nor a path or an id that stands alone, which is to be copied.
func (a *app) fitted(w io.Writer, format string, args []any) string {
	text := fmt.Sprintf(format, clean(args)...)
	if !strings.Contains(format, " ") || hasBlock(args) {
		return text
	}
	return a.prose(w, text)
}

// hasBlock says whether one of some arguments has lines of its own.
func hasBlock(args []any) bool {
	return slices.ContainsFunc(args, func(v any) bool { _, is := v.(block); return is })
}

// prose breaks the lines of a text between words, where a terminal is narrower.
func (a *app) prose(w io.Writer, text string) string { return fold(text, a.room(w)) }

// block is text of several lines that is clean already.
type block string

// clean makes what is to be printed safe to show.
func clean(args []any) []any {
	out := make([]any, len(args))
	for i, v := range args {
		switch v := v.(type) {
		case block:
			out[i] = string(v)
		case painted:
			out[i] = string(v)
		case string:
			out[i] = phrase.Clean(v)
		case error:
			out[i] = phrase.Clean(v.Error())
		case []string:
			out[i] = phrase.Clean(strings.Join(v, ", "))
		case fmt.Stringer:
			out[i] = phrase.Clean(v.String())
		default:
			out[i] = v
			if k := reflect.ValueOf(v); k.Kind() == reflect.String {
				out[i] = phrase.Clean(k.String())
			}
		}
	}
	return out
}

// jsonWarning is a warning as --json prints it.
type jsonWarning struct {
	Code string `json:"code"`
	Text string `json:"text"`
}

// warn notes a warning; the exit code becomes 3.
func (a *app) warn(code, format string, args ...any) {
	w := jsonWarning{Code: code, Text: fmt.Sprintf(format, args...)}
	a.noting.Lock()
	if !a.serving { // for long: they are told, and do not pile up
		a.warnings = append(a.warnings, w)
	}
	a.noting.Unlock()
	if a.run != nil {
		a.run.Hear(event.Warning{Code: code, What: w.Text})
	}
	if !a.json {
		a.tell(a.prose(a.stderr, fmt.Sprintf("%s %s\n", paint(a.stderr, yellow, "warning:"), phrase.Clean(w.Text))))
	}
}

// mention tells of a failure that does not end the command, and raises the exit
// code.
func (a *app) mention(err error) {
	a.raise(asFault(err).Class)
	if a.told == nil {
		a.told = err
	}
	if a.run != nil {
		a.run.Line("failed", "%v", err)
	}
	if !a.json {
		a.complain(err)
	}
}

// severity orders the exit classes; the worst of several counts.
var severity = map[fault.Class]int{fault.Done: 0, fault.Warned: 1, fault.Stale: 2, fault.Running: 3,
	fault.ProvenBad: 4, fault.Failed: 5, fault.Usage: 6}

func (a *app) raise(c fault.Class) {
	if severity[c] > severity[a.worst] {
		a.worst = c
	}
}

// envelope is what --json prints. Its version changes only when a field changes
// its meaning or goes away.
type envelope struct {
	Version  int           `json:"grainkeep"`
	Command  string        `json:"command"`
	Exit     int           `json:"exit"`
	Result   any           `json:"result,omitempty"`
	Warnings []jsonWarning `json:"warnings,omitempty"`
	Error    *jsonFail     `json:"error,omitempty"`
}

type jsonFail struct {
	Code   string `json:"code"`
	Reason string `json:"reason"`
	Advice string `json:"advice,omitempty"`
}

func failOf(err error) *jsonFail {
	f := asFault(err)
	return &jsonFail{Code: f.Code, Reason: f.Error(), Advice: f.Do}
}

// finish prints what is left to print and gives the exit code.
func (a *app) finish(cmd *cobra.Command, err error) int {
	for _, e := range a.leave() {
		a.mention(e)
	}
	if len(a.warnings) > 0 {
		a.raise(fault.Warned)
	}
	if err != nil {
		a.worst = asFault(err).Class
		if !a.json {
			a.complain(err)
		}
	}
	if a.probed != nil {
		a.worst = fault.Class(*a.probed)
	}
	if a.json {
		e := envelope{Version: 1, Exit: int(a.worst), Result: a.result, Warnings: a.warnings}
		if cmd != nil {
			e.Command = strings.TrimPrefix(cmd.CommandPath(), "grainkeep ")
		}
		if err != nil {
			e.Error = failOf(err)
		}
		if err := writeJSON(a.stdout, e); err != nil {
			a.mute = err
		}
	}
	if a.mute != nil {
		a.raise(fault.Failed)
		a.complain(fault.New("output-failed", a.mute, "the result could not be written to standard output").
			Advise("what was done is done; look at it with 'grainkeep list'"))
	}
	return int(a.worst)
}

// writeJSON writes one object on one line. Characters that a terminal could obey are
// escaped, which JSON allows.
func writeJSON(w io.Writer, v any) error {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		return err
	}
	_, err := io.WriteString(w, phrase.CleanJSON(b.String()))
	return err
}

// config reads the configuration; nil if there is none.
func (a *app) config() (*config.File, error) { return config.Find(a.configPath) }

// needConfig is for commands that do nothing without one.
func (a *app) needConfig() (*config.File, error) {
	f, err := a.config()
	if err == nil && f == nil {
		err = fault.Wrong("config-absent", "there is no configuration").
			Advise("'grainkeep init' writes a starter configuration; --config names one")
	}
	return f, err
}

// keeps opens the keep that --from names, or else all that are configured.
func (a *app) keeps(f *config.File, from string) ([]*keep.Keep, error) {
	jobs := a.jobs(f)
	if from != "" {
		if _, ok := jobs.KeepPlace(from); ok {
			k, err := jobs.OpenKeep(a.ctx, from)
			return []*keep.Keep{k}, err
		}
		k, err := keep.Open(a.ctx, from)
		if err == nil {
			err = jobs.Settle(k)
		}
		return []*keep.Keep{k}, err
	}
	if f == nil {
		return nil, fault.Wrong("keep-unnamed", "there is no configuration, so there is no keep to look into").
			Advise("name one with --from FOLDER")
	}
	var list []*keep.Keep
	var failed []error
	for _, n := range f.Keeps() {
		k, err := jobs.OpenKeep(a.ctx, n)
		if err != nil {
			failed = append(failed, err)
			continue
		}
		list = append(list, k)
	}
	last := len(failed) - 1
	for i, err := range failed {
		if len(list) == 0 && i == last { // that is why the command fails
			return nil, err
		}
		a.mention(err)
	}
	return list, nil
}

// mustBePath fails for a word that is neither a configured keep nor clearly a
// path: a misspelt name must not found a keep in the working folder.
func mustBePath(f *config.File, word string) error {
	if _, err := os.Stat(word); f == nil || strings.ContainsRune(word, '/') || err == nil { // a URL has them too
		return nil
	}
	return fault.Wrong("keep-unknown", "there is no keep %q in the configuration, and no such folder", word).
		Advise("the keeps are: %s; for a new folder write ./%s", strings.Join(f.Keeps(), ", "), word)
}

// dumps lists what is in the keeps, oldest first. A dump that cannot be read is part of it; of copies one is, that is near
// if any is.
func (a *app) dumps(f *config.File, from string) ([]*keep.Dump, error) {
	all, err := a.everyCopy(f, from)
	return oneOfEach(all), err
}

// oneOfEach leaves the last copy of each dump.
func oneOfEach(all []*keep.Dump) (list []*keep.Dump) {
	seen := map[string]bool{}
	for _, d := range slices.Backward(all) {
		if d.Manifest == nil || !seen[d.Origin()] {
			list = append(list, d)
		}
		if d.Manifest != nil {
			seen[d.Origin()] = true
		}
	}
	slices.Reverse(list)
	return list
}

// everyCopy lists what is in the keeps, oldest first; of copies those that are near come last.
func (a *app) everyCopy(f *config.File, from string) ([]*keep.Dump, error) {
	keeps, err := a.keeps(f, from)
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(keeps, func(x, y *keep.Keep) int {
		return strings.Count(y.Where(), "://") - strings.Count(x.Where(), "://")
	})
	var all []*keep.Dump
	for _, k := range keeps {
		d, err := k.Dumps(a.ctx)
		if err != nil {
			return nil, err
		}
		if err := a.audit(k, d); err != nil {
			return nil, err
		}
		all = append(all, d...)
	}
	keep.Sort(all)
	return all, nil
}

// audit tells what is in a keep without being recorded, and what is recorded without
// being there.
func (a *app) audit(k *keep.Keep, dumps []*keep.Dump) error {
	found, err := k.Audit(a.ctx, dumps)
	if err != nil {
		return err
	}
	for _, p := range found.Missing {
		id := p.ID[:min(10, len(p.ID))]
		a.warn("dump-missing", "the dump %s of %s is recorded in its keep and is not there any more: look for it; "+
			"'grainkeep remove %s' notes that it is gone", id, p.Path, id)
	}
	if n := len(found.Unknown); n > 3 {
		a.warn("dump-unrecorded",
			"%d dumps in the keep %s, %s among them, are in no record of it: nobody knows how they came there",
			n, k.Where(), found.Unknown[n-1].Short())
		found.Unknown = nil
	}
	for _, d := range found.Unknown {
		a.warn("dump-unrecorded", "the dump %s in %s is in no record of its keep: nobody knows how it came there",
			d.Short(), d.Path())
	}
	for _, d := range found.Moved {
		a.warn("dump-moved", "the dump %s in %s is recorded under another path", d.Short(), d.Path())
	}
	for _, err := range found.Broken {
		a.warn("record-damaged", "%v", err)
	}
	return nil
}

// isPath says whether a name is a dump's path.
func isPath(name string) bool {
	return strings.HasPrefix(name, "/") || filepath.IsAbs(name) || strings.HasPrefix(name, "./") || strings.HasPrefix(name, "../") ||
		name == "." || config.IsRemote(name)
}

// find gives the dumps that a name and a moment mean.
func (a *app) find(f *config.File, from, name, at string) ([]*keep.Dump, error) {
	if isPath(name) {
		if at != "" {
			return nil, fault.Wrong("moment-needless", "a path means one dump; --at does not go with it")
		}
		d, err := keep.DumpAt(a.ctx, name, a.jobs(f).Settle)
		return []*keep.Dump{d}, err
	}
	all, err := a.dumps(f, from)
	if err != nil {
		return nil, err
	}
	return chain.Find(all, name, at, clock.Now())
}

// plans finds what a name and a moment mean, ready to be restored.
func (a *app) plans(f *config.File, from, name, at string) (list []*chain.Plan, err error) {
	found, err := a.find(f, from, name, at)
	if err != nil {
		return nil, err
	}
	var links chain.Links
	for _, d := range found {
		if links == nil && d.Keep != nil && d.Err == nil && d.Manifest.Kind != manifest.Full {
			if links, err = a.links(d); err != nil {
				return nil, err
			}
		}
		p, err := links.To(d)
		if err == nil {
			err = p.Whole(a.ctx)
		}
		if err != nil {
			return nil, err
		}
		list = append(list, p)
	}
	return list, nil
}

// plansAt is plans, and knows moments between two dumps too.
func (a *app) plansAt(f *config.File, from, name, at string) ([]*chain.Plan, error) {
	if inside, err := a.inside(f, from, name, at); err != nil || inside != nil {
		return inside, err
	}
	return a.plans(f, from, name, at)
}

// inside are the plans of a moment between two dumps of a database, or of all those of a job; nil: no log tells of it.
func (a *app) inside(f *config.File, from, name, at string) (list []*chain.Plan, err error) {
	of, database, one := strings.Cut(name, "/")
	if at == "" || isPath(name) {
		return nil, nil
	}
	all, err := a.dumps(f, from)
	if err != nil {
		return nil, err
	}
	if !one {
		list, err = chain.InsideAll(a.ctx, all, of, at, clock.Now())
	} else if p, e := chain.Inside(a.ctx, all, of, database, at, clock.Now()); p != nil || e != nil {
		list, err = []*chain.Plan{p}, e
	}
	for _, p := range list {
		if err == nil {
			err = p.Whole(a.ctx)
		}
	}
	return list, err
}

// feed gives the feed of one piece of work: what it tells is shown, logged, and kept for
// --json. The returned function ends the show of its progress.
func (a *app) feed(listeners ...func(event.Event)) (*event.Feed, func()) {
	f := &event.Feed{Meter: a.meter}
	f.Listen(a.hear)
	for _, l := range listeners {
		f.Listen(l)
	}
	return f, a.showProgress(f.Gauge())
}

// emit ends a command in --json mode with its result.
func (a *app) emit(v any) error {
	a.result = v
	return nil
}
