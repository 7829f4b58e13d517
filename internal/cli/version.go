package cli

import (
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"
)

// Version is the version of the program.
const Version = "0.1.0"

// tool is what manifests and proofs say they were written by.
const tool = "grainkeep " + Version

func (a *app) versionCommand() *cobra.Command {
	return explain(&cobra.Command{
		Use: "version", Short: "Print the version", Args: args(0, 0, ""),
		RunE: func(*cobra.Command, []string) error { return a.version() },
	}, usage{"Prints the version of this program, and what it was built from.", [2]string{"grainkeep version",
		"grainkeep --version"}})
}

func (a *app) version() error {
	commit := ""
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" && len(s.Value) >= 12 {
				commit = s.Value[:12]
			}
		}
	}
	from := "commit " + commit
	if commit == "" {
		from = "built without its commit"
	}
	a.print("%s (%s, %s, %s/%s)\n", tool, from, runtime.Version(), runtime.GOOS, runtime.GOARCH)
	return a.emit(map[string]string{"version": Version, "commit": commit, "go": runtime.Version()})
}
