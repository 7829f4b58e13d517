package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
)

func (a *app) keepCommand() *cobra.Command {
	cmd := explain(&cobra.Command{
		Use: "keep", Short: "Create a keep: the place where dumps live", Args: args(1, 1, "a command, such as create"),
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}, usage{`A keep is the place where dumps live. It carries a marker, so that a mount point
whose drive is missing is never mistaken for it.`, [2]string{
		"grainkeep keep create barn",
		"grainkeep keep create /mnt/usb/dumps"}})
	var adopt bool
	create := explain(&cobra.Command{
		Use: "create NAME or FOLDER", Short: "Create a keep, in a configured place or in a folder",
		Args:              args(1, 1, "the name of a configured keep, or a folder"),
		RunE:              func(_ *cobra.Command, names []string) error { return a.createKeep(names[0], adopt) },
		ValidArgsFunction: a.configured(job.Set.Keeps),
	}, usage{`Creates a keep: makes the folder if need be, and puts a marker into it. From then on
a drive that is not mounted is never mistaken for the keep.`, [2]string{
		"grainkeep keep create barn",
		"grainkeep keep create /srv/dumps --adopt"}})
	create.Flags().BoolVar(&adopt, "adopt", false, "make the folder a keep even if it holds other things")
	cmd.AddCommand(create)
	return cmd
}

func (a *app) createKeep(name string, adopt bool) error {
	f, err := a.config()
	if err != nil {
		return err
	}
	place, ok := job.Of(f).KeepPlace(name)
	if !ok {
		if err := mustBePath(f, name); err != nil {
			return err
		}
		place = name
	}
	var k *keep.Keep
	done := "created"
	err = a.noted(f, "keep create", "", nil, func(string) (err error) {
		k, err = keep.Create(a.ctx, place, adopt)
		if fault.HasCode(err, "keep-exists") {
			k, err = keep.Open(a.ctx, place)
			done = "there already"
		}
		if err == nil && a.run != nil {
			a.run.At(a.ctx, k.ID, k.Where())
		}
		return err
	})
	if err != nil {
		return err
	}
	room, err := k.Room(a.ctx)
	if err != nil {
		return err
	}
	a.print("%s\n", k.Where())
	said := "."
	if room.Known {
		said = fmt.Sprintf("; its file system has %s free of %s.", phrase.Bytes(room.Free), phrase.Bytes(room.Total))
	}
	a.say("The keep %s is %s%s", k.ID, done, said)
	if same, _ := k.SameDrive("/"); same {
		a.say("Note: it is on the system's own file system. A drive of its own outlives this machine.")
	}
	return a.emit(map[string]any{"place": k.Where(), "id": k.ID, "free_bytes": room.Free, "existed": done != "created"})
}
