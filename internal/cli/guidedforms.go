package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"charm.land/huh/v2"
	"charm.land/lipgloss/v2"

	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
)

// forms asks in a terminal.
type forms struct{}

// form shows fields together; who leaves it leaves the guided start.
func form(fields ...huh.Field) error {
	err := huh.NewForm(huh.NewGroup(fields...)).WithTheme(huh.ThemeFunc(formTheme)).WithShowHelp(true).Run()
	if errors.Is(err, huh.ErrUserAborted) {
		return fault.New("left", errLeft, "the guided start was left")
	}
	return err
}

// formTheme is how forms look: as the rest of the program, with the question in hand standing out.
func formTheme(dark bool) *huh.Styles {
	t := huh.ThemeBase(dark)
	strong, faint := lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Color("2")), lipgloss.NewStyle().Faint(true)
	t.Focused.Title, t.Focused.SelectSelector = strong, strong.SetString("> ")
	t.Focused.Description, t.Blurred.Title, t.Blurred.Description = faint, lipgloss.NewStyle(), faint
	t.Focused.ErrorMessage = lipgloss.NewStyle().Foreground(lipgloss.Color("1")).SetString("")
	t.Help.ShortKey, t.Help.ShortDesc, t.Help.ShortSeparator = faint, faint, faint
	return t
}

// typed is a line to be typed.
func typed(title, says string, into *string, needed bool) *huh.Input {
	f := huh.NewInput().Title(title).Description(says).Value(into)
	if needed {
		f = f.Validate(func(s string) error {
			if strings.TrimSpace(s) == "" {
				return errors.New("something is to stand here")
			}
			return nil
		})
	}
	return f
}

// Where a password is.
const (
	inUsualFile = "in the clients' usual file (~/.pgpass, ~/.my.cnf), or none is needed"
	typedNow    = "I type it now: it goes into a file that only you can read"
	inAFile     = "in a file of mine"
)

func (forms) where(g *guide) error {
	if g.ans.Engine == "" {
		g.ans.Engine = "postgres"
	}
	if err := form(huh.NewSelect[string]().Title("What holds the databases?").Value(&g.ans.Engine).Options(
		huh.NewOption("PostgreSQL", "postgres"), huh.NewOption("MariaDB or MySQL", "mysql"),
		huh.NewOption("SQLite files", "sqlite"))); err != nil {
		return err
	}
	if g.ans.Engine == "sqlite" {
		g.ans.Server, g.ans.User, g.ans.Secret, g.ans.TLS = "", "", "", ""
		return form(typed("Where are the files?", "One file, or a folder of *.db, *.db3, *.sqlite, *.sqlite3", &g.ans.Path, true))
	}
	g.ans.Path = ""
	if g.ans.Server == "" {
		g.ans.Server = map[string]string{"postgres": "localhost:5432", "mysql": "localhost:3306"}[g.ans.Engine]
	}
	place := inUsualFile
	if g.ans.Secret != "" {
		place = inAFile
	}
	if err := form(typed("Which server?", "host:port, or the folder of its socket", &g.ans.Server, true),
		typed("Which user dumps?", "one that may read everything, and need not write", &g.ans.User, true),
		huh.NewSelect[string]().Title("Where is its password?").Value(&place).Options(huh.NewOptions(inUsualFile, typedNow, inAFile)...),
	); err != nil {
		return err
	}
	g.secret = ""
	switch place {
	case typedNow:
		g.ans.Secret = ""
		return form(typed("The password", "It is shown nowhere", &g.secret, true).EchoMode(huh.EchoModePassword))
	case inAFile:
		path := strings.TrimPrefix(g.ans.Secret, "file:")
		err := form(typed("Which file?", "of mode 600, and no link", &path, true))
		g.ans.Secret = "file:" + path
		return err
	}
	g.ans.Secret = ""
	return nil
}

func (forms) databases(g *guide) error {
	var all []string
	chosen := g.ans.Databases
	for _, d := range g.survey.There {
		if !d.System && d.Odd == "" && !strings.HasPrefix(d.Name, "+") {
			all = append(all, d.Name)
		}
	}
	every := len(chosen) == 0
	if err := form(huh.NewSelect[bool]().Title("Which databases?").Value(&every).Options(
		huh.NewOption("all, also those that come later", true), huh.NewOption("just some", false))); err != nil {
		return err
	}
	if every {
		g.ans.Databases = nil
		return nil
	}
	options := huh.NewOptions(all...)
	for i, name := range all {
		for _, c := range chosen {
			options[i] = options[i].Selected(c == name)
		}
	}
	err := form(huh.NewMultiSelect[string]().Title("Which of them?").Description("space chooses, enter goes on").
		Options(options...).Value(&chosen).
		Validate(func(list []string) error {
			if len(list) == 0 {
				return errors.New("choose one at least")
			}
			return nil
		}))
	g.ans.Databases = chosen
	return err
}

func (forms) keep(g *guide) error {
	if g.ans.Folder == "" {
		g.ans.Folder = "/srv/grainkeep"
		if home, err := os.UserHomeDir(); err == nil && os.Getuid() != 0 {
			g.ans.Folder = filepath.Join(home, "dumps")
		}
	}
	return form(typed("Where do the dumps go?", "A folder, on a drive of its own; it is made if it is not there", &g.ans.Folder, true),
		typed("How much of that drive must stay free?", `a part or a size: "15%", "20 GiB"`, &g.ans.Floor, true).Validate(func(s string) error {
			_, err := phrase.ParseFloor(s)
			return err
		}))
}

func (forms) rhythm(g *guide) error {
	options := []huh.Option[int]{}
	if g.ans.Rhythm == 0 {
		g.ans.Rhythm = 1
	}
	for i, r := range config.Rhythms() {
		options = append(options, huh.NewOption(r.Title, i+1))
	}
	options = append(options, huh.NewOption("Not by itself: by hand", 0))
	if err := form(huh.NewSelect[int]().Title("When are dumps taken?").Options(options...).Height(len(options) + 1).
		Value(&g.ans.Rhythm)); err != nil {
		return err
	}
	if g.ans.Engine == "sqlite" { // in a scratch file
		return nil
	}
	return form(huh.NewConfirm().Title("May restore tests run on this very server?").
		Description("In scratch databases of their own, which are removed. Another server is better; then drill by hand, with --to.").
		Affirmative("On this one").Negative("Elsewhere").Value(&g.ans.Drill))
}

func (forms) next(*guide) (string, error) {
	step := stepWrite
	options := []huh.Option[string]{huh.NewOption("Write it, take the first dump, and prove it", stepWrite)}
	for _, s := range []string{stepWhere, stepDatabases, stepKeep, stepRhythm} {
		options = append(options, huh.NewOption(fmt.Sprintf("Go back: %s", s), s))
	}
	options = append(options, huh.NewOption("Leave, and write nothing", stepLeave))
	return step, form(huh.NewSelect[string]().Title("Is that right?").Options(options...).Value(&step))
}
