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
	var g guideFlags
	cmd := explain(&cobra.Command{
		Use: "init [FILE]", Short: "Write a starter configuration, with every key explained; or ask for what is needed",
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
			if g.guided {
				return a.guided(path, g)
			}
			if err := writeNew(path, config.Starter); err != nil {
				if errors.Is(err, fs.ErrExist) {
					return fault.New("config-exists", nil, "%s exists already; it was not touched", path)
				}
				return fault.New("config-unwritable", err, "cannot write %s", path)
			}
			a.print("%s\n", path)
			a.say("Next: name a source, a keep and a job in it; then 'grainkeep keep create NAME' and 'grainkeep survey JOB'.")
			return a.emit(map[string]string{"path": path})
		},
	}, usage{`Writes a starter configuration, with every key explained. An existing file is never
touched. With --guided it asks for what is needed, looks at the server between the questions, shows
what would be taken and what it takes in a year, and at the end takes the first dump and proves it.`, [2]string{
		"grainkeep init --guided", "grainkeep init /etc/grainkeep/grainkeep.toml"}})
	g.define(cmd)
	return cmd
}
