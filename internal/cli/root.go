// Package cli is the command line: commands, tables, progress, exit codes.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"

	"github.com/spf13/cobra"

	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
	"grainkeep/internal/seal"
)

// The collector is kept at work early enough for the process to stay small: memoryLimit is a goal, not a wall, and
// SQLite's memory and the program's own pages come besides. What is unsealed leaves a piece of garbage for each 64 KiB.
const (
	memoryLimit    = 48 << 20 // bytes
	garbagePercent = 200
)

// Main runs the program and gives its exit code.
func Main(args []string, stdout, stderr io.Writer) int {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryLimit)
		debug.SetGCPercent(garbagePercent)
	}
	ignoreLimits()
	ctx, stop := untilSignal(context.Background())
	defer stop()
	return Run(ctx, args, stdout, stderr)
}

// untilSignal gives a context that ends with a signal, which is its cause.
func untilSignal(parent context.Context) (context.Context, func()) {
	ctx, cancel := context.WithCancelCause(parent)
	ch := make(chan os.Signal, 2)
	signal.Notify(ch, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP)
	go func() {
		if s, ok := nextSignal(ch); ok {
			name := map[os.Signal]string{syscall.SIGINT: "SIGINT", syscall.SIGTERM: "SIGTERM",
				syscall.SIGHUP: "SIGHUP"}[s]
			cancel(fault.New("stopped", nil, "stopped by %s; what was unfinished is removed", name))
		}
		if _, ok := nextSignal(ch); ok { // asked twice: whoever waits for the cleaning up does not want to
			os.Stderr.WriteString("grainkeep: stopped at once; what is unfinished is removed by the next run\n")
			os.Exit(int(fault.Failed))
		}
	}()
	return ctx, func() { signal.Stop(ch); close(ch); cancel(nil) }
}

// hangup is what a SIGHUP does instead of stopping, where something was set.
var hangup atomic.Pointer[func()]

// onHangup sets what a SIGHUP does, until the program ends.
func (a *app) onHangup(do func()) { hangup.Store(&do) }

// nextSignal waits for a signal that stops.
func nextSignal(ch <-chan os.Signal) (os.Signal, bool) {
	for s := range ch {
		if do := hangup.Load(); s == syscall.SIGHUP && do != nil {
			(*do)()
			continue
		}
		return s, true
	}
	return nil, false
}

// Run runs one command in a context and gives its exit code.
func Run(ctx context.Context, args []string, stdout, stderr io.Writer) int {
	a := &app{screen: screen{stdout: stdout, stderr: stderr}, ctx: ctx}
	root := a.root()
	root.SetArgs(args)
	a.json = slices.Contains(args, "--json") // also when the flags cannot be read
	cmd, err := root.ExecuteContextC(ctx)
	if err != nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	return a.finish(cmd, err)
}

// openLog opens the log that --log names.
func (a *app) openLog() error {
	if a.logPath == "" {
		return nil
	}
	f, err := os.OpenFile(a.logPath, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return fault.Wrong("log-unwritable", "cannot write to the log %s",
			a.logPath).Advise("check its folder and its owner")
	}
	a.log = slog.New(slog.NewJSONHandler(f, nil)) // open until the program ends
	return nil
}

const (
	groupPrepare = "prepare"
	groupWork    = "work"
	groupNight   = "night"
	groupOther   = "other"
)

func (a *app) root() *cobra.Command {
	version := false
	root := &cobra.Command{
		Use:   "grainkeep",
		Short: "Dumps databases, and proves that the dumps restore",
		Long: `Grain Keep dumps PostgreSQL, MariaDB, MySQL and SQLite databases, each at one
moment, files the dumps in a keep, and proves that they restore.

  grainkeep dump  --from postgres://you@db1/bookings --to /mnt/usb/dumps
  grainkeep drill adhoc/bookings --from /mnt/usb/dumps --to postgres://you@db2/

A dump is named JOB/DATABASE, by the beginning of its id, or by its path (which
begins with / or ./). --at picks a moment: a time (2026-03-14T09:30), a date, or
an age (2 days).`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				e := fault.Wrong("command-unknown", "there is no command %q", args[0])
				if s := cmd.SuggestionsFor(args[0]); len(s) > 0 {
					return e.Advise("did you mean %s?", strings.Join(s, " or "))
				}
				return e.Advise("'grainkeep help' lists the commands")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error {
			if version {
				return a.version()
			}
			return a.help(cmd)
		},
		PersistentPreRunE: func(*cobra.Command, []string) error {
			a.ctx = seal.With(a.ctx, seal.Later(a.fetchKeys))
			return a.openLog()
		},
	}
	root.SetOut(a.stdout)
	root.SetErr(a.stderr)
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return fault.Wrong("flag-wrong", "%v", err).Advise("'%s --help' lists the flags", cmd.CommandPath())
	})
	root.SuggestionsMinimumDistance = 2
	root.SetHelpFunc(func(cmd *cobra.Command, _ []string) {
		if err := a.help(cmd); err != nil {
			a.mention(err)
		}
	})
	root.CompletionOptions.DisableDefaultCmd = true
	root.Flags().BoolVarP(&version, "version", "v", false, "print the version")
	f := root.PersistentFlags()
	f.StringVar(&a.configPath, "config", "",
		"configuration `FILE` (else GRAINKEEP_CONFIG, ./grainkeep.toml, /etc/grainkeep/grainkeep.toml)")
	f.StringVar(&a.logPath, "log", "", "append what happens to this `FILE`, one JSON object a line")
	f.StringArrayVar(&a.keys, "key", nil, "a `FILE` with a private key that opens sealed dumps; also several times")
	f.BoolVar(&a.json, "json", false, "print one JSON object, also on failure")
	f.BoolVar(&a.wide, "wide", false, "do not fit what is shown to the terminal")
	f.BoolVarP(&a.quiet, "quiet", "q", false, "print nothing unless there is a warning or a failure")
	root.AddGroup(&cobra.Group{ID: groupPrepare, Title: "Once"}, &cobra.Group{ID: groupWork, Title: "Every day"},
		&cobra.Group{ID: groupNight, Title: "Every night"}, &cobra.Group{ID: groupOther, Title: "Besides"})
	root.SetHelpCommand(a.helpCommand())
	cobra.EnableCommandSorting = false
	for _, c := range []struct {
		group string
		cmd   *cobra.Command
	}{
		{groupPrepare, a.demoCommand()}, {groupPrepare, a.initCommand()}, {groupPrepare, a.keepCommand()},
		{groupPrepare, a.surveyCommand()}, {groupPrepare, a.grantsCommand()}, {groupPrepare, a.keyCommand()},
		{groupWork, a.dumpCommand()}, {groupWork, a.listCommand()}, {groupWork, a.showCommand()},
		{groupWork, a.findCommand()}, {groupWork, a.askCommand()}, {groupWork, a.compareCommand()},
		{groupWork, a.verifyCommand()}, {groupWork, a.restoreCommand()},
		{groupWork, a.drillCommand()}, {groupWork, a.copyCommand()}, {groupWork, a.resealCommand()},
		{groupWork, a.slotsCommand()}, {groupWork, a.refreshCommand()}, {groupWork, a.standbyCommand()},
		{groupWork, a.holdCommand()}, {groupWork, a.releaseCommand()}, {groupWork, a.removeCommand()},
		{groupNight, a.scheduleCommand()}, {groupNight, a.statusCommand()}, {groupNight, a.historyCommand()},
		{groupNight, a.thinCommand()}, {groupNight, a.forecastCommand()}, {groupNight, a.reportCommand()},
		{groupNight, a.tellCommand()},
		{groupOther, a.versionCommand()}, {groupOther, a.completionCommand()},
	} {
		c.cmd.GroupID = c.group
		root.AddCommand(c.cmd)
	}
	return root
}

// args checks the number of arguments in our own words.
func args(least, most int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, got []string) error {
		name := strings.TrimPrefix(cmd.CommandPath(), cmd.Root().Name()+" ")
		switch {
		case len(got) < least:
			return fault.Wrong("argument-missing", "%s needs %s", name, what).
				Advise("'%s --help' shows how", cmd.CommandPath())
		case most >= 0 && len(got) > most:
			return fault.Wrong("argument-needless", "%s does not take %q", name, got[most]).
				Advise("'%s --help' shows how", cmd.CommandPath())
		}
		return nil
	}
}

// asFault makes sure that every failure has a code and a class.
func asFault(err error) *fault.Error {
	if errors.Is(err, context.Canceled) {
		return fault.New("stopped", nil, "stopped")
	}
	return fault.Of(err)
}

// complain says what failed; of several errors that were joined each with its own advice.
func (a *app) complain(err error) {
	for _, e := range fault.Parts(err) {
		f := asFault(e)
		text := a.prose(a.stderr, fmt.Sprintf("%s %s\n", paint(a.stderr, red, "grainkeep:"), phrase.Clean(f.Error())))
		if f.Do != "" {
			text += a.prose(a.stderr, fmt.Sprintf("  → %s\n", phrase.Clean(f.Do)))
		}
		a.tell(text)
	}
}
