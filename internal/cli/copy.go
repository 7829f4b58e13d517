package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
	"grainkeep/internal/seal"
	"grainkeep/internal/transfer"
)

type copyFlags struct {
	from, to, at       string
	all, readBack, dry bool
	seal               sealFlags
}

func (a *app) copyCommand() *cobra.Command {
	var c copyFlags
	cmd := explain(&cobra.Command{
		Use: "copy [JOB or JOB/DATABASE]", Short: "Copy dumps to another keep, chains whole, and read them back there",
		Args: args(0, 1, ""),
		RunE: func(_ *cobra.Command, names []string) error {
			return a.copy(append(names, "")[0], c)
		},
		ValidArgsFunction: a.dumpNames(&c.from),
	}, usage{`Copies the newest dump of a database, or of all databases of a job, or with --all everything
that is missing, with all that it builds on. Each byte is checked on its way, and read back
where it has arrived; an object store checks what it takes by itself. What is there already is
not sent again. A copy has the same id, and the same proofs. 'copy_to' in a job copies after
each dump, or when its 'copy' says; then 'copy JOB' alone does it now.`, [2]string{"grainkeep copy nightly --to vault",
		"grainkeep copy --all --from /mnt/barn/dumps --to sftp://dumps@vault.example/srv/dumps"}})
	a.fromFlag(cmd, &c.from)
	cmd.Flags().StringVar(&c.to, "to", "", "the `KEEP` to copy to: a configured name, a path or a URL")
	a.completeOption(cmd, "to", job.Set.Keeps)
	atFlag(cmd, &c.at)
	cmd.Flags().BoolVar(&c.all, "all", false, "everything that is missing there, not just the newest")
	cmd.Flags().BoolVar(&c.readBack, "read-back", false, "read the bytes back also from a store that checks what it takes")
	c.seal.add(cmd, "encrypt what lies open for this `RECIPIENT`, on its way")
	cmd.Flags().BoolVar(&c.dry, "dry-run", false, "say what would be copied, and do nothing")
	return cmd
}

type jsonCopied struct {
	Dump  string `json:"dump"`
	ID    string `json:"id"`
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"`
}

func (a *app) copy(name string, c copyFlags) error {
	if c.to == "" && c.from == "" && c.at == "" && !c.all {
		if f, err := a.config(); err != nil || f != nil && len(f.Job[name].CopyTo) > 0 {
			return a.copyJob(f, name, err)
		}
	}
	switch {
	case c.to == "":
		return fault.Wrong("flag-missing", "copy needs --to").Advise("name the keep to copy to")
	case name == "" && !c.all:
		return fault.Wrong("argument-missing", "copy needs a job, a database of one, or --all").
			Advise("'grainkeep list' shows what there is")
	case c.all && c.at != "":
		return fault.Wrong("flag-wrong", "--all means every moment").Advise("leave --at or --all out")
	}
	f, err := a.config()
	if err != nil {
		return err
	}
	to, err := a.keepToWrite(f, c.to, false)
	if err != nil {
		return err
	}
	recipients, err := c.seal.recipients(f)
	if err != nil {
		return err
	}
	if len(recipients) > 0 {
		to.Seal = func() ([]seal.Recipient, error) { return recipients, nil }
	}
	all, wanted, err := a.toCopy(f, name, to, c)
	if err != nil {
		return err
	}
	there, err := to.Dumps(a.ctx)
	if err != nil {
		return err
	}
	list, err := transfer.Missing(wanted, all, there)
	if err != nil {
		return err
	}
	if !c.dry {
		if err := transfer.Proofs(a.ctx, wanted, there, to); err != nil {
			return err
		}
	}
	if len(list) == 0 {
		a.say("Nothing to copy: %s has it all.", to.Where())
		return a.emit([]jsonCopied{})
	}
	var bytes int64
	for _, d := range list {
		bytes += d.Manifest.StoredBytes
	}
	a.say("%s, %s, into %s", phrase.Plural(int64(len(list)), "dump"), phrase.Bytes(bytes), to.Where())
	if c.dry {
		for _, d := range list {
			a.say("  %s  %s", d.Name(), phrase.Bytes(d.Manifest.StoredBytes))
		}
		return a.emit([]jsonCopied{})
	}
	return a.noted(f, "copy", list[0].Manifest.Job, to, func(string) error {
		copied, err := a.transfer(list, to, c.readBack, func(path string) { a.print("%s\n", path) })
		a.result = copied
		return err
	})
}

// toCopy gives all dumps of the keep to copy from, and those that are meant.
func (a *app) toCopy(f *config.File, name string, to *keep.Keep, c copyFlags) (all, wanted []*keep.Dump, err error) {
	if all, err = a.everyCopy(f, c.from); err != nil {
		return nil, nil, err
	}
	all = oneOfEach(slices.DeleteFunc(all, func(d *keep.Dump) bool { return d.Keep != nil && d.Keep.ID == to.ID }))
	if !c.all {
		wanted, err = chain.Find(all, name, c.at, clock.Now())
		return all, wanted, err
	}
	of, database, _ := strings.Cut(name, "/")
	for _, d := range all {
		switch {
		case name != "" && !d.MayBeOf(of, database):
		case d.Manifest == nil:
			a.mention(d.Readable())
		default:
			wanted = append(wanted, d)
		}
	}
	return all, wanted, nil
}

// transfer copies, and tells of each dump where it is.
func (a *app) transfer(list []*keep.Dump, to *keep.Keep, readBack bool, where func(path string)) (copied []jsonCopied,
	err error) {
	copied = []jsonCopied{}
	feed, end := a.feed(func(e event.Event) {
		if arrived, is := e.(transfer.Arrived); is {
			m := arrived.Manifest
			how := "read back"
			if !arrived.ReadBack {
				how = "checked by the store"
			}
			where(arrived.Path())
			a.say("  %s: %s, %s, %s", m.Database, m.KindWord(), phrase.Bytes(m.StoredBytes), how)
			copied = append(copied, jsonCopied{arrived.Name(), arrived.ID, arrived.Path(), m.StoredBytes})
			p := dumpPart(arrived.Dump)
			p.Result = journal.Good
			a.part(p)
		}
	})
	_, failed, err := transfer.Run(a.ctx, list, to, transfer.Options{ReadBack: readBack}, feed)
	end()
	for _, x := range failed {
		a.mention(fmt.Errorf("%s of %s was not copied: %w", x.Name(), phrase.Both(x.When(), chain.Zone(x.Dump)), x.Err))
		a.part(failedPart(x.Manifest.Database, x.Err))
	}
	return copied, err
}

// copyJob copies a job's dumps to where it says.
func (a *app) copyJob(f *config.File, of string, err error) error {
	if err != nil {
		return err
	}
	from, err := a.jobs(f).OpenKeep(a.ctx, f.Job[of].Keep)
	if err != nil {
		return err
	}
	return a.noted(f, "copy", of, from, func(string) error {
		a.copyAfter(f, of, from)
		return nil
	})
}

// copyAfter copies what a job has just dumped to where it says, and what earlier copies missed.
func (a *app) copyAfter(f *config.File, of string, from *keep.Keep) {
	for _, name := range f.Job[of].CopyTo {
		if err := a.copyNewer(f, of, from, name); err != nil {
			a.mention(fmt.Errorf("the dumps of %s were not copied to %s: %w", of, name, err))
		}
	}
}

func (a *app) copyNewer(f *config.File, of string, from *keep.Keep, name string) error {
	to, err := a.jobs(f).OpenKeep(a.ctx, name)
	if err != nil {
		return err
	}
	all, err := from.Dumps(a.ctx)
	if err != nil {
		return err
	}
	there, err := to.Dumps(a.ctx)
	if err != nil {
		return err
	}
	list, err := transfer.Missing(transfer.Newer(of, all, there), all, there)
	if err != nil {
		return err
	}
	if len(list) > 0 {
		a.say("Copying %s to %s", phrase.Plural(int64(len(list)), "dump"), to.Where())
		// What a dump prints is what it has dumped, and no copies.
		if _, err := a.transfer(list, to, false, func(string) {}); err != nil {
			return err
		}
	}
	switch k := f.Keep[name]; {
	case k.Thin == config.AfterCopy:
		a.thinBy(f, of, to, k.Retain)
	case k.Mirror:
		return transfer.Follow(a.ctx, of, from, to, func(d *keep.Dump) {
			a.part(removedPart(d, "it was removed from "+from.Where()))
			a.say("  removed %s of %s from %s: it was removed from %s", d.Name(), phrase.Both(d.When(), chain.Zone(d)), to.Where(),
				from.Where())
		})
	}
	return nil
}
