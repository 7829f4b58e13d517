package cli

import (
	"slices"

	"github.com/spf13/cobra"

	"grainkeep/internal/config"
	"grainkeep/internal/dump"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/phrase"
)

func (a *app) grantsCommand() *cobra.Command {
	var purpose, from string
	cmd := explain(&cobra.Command{
		Use: "grants SOURCE", Short: "Print the SQL for a user with just the rights that dumping needs",
		Args: args(0, 1, "a source"),
		RunE: func(_ *cobra.Command, names []string) error {
			f, err := a.config()
			if err != nil {
				return err
			}
			at, err := sourceOf(f, "grants", append(names, from)[0])
			if err != nil {
				return err
			}
			driver, err := engine.Find(at.Engine)
			if err != nil {
				return err
			}
			sql, err := driver.Grants(at, engine.Purpose(purpose), databasesOf(f, at))
			if err != nil {
				return err
			}
			a.print("%s", block(phrase.CleanLines(sql)))
			return a.emit(map[string]string{"for": purpose, "sql": sql})
		},
		ValidArgsFunction: a.configured(job.Set.Sources),
	}, usage{`Prints the SQL that makes the source's user and gives it just the rights that it
needs. It connects to nothing, so it works before that user exists.`, [2]string{
		"grainkeep grants quay",
		"grainkeep grants --from mysql://dumper@db1/ --for drill"}})
	cmd.Flags().StringVar(&purpose, "for", "dump",
		"what the user is for: `PURPOSE` is dump, changes (dumps, and reading the change log), drill or restore")
	values(cmd, "for", "dump", "changes", "drill", "restore")
	cmd.Flags().StringVar(&from, "from", "", "`URL` of a source that is not configured")
	return cmd
}

// sourceOf is the source that a command was given.
func sourceOf(f *config.File, command, given string) (engine.Location, error) {
	if given == "" {
		return engine.Location{}, fault.Wrong("argument-missing", "%s needs a source", command).
			Advise("name a configured one, or give --from URL")
	}
	return job.Of(f).Address(given)
}

// databasesOf are the names and patterns that jobs take from a source; none, where one of them
// takes all.
func databasesOf(f *config.File, at engine.Location) (names []string) {
	if at.Database != "" {
		return []string{at.Database}
	}
	if f == nil {
		return nil
	}
	for _, j := range f.Jobs() {
		if f.Job[j].Source != at.Name {
			continue
		}
		named := slices.Concat(f.Job[j].Databases, f.Job[j].Optional)
		if len(named) == 0 || slices.Contains(named, dump.Everything) {
			return nil
		}
		for _, d := range named {
			if !slices.Contains(names, d) {
				names = append(names, d)
			}
		}
	}
	return names
}
