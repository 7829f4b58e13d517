package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
)

// app is one run of the program.
type app struct {
	stdout, stderr io.Writer
	ctx            context.Context
	configPath     string
	json           bool
	quiet          bool

	display *display // of the work that goes on, on a terminal

	result   any      // of the command, for --json
	warnings []string // they make the exit code 3
	worst    fault.Class
}

// say tells people something that is not the result.
func (a *app) say(format string, args ...any) {
	if !a.quiet && !a.json {
		a.display.clear()
		fmt.Fprintf(a.stderr, format+"\n", args...)
	}
}

// print writes a part of the result.
func (a *app) print(format string, args ...any) {
	if !a.quiet && !a.json {
		a.display.clear()
		fmt.Fprintf(a.stdout, format, args...)
	}
}

// warn notes a warning; the exit code becomes 3.
func (a *app) warn(s string) {
	a.warnings = append(a.warnings, s)
	if !a.json {
		a.display.clear()
		fmt.Fprintf(a.stderr, "warning: %s\n", s)
	}
}

// mention tells of a failure that does not end the command, and raises the exit
// code.
func (a *app) mention(err error) {
	f := asFault(err)
	a.raise(f.Class)
	if !a.json {
		a.complain(f)
	}
}

// severity orders the exit classes; the worst of several counts.
var severity = map[fault.Class]int{fault.Done: 0, fault.Warned: 1, fault.Stale: 2, fault.Running: 3, fault.ProvenBad: 4, fault.Failed: 5, fault.Usage: 6}

func (a *app) raise(c fault.Class) {
	if severity[c] > severity[a.worst] {
		a.worst = c
	}
}

// envelope is what --json prints. Its version changes only when a field changes
// its meaning or goes away.
type envelope struct {
	Version  int       `json:"grainkeep"`
	Command  string    `json:"command"`
	Exit     int       `json:"exit"`
	Result   any       `json:"result,omitempty"`
	Warnings []string  `json:"warnings,omitempty"`
	Error    *jsonFail `json:"error,omitempty"`
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
	if len(a.warnings) > 0 {
		a.raise(fault.Warned)
	}
	if err != nil {
		f := asFault(err)
		a.worst = f.Class
		if !a.json {
			a.complain(f)
		}
	}
	if a.json {
		e := envelope{Version: 1, Exit: int(a.worst), Result: a.result, Warnings: a.warnings}
		if cmd != nil {
			e.Command = strings.TrimPrefix(cmd.CommandPath(), "grainkeep ")
		}
		if err != nil {
			e.Error = failOf(err)
		}
		enc := json.NewEncoder(a.stdout)
		enc.SetEscapeHTML(false)
		enc.Encode(e)
	}
	return int(a.worst)
}

// newTable starts a table without lines. The columns in right, by heading or as
// "#2" by number, are aligned to the right.
func newTable(header []string, right ...string) table.Writer {
	t := table.NewWriter()
	s := table.StyleLight
	s.Options = table.OptionsNoBordersAndSeparators
	s.Format.Header = text.FormatDefault
	s.Box.PaddingLeft, s.Box.PaddingRight = "", "  "
	t.SetStyle(s)
	if header != nil {
		row := make(table.Row, len(header))
		for i, h := range header {
			row[i] = h
		}
		t.AppendHeader(row)
	}
	var columns []table.ColumnConfig
	for _, r := range right {
		c := table.ColumnConfig{Name: r, Align: text.AlignRight, AlignHeader: text.AlignRight}
		if n, ok := strings.CutPrefix(r, "#"); ok {
			c.Name = ""
			c.Number, _ = strconv.Atoi(n)
		}
		columns = append(columns, c)
	}
	t.SetColumnConfigs(columns)
	t.SuppressTrailingSpaces()
	return t
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
	if from != "" {
		if f != nil {
			if _, ok := f.Keep[from]; ok {
				k, err := f.OpenKeep(from)
				return []*keep.Keep{k}, err
			}
		}
		if path, ok := strings.CutPrefix(from, "file://"); ok {
			from = path
		}
		k, err := keep.Open(from)
		return []*keep.Keep{k}, err
	}
	if f == nil {
		return nil, fault.Wrong("keep-unnamed", "there is no configuration, so there is no keep to look into").
			Advise("name one with --from FOLDER")
	}
	var list []*keep.Keep
	var last error
	for _, n := range f.Keeps() {
		k, err := f.OpenKeep(n)
		if err != nil {
			last = err
			a.mention(err)
			continue
		}
		list = append(list, k)
	}
	if len(list) == 0 && last != nil {
		return nil, last
	}
	return list, nil
}

// mustBePath fails for a word that is neither a configured keep nor clearly a
// path: a misspelt name must not found a keep in the working folder.
func mustBePath(f *config.File, word string) error {
	if _, err := os.Stat(word); f == nil || strings.ContainsRune(word, '/') || err == nil {
		return nil
	}
	return fault.Wrong("keep-unknown", "there is no keep %q in the configuration, and no such folder", word).
		Advise("the keeps are: %s; for a new folder write ./%s", strings.Join(f.Keeps(), ", "), word)
}

// dumps lists what is in the keeps. A dump that cannot be read is part of it.
func (a *app) dumps(f *config.File, from string) ([]*keep.Dump, error) {
	keeps, err := a.keeps(f, from)
	if err != nil {
		return nil, err
	}
	var all []*keep.Dump
	for _, k := range keeps {
		d, err := k.Dumps()
		if err != nil {
			return nil, err
		}
		all = append(all, d...)
	}
	return all, nil
}

// isPath says whether a name is a dump's path.
func isPath(name string) bool {
	return strings.HasPrefix(name, "/") || strings.HasPrefix(name, "./") || strings.HasPrefix(name, "../") || name == "."
}

// find gives the dumps that a name and a moment mean.
func (a *app) find(f *config.File, from, name, at string) ([]*keep.Dump, error) {
	if isPath(name) {
		if at != "" {
			return nil, fault.Wrong("moment-needless", "a path means one dump; --at does not go with it")
		}
		d, err := keep.DumpAt(name)
		return []*keep.Dump{d}, err
	}
	all, err := a.dumps(f, from)
	if err != nil {
		return nil, err
	}
	return chain.Find(all, name, at, time.Now())
}

// readable fails for a dump whose manifest cannot be read.
func readable(list []*keep.Dump) error {
	for _, d := range list {
		if d.Err != nil {
			return fmt.Errorf("%s: %w", d.Path, d.Err)
		}
	}
	return nil
}

// emit ends a command in --json mode with its result.
func (a *app) emit(v any) error {
	a.result = v
	return nil
}
