package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"grainkeep/internal/job"
)

// completer proposes words; errors are no proposals.
type completer = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

// proposing makes a completer of words that are asked for when they are needed.
func proposing(words func(begun string) []string) completer {
	return func(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		var fit []string
		for _, w := range words(begun) {
			if strings.HasPrefix(w, begun) {
				fit = append(fit, w)
			}
		}
		return fit, cobra.ShellCompDirectiveNoFileComp
	}
}

// values completes an option that takes one of some words.
func values(cmd *cobra.Command, option string, words ...string) {
	// It fails only for an option that does not exist, which every test of the command would show.
	_ = cmd.RegisterFlagCompletionFunc(option, proposing(func(string) []string { return words }))
}

// dumpNames are the names of dumps: jobs, their databases, and ids once one is begun.
func (a *app) dumpNames(from *string) completer {
	return proposing(func(begun string) (names []string) {
		f, err := a.config()
		if err != nil {
			return nil
		}
		all, err := a.dumps(f, *from)
		if err != nil {
			return nil
		}
		seen := map[string]bool{}
		add := func(n string) {
			if !seen[n] {
				seen[n] = true
				names = append(names, n)
			}
		}
		for _, d := range all {
			if d.Manifest == nil {
				continue
			}
			add(d.Manifest.Job)
			add(d.Name())
			if begun != "" {
				add(d.Short())
			}
		}
		return names
	})
}

// jobNames are the jobs of the configuration, with the databases that they name.
func (a *app) jobNames() completer {
	return proposing(func(string) (names []string) {
		f, err := a.config()
		if err != nil || f == nil {
			return nil
		}
		for _, j := range f.Jobs() {
			names = append(names, j)
			for _, d := range f.Job[j].Databases {
				names = append(names, j+"/"+d)
			}
		}
		return names
	})
}

// configured completes the names of keeps or of sources.
func (a *app) configured(list func(job.Set) []string) completer {
	return func(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		f, err := a.config()
		if err != nil {
			return nil, cobra.ShellCompDirectiveDefault
		}
		return list(job.Of(f)), cobra.ShellCompDirectiveDefault // a path or a URL will do, too
	}
}

func (a *app) completeOption(cmd *cobra.Command, option string, list func(job.Set) []string) {
	_ = cmd.RegisterFlagCompletionFunc(option, a.configured(list)) // as in values
}
