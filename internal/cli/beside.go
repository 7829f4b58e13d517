package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"grainkeep/internal/chain"
	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/files"
	"grainkeep/internal/job"
	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
	"grainkeep/internal/restore"
	"grainkeep/internal/step"
)

// restoreWithBeside restores what is no database, after the databases of the same run.
func (a *app) restoreWithBeside(f *config.File, databases, beside []*chain.Plan, r restoreFlags) error {
	if r.as != "" && len(beside) > 0 && beside[0].Last().Manifest.Payload.Tar != nil || r.into+r.part != "" {
		return fault.Wrong("flag-wrong",
			"--as, --into and --part are for databases").Advise("name the new folder with --to")
	}
	if len(databases) > 0 && r.to != "" {
		var names []string
		for _, p := range beside {
			names = append(names, p.Last().Name())
		}
		a.say("note: --to means the databases; not restored: %s (each can be named)", strings.Join(names, ", "))
		return a.restoreDatabases(f, databases, r)
	}
	var tasks []folderTask
	for _, p := range beside {
		t, err := a.folderTask(f, p, r, len(beside)+len(databases) > 1)
		if err != nil {
			return err
		}
		tasks = append(tasks, t)
	}
	if len(databases) > 0 {
		if err := a.restoreDatabases(f, databases, r); err != nil {
			return err
		}
	}
	if r.dry {
		for _, t := range tasks {
			a.print("would restore %s as %s\n", heldBy(t.d), t.to)
		}
		return nil
	}
	of := tasks[0].d
	return a.noted(f, "restore", of.Manifest.Job, of.Keep, func(string) error {
		for _, t := range tasks {
			if err := a.restoreBeside(f, t, r); err != nil {
				a.part(failedPart(t.d.Manifest.Database, err))
				return diskFull(err)
			}
		}
		return nil
	})
}

// folderTask is the restore of what is no database.
type folderTask struct {
	plan *chain.Plan
	d    *keep.Dump // the last of it
	to   string     // the folder to make; of a stream: the name that its command gets
}

// folderTask says where to; a folder that is there already is an error, unless it may be renamed.
func (a *app) folderTask(f *config.File, p *chain.Plan, r restoreFlags, several bool) (t folderTask, err error) {
	d := p.Last()
	t.plan, t.d = p, d
	if d.Manifest.Payload.Stream != nil {
		t.to = r.as
		if r.as == "" && !r.replace {
			return t, fault.Wrong("target-unnamed", "the restore command of %s would restore over what is there",
				d.Manifest.Source.Name).
				Advise("say --replace if it may, or --as NAME: the command gets it as GRAINKEEP_TARGET")
		}
		return t, nil
	}
	switch home, known := job.Of(f).FolderOf(d.Manifest.Job, d.Manifest.Database); {
	case r.to != "":
		t.to = r.to
	case !known:
		return t, fault.Wrong("target-unnamed", "the dump is of the folder %s, which is not configured here",
			d.Manifest.Payload.Tar.Folder).
			Advise("say where to restore with --to FOLDER: a new one")
	case len(r.only) > 0 && !r.replace:
		t.to = files.Free(home, "_restored")
	default:
		t.to = home
	}
	if t.to, err = filepath.Abs(t.to); err != nil {
		return t, err
	}
	return t, files.Vacant(t.to, r.replace)
}

// heldBy says what is in a dump of a folder or a stream.
func heldBy(d *keep.Dump) string {
	if t := d.Manifest.Payload.Tar; t != nil {
		return fmt.Sprintf("%s of %s, %s of content", phrase.Plural(t.Entries, "entry"), t.Folder,
			phrase.Bytes(t.Bytes))
	}
	return fmt.Sprintf("%s that a command of %s wrote", phrase.Bytes(d.Manifest.Payload.Stream.Bytes),
		d.Manifest.Source.Name)
}

func (a *app) restoreBeside(f *config.File, t folderTask, r restoreFlags) error {
	d := t.d
	a.say("%s of %s, id %s", d.Name(), phrase.Both(d.Manifest.Moment, chain.Zone(d)), d.Short())
	a.sayWay(t.plan)
	unpin, err := a.pin(d)
	if err != nil {
		return err
	}
	defer unpin()
	part := dumpPart(d)
	part.Result = journal.Good
	feed, end := a.feed()
	defer end()
	if d.Manifest.Payload.Stream != nil {
		s, err := job.Of(f).Stream(d.Manifest.Source.Name)
		if err != nil {
			return err
		}
		if part.Took, err = restore.Stream(a.ctx, d, s, step.Facts{Job: d.Manifest.Job, Target: t.to},
			feed); err != nil {
			return err
		}
		a.say("  the restore command took %s, %s", phrase.Bytes(d.Manifest.Payload.Stream.Bytes),
			phrase.Duration(part.Took))
		a.print("%s\n", orDash(t.to))
		a.part(part)
		return nil
	}
	o, err := restore.Folder(a.ctx, t.plan, t.to, r.only, r.replace, feed)
	if err != nil {
		return err
	}
	part.Took, part.Path, part.Rows = o.Took, o.Folder, o.Entries
	a.part(part)
	a.say("  restored %s, %s, %s", phrase.Plural(o.Entries, "entry"), phrase.Bytes(o.Bytes), phrase.Duration(o.Took))
	if o.Aside != "" {
		a.say("  the folder that was there is now called %s", o.Aside)
	}
	for _, w := range o.Warnings() {
		a.warn("not-as-it-was", "%s", w)
	}
	a.print("%s\n", o.Folder)
	return a.emit([]jsonRestored{{Dump: d.Name(), ID: d.ID,
		Moment:   d.Manifest.Moment.Format("2006-01-02T15:04:05.000000Z"),
		Database: o.Folder, Aside: o.Aside, Rows: o.Entries, Seconds: o.Took.Seconds()}})
}
