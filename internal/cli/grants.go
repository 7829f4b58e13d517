package cli

import (
	"github.com/spf13/cobra"

	"grainkeep/internal/config"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/phrase"
)

func (a *app) grantsCommand() *cobra.Command {
	var purpose, from string
	cmd := &cobra.Command{
		Use: "grants SOURCE", Short: "Print the SQL for a user with just the rights that dumping needs",
		Long: `Prints the SQL that makes the source's user and gives it just the rights that it
needs. It connects to nothing, so it works before that user exists.`,
		Args: args(0, 1, "a source"),
		RunE: func(_ *cobra.Command, names []string) error {
			f, err := a.config()
			if err != nil {
				return err
			}
			if len(names) > 0 {
				from = names[0]
			}
			if from == "" {
				return fault.Wrong("argument-missing",
					"grants needs a source").Advise("name a configured one, or give --from URL")
			}
			at, err := job.Of(f).Address(from)
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
	}
	cmd.Flags().StringVar(&purpose, "for", "dump",
		"what the user is for: `PURPOSE` is dump, changes (dumps, and reading the change log), drill or restore")
	cmd.Flags().StringVar(&from, "from", "", "`URL` of a source that is not configured")
	return cmd
}

// databasesOf are the literal names that jobs take from a source.
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
		for _, d := range append(f.Job[j].Databases, f.Job[j].Optional...) {
			if !phrase.HasPattern(d) {
				names = append(names, d)
			}
		}
	}
	return names
}
