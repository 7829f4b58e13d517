package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"grainkeep/internal/fault"
)

// usage is what a command says of itself, beside what it does.
type usage struct {
	long     string
	examples [2]string // each with what it does, after two spaces and a #
}

// explain gives a command its description and its examples.
func explain(cmd *cobra.Command, u usage) *cobra.Command {
	cmd.Long = u.long
	cmd.Example = u.examples[0] + "\n" + u.examples[1]
	return cmd
}

// help shows the help of a command.
func (a *app) help(cmd *cobra.Command) error {
	text := rootHelp(cmd)
	if cmd.HasParent() {
		text = commandHelp(cmd)
	}
	a.print("%s", block(text))
	return a.emit(map[string]string{"help": text})
}

// rootHelp lists the commands, in the order of the work.
func rootHelp(root *cobra.Command) string {
	var b strings.Builder
	b.WriteString(root.Long + "\n")
	for _, g := range root.Groups() {
		b.WriteString("\n" + g.Title + "\n")
		for _, c := range root.Commands() {
			if c.GroupID == g.ID && !c.Hidden {
				b.WriteString(commandLine(c))
			}
		}
	}
	b.WriteString("\nOptions of every command\n" + optionLines(root.PersistentFlags()) +
		"\n'grainkeep help COMMAND' explains one, with examples.\n")
	return b.String()
}

// commandLine says in a line or two what a command is for.
func commandLine(c *cobra.Command) string {
	const column = 14
	lines := wrap(c.Short, helpWidth-column)
	return fmt.Sprintf("  %-11s %s\n", c.Name(), strings.Join(lines, "\n"+strings.Repeat(" ", column)))
}

// commandHelp explains one command.
func commandHelp(cmd *cobra.Command) string {
	var b strings.Builder
	words := strings.TrimPrefix(cmd.CommandPath(), cmd.Root().Name()+" ")
	if rest := strings.TrimPrefix(cmd.Use, cmd.Name()); rest != "" {
		words += rest
	}
	fmt.Fprintf(&b, "grainkeep %s\n\n%s\n", words, fold(paragraphs(cmd.Long), helpWidth))
	if cmd.HasAvailableSubCommands() {
		b.WriteString("\nCommands\n")
		for _, c := range cmd.Commands() {
			b.WriteString(commandLine(c))
		}
	}
	if cmd.Example != "" {
		b.WriteString("\nExamples\n")
		for l := range strings.SplitSeq(cmd.Example, "\n") {
			b.WriteString("  " + l + "\n")
		}
	}
	if lines := optionLines(cmd.LocalNonPersistentFlags()); lines != "" {
		b.WriteString("\nOptions\n" + lines)
	}
	also := "--config FILE, --json, --log FILE and --quiet"
	if cmd.LocalNonPersistentFlags().Lookup("log") != nil { // it has one of its own
		also = "--config FILE, --json and --quiet"
	}
	b.WriteString("\nAlso " + also + ", as for every command.\n")
	return b.String()
}

const (
	helpWidth    = 80 // columns
	optionColumn = 26 // where what an option does begins
)

// optionLines lists options, each with what it takes.
func optionLines(flags *pflag.FlagSet) string {
	var b strings.Builder
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Name == "help" || f.Hidden {
			return
		}
		takes, does := pflag.UnquoteUsage(f)
		name := "--" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		if takes != "" && f.Value.Type() != "bool" {
			name += " " + takes
		}
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "[]" {
			does += "; " + f.DefValue + " unless told"
		}
		lines := wrap(does, helpWidth-optionColumn)
		if len(name) > optionColumn-4 {
			b.WriteString("  " + name + "\n")
			name = ""
		}
		for _, l := range lines {
			fmt.Fprintf(&b, "  %-*s%s\n", optionColumn-2, name, l)
			name = ""
		}
	})
	return b.String()
}

// wrap breaks a text between words.
func wrap(text string, width int) (lines []string) {
	line := ""
	for _, w := range strings.Fields(text) {
		if line != "" && len(line)+1+len(w) > width {
			lines = append(lines, line)
			line = ""
		}
		line = strings.TrimSpace(line + " " + w)
	}
	return append(lines, line)
}

func (a *app) helpCommand() *cobra.Command {
	return explain(&cobra.Command{
		Use: "help [COMMAND]", Short: "Explain a command, with examples",
		RunE: func(cmd *cobra.Command, names []string) error {
			of, rest, err := cmd.Root().Find(names)
			if err != nil || len(rest) > 0 {
				return fault.Wrong("command-unknown", "there is no command %q", strings.Join(names, " ")).
					Advise("'grainkeep help' lists the commands")
			}
			return a.help(of)
		},
	}, usage{"Lists the commands, or explains one of them.", [2]string{"grainkeep help", "grainkeep help restore"}})
}

func (a *app) completionCommand() *cobra.Command {
	shells := []string{"bash", "zsh", "fish"}
	return explain(&cobra.Command{
		Use: "completion SHELL", Short: "Print what completes names and options in a shell",
		ValidArgs: shells, Args: args(1, 1, "a shell: bash, zsh or fish"),
		RunE: func(cmd *cobra.Command, names []string) error {
			var b strings.Builder
			root, err := cmd.Root(), error(nil)
			switch names[0] {
			case "bash":
				err = root.GenBashCompletionV2(&b, true)
			case "zsh":
				err = root.GenZshCompletion(&b)
			case "fish":
				err = root.GenFishCompletion(&b, true)
			default:
				return fault.Wrong("shell-unknown", "there is nothing for the shell %q",
					names[0]).Advise("it is one of: %s",
					strings.Join(shells, ", "))
			}
			if err != nil {
				return err
			}
			a.print("%s", block(b.String()))
			return a.emit(map[string]string{"shell": names[0], "script": b.String()})
		},
	}, usage{`Prints a script that completes commands, jobs, databases, ids, keeps, sources and
values when the shell has read it.`, [2]string{
		"grainkeep completion bash > /etc/bash_completion.d/grainkeep",
		"grainkeep completion fish > ~/.config/fish/completions/grainkeep.fish"}})
}

// wrapped is the length from which on a line of a help text goes on in the next one.
const wrapped = 60

// paragraphs joins the lines of each paragraph of a help text. Lines that are indented stand alone.
func paragraphs(text string) string {
	var out []string
	on := false
	for line := range strings.SplitSeq(text, "\n") {
		stands := line == "" || strings.HasPrefix(line, " ") || strings.HasPrefix(line, "-")
		if on && !stands {
			out[len(out)-1] += " " + line
		} else {
			out = append(out, line)
		}
		on = !stands && len(line) > wrapped
	}
	return strings.Join(out, "\n")
}
