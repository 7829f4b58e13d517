package cli

import (
	"errors"
	"io/fs"
	"path/filepath"

	"github.com/spf13/cobra"

	"grainkeep/internal/config"
	"grainkeep/internal/fault"
)

func (a *app) initCommand() *cobra.Command {
	return &cobra.Command{
		Use: "init [FILE]", Short: "Write a commented starter configuration; never overwrites",
		Args: args(0, 1, ""),
		RunE: func(_ *cobra.Command, names []string) error {
			path := config.FileName
			if len(names) > 0 {
				path = names[0]
			}
			path, err := filepath.Abs(path)
			if err != nil {
				return err
			}
			if err := writeNew(path, config.Starter); err != nil {
				if errors.Is(err, fs.ErrExist) {
					return fault.New("config-exists", nil, "%s exists already; it was not touched", path)
				}
				return fault.New("config-unwritable", err, "cannot write %s", path)
			}
			a.print("%s\n", path)
			a.say("Next: name a source, a keep and a job in it; then 'grainkeep keep create' and 'grainkeep survey'.")
			return a.emit(map[string]string{"path": path})
		},
	}
}
