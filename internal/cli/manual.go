package cli

import (
	"context"
	"io"

	"github.com/spf13/cobra"
)

// Commands are those of the program, for whoever writes its manual pages and completions.
func Commands() *cobra.Command {
	a := &app{screen: screen{stdout: io.Discard, stderr: io.Discard}, ctx: context.Background()}
	root := a.root()
	root.DisableAutoGenTag = true
	return root
}
