package cli

import (
	"github.com/spf13/cobra"

	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
)

func (a *app) keepCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "keep", Short: "Found a keep: the place where dumps live", Args: args(1, 1, "a command, such as create"),
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	var found bool
	create := &cobra.Command{
		Use: "create NAME or FOLDER", Short: "Found a keep, in a configured place or in a folder",
		Long: `Founds a keep: makes the folder if need be, and puts a marker into it. From then on
a drive that is not mounted is never mistaken for the keep.`,
		Args: args(1, 1, "the name of a configured keep, or a folder"),
		RunE: func(_ *cobra.Command, names []string) error {
			folder := names[0]
			f, err := a.config()
			if err != nil {
				return err
			}
			if f != nil {
				if path, ok := f.KeepFolder(folder); ok {
					folder = path
				}
			}
			if err := mustBePath(f, folder); err != nil {
				return err
			}
			k, err := keep.Create(folder, found)
			if err != nil {
				return err
			}
			room, err := k.Room()
			if err != nil {
				return err
			}
			a.print("%s\n", k.Folder)
			a.say("The keep %s is founded; its file system has %s free of %s.", k.ID, phrase.Bytes(room.Free), phrase.Bytes(room.Total))
			if keep.SameDrive("/", k.Folder) {
				a.say("Note: it is on the system's own file system. A drive of its own outlives this machine.")
			}
			return a.emit(map[string]any{"folder": k.Folder, "id": k.ID, "free_bytes": room.Free})
		},
	}
	create.Flags().BoolVar(&found, "found", false, "found it even if the folder holds other things")
	cmd.AddCommand(create)
	return cmd
}
