package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/demo"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
)

func (a *app) demoCommand() *cobra.Command {
	var on string
	cmd := explain(&cobra.Command{
		Use: "demo [FOLDER]", Short: "Make demo databases and go through the whole work on them",
		Args: args(0, 1, ""),
		RunE: func(_ *cobra.Command, names []string) error {
			folder := "ternskerry-demo"
			if len(names) > 0 {
				folder = names[0]
			}
			return a.demo(folder, on)
		},
	}, usage{`Makes the databases of a ferry line as SQLite files in FOLDER (./ternskerry-demo) and
goes through the work on them: survey, dump, list, show, verify, restore, drill, increments,
two nights and the mornings after, what damage looks like, and the way back from a sealed copy.
Each command is shown with its real output.
With --on, the databases are made on a server, named ternskerry_…, and removed at the end;
then there are no nights, since a server's clock cannot be moved.`, [2]string{
		"grainkeep demo",
		"grainkeep demo --on postgres://you@db1/"}})
	cmd.Flags().StringVar(&on, "on", "", "the server to make the databases on: `SOURCE`, a URL or configured")
	return cmd
}

const demoConfig = `timezone = "Atlantic/Faroe"

[journal]
folder = "state"

[source.%s]
%s
[keep.barn]
folder = "barn"
floor  = "1%%"

[job.nightly]
source    = %q
databases = [%q, %q]
optional  = [%q]
keep      = "barn"
%s
[[job.nightly.check]]
database = %q
sql      = "SELECT sum(amount) FROM %sposting"
answer   = "0"
`

// walk is a demo under way.
type walk struct {
	a     *app
	err   error
	first string // the moment of the first bookings, as --at takes it
	stage stage
	zone  *time.Location
	bare  bool // there is no configuration any more
}

func (a *app) demo(folder, on string) error {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return err
	}
	if entries, err := os.ReadDir(folder); err == nil && len(entries) > 0 {
		return fault.New("demo-not-empty", nil, "%s is not empty",
			folder).Advise("name another folder: 'grainkeep demo FOLDER'")
	}
	w := &walk{a: a, stage: filesStage(folder)}
	if on != "" {
		if w.stage, err = a.serverStage(on); err != nil {
			return err
		}
	}
	if w.zone, err = time.LoadLocation("Atlantic/Faroe"); err != nil {
		return err
	}
	if w.stage.night != "" { // else a server tells the time
		clock.MoveTo(firstDay(w.zone))
		defer clock.Right()
	}
	w.say("Tern & Skerry Ferries: making three databases %s …", w.stage.where)
	defer w.stage.remove(context.WithoutCancel(a.ctx))
	if err := w.stage.load(a.ctx); err != nil {
		return fault.New("demo-failed", err, "the demo's databases could not be made")
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	if err := os.Chdir(folder); err != nil {
		return err
	}
	if err := writeNew("grainkeep.toml", []byte(w.stage.config)); err != nil {
		return err
	}
	w.before()
	w.after()
	w.hours()
	w.night()
	w.damage()
	if w.err != nil {
		return w.err
	}
	w.end(folder)
	return a.emit(map[string]string{"folder": folder})
}

func (w *walk) say(format string, args ...any) {
	if w.err == nil {
		w.a.print("\n"+format+"\n", args...)
	}
}

// run shows a command and its real output, and checks its exit code.
func (w *walk) run(expected string, args ...string) {
	if w.err != nil {
		return
	}
	words := make([]string, len(args))
	for i, s := range args {
		words[i] = s
		if strings.ContainsAny(s, " *'\"\\$&;|<>()") {
			words[i] = engine.ShellQuote(s)
		}
	}
	w.a.print("\n$ grainkeep %s\n", strings.Join(words, " "))
	config := "grainkeep.toml"
	if w.bare {
		config = os.DevNull
	}
	code := Run(w.a.ctx, append([]string{"--config", config}, args...), &demoOut{w.a}, &demoOut{w.a})
	if w.a.ctx.Err() != nil {
		w.err = context.Cause(w.a.ctx)
		return
	}
	if !strings.Contains(expected, fmt.Sprint(code)) {
		w.err = fault.New("demo-failed", nil, "'grainkeep %s' ended with exit code %d, and the demo expects %s",
			args[0], code, expected)
	}
	if code != 0 {
		w.a.print("(exit code %d)\n", code)
	}
}

// demoOut puts what commands write into one stream, in its order.
type demoOut struct{ a *app }

func (o *demoOut) Write(p []byte) (int, error) {
	o.a.print("%s", block(p))
	return len(p), nil
}

// columns implements sized: what the demo runs is shown where the demo is.
func (o *demoOut) columns() int { return o.a.room(o.a.stdout) }

// before goes through the first night.
func (w *walk) before() {
	w.say("── 1. Create a keep. Its marker tells it from a mount point whose drive is missing.")
	w.run("0", "keep", "create", "barn")
	w.say("── 2. Look before the dump: what is there, and which entry of the job takes it.\n" +
		"   (Here the keep is beside the data, so there is a warning, and exit code 3: done with warnings.)")
	w.run("03", "survey", "nightly")
	w.say("── 3. Take the dumps. Each is one moment of its database.")
	w.run("03", "dump", "nightly")
	w.run("0", "list")
	w.run("0", "show", "nightly/"+w.stage.bookings)
	w.say("── 4. Read every byte back.")
	w.run("0", "verify", "nightly")
	w.say("── 5. Restore one under another name, beside the live one. An existing one is refused.")
	w.run("0", "restore", "nightly/"+w.stage.bookings, "--as", w.stage.yesterday)
	w.run("1", "restore", "nightly/"+w.stage.bookings)
	w.say("── 6. Prove it: restore into a scratch database, compare every row, ask the job's check, clean up.")
	w.run("0", "drill", "nightly")
	w.run("0", "list")
}

// after changes data and dumps again.
func (w *walk) after() {
	if w.err != nil {
		return
	}
	if w.first, w.err = w.firstMoment(); w.err != nil {
		return
	}
	w.say("── 7. A day goes by: 250 new bookings, each with two postings, and a port is renamed.")
	if err := w.stage.change(w.a.ctx, demo.NextDay); err != nil {
		w.err = fault.New("demo-failed", err, "the demo's data could not be changed")
		return
	}
	w.run("03", "dump", "nightly/"+w.stage.bookings)
	w.run("0", "list", "nightly/"+w.stage.bookings)
}

func (w *walk) firstMoment() (string, error) {
	return w.moment(func(dumps []*keep.Dump) *keep.Dump { return dumps[0] })
}

func (w *walk) lastMoment() (string, error) {
	return w.moment(func(dumps []*keep.Dump) *keep.Dump { return dumps[len(dumps)-1] })
}

// moment is that of one of the dumps, as --at takes it.
func (w *walk) moment(pick func([]*keep.Dump) *keep.Dump) (string, error) {
	k, err := keep.Open(w.a.ctx, "barn")
	if err != nil {
		return "", err
	}
	dumps, err := k.Dumps(w.a.ctx)
	if err != nil {
		return "", err
	}
	d := pick(dumps)
	return d.Manifest.Moment.In(chain.Zone(d)).Format("2006-01-02T15:04:05"), nil
}

// damage flips one bit in a copy of the keep.
func (w *walk) damage() {
	if w.err != nil {
		return
	}
	step := 9
	if w.stage.night != "" {
		step = 11
	}
	w.say("── %d. What damage looks like: a copy of the keep, in which one bit of one file is flipped.", step)
	file, err := w.damagedCopy("barn", "barn-damaged")
	if err != nil {
		w.err = fault.New("demo-failed", err, "the copy could not be made")
		return
	}
	w.a.print("\n(flipped a bit in %s)\n", file)
	w.run("5", "verify", "nightly/"+w.stage.bookings, "--from", "barn-damaged")
	w.run("5", "drill", "nightly/"+w.stage.bookings, "--from", "barn-damaged")
	w.away(step + 1)
}

// damagedCopy copies a keep and flips a bit in the newest dump of the bookings.
func (w *walk) damagedCopy(from, to string) (string, error) {
	if err := os.CopyFS(to, os.DirFS(from)); err != nil {
		return "", err
	}
	k, err := keep.Open(w.a.ctx, to)
	if err != nil {
		return "", err
	}
	dumps, err := k.Dumps(w.a.ctx)
	if err != nil {
		return "", err
	}
	for i := len(dumps) - 1; i >= 0; i-- {
		if m := dumps[i].Manifest; m != nil && m.Database == w.stage.bookings {
			where := filepath.Join("20-data", "*posting", "part-0001.sql.zst")
			if m.Kind != manifest.Full { // rows by comparison, or transactions
				where = filepath.Join("40-changes", "*", "*-0001.sql.zst")
			}
			found, err := filepath.Glob(filepath.Join(dumps[i].Path(), where))
			if err != nil || len(found) == 0 {
				return "", errors.Join(err, fs.ErrNotExist)
			}
			return rel(k.Where(), found[0]), flipBit(found[0])
		}
	}
	return "", fs.ErrNotExist
}

func rel(base, path string) string {
	if r, err := filepath.Rel(filepath.Dir(base), path); err == nil {
		return r
	}
	return path
}

func flipBit(path string) error {
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	data[len(data)/2] ^= 1
	return os.WriteFile(path, data, 0o600)
}

func (w *walk) end(folder string) {
	var used int64
	filepath.WalkDir(folder, func(_ string, d fs.DirEntry, err error) error {
		if err == nil {
			if info, err := d.Info(); err == nil && !d.IsDir() {
				used += info.Size()
			}
		}
		return nil
	})
	w.say(`── That is the work. Everything is in %s (%s):

%s   barn/            the keep; read its START-HERE.txt and a dump's README.txt
   barn-damaged/    the copy with the flipped bit
   vault/           the sealed copy; office.key and recovery.key open it
   grainkeep.toml   the configuration
   state/           the journal, and the logs of the runs

   Try next:
     cd %s
%s     grainkeep list --from barn --json
     rm -r %s    when you are done`, folder, phrase.Bytes(used), block(w.stage.left), engine.ShellQuote(folder),
		block(w.stage.next(w.first)), engine.ShellQuote(folder))
}
