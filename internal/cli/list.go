package cli

import (
	"fmt"
	"sort"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/job"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
)

func (a *app) listCommand() *cobra.Command {
	var from string
	var all bool
	cmd := explain(&cobra.Command{
		Use: "list [JOB or JOB/DATABASE]", Short: "List the dumps that are kept, and which are proven",
		Args: args(0, 1, ""),
		RunE: func(_ *cobra.Command, names []string) error {
			name := ""
			if len(names) > 0 {
				name = names[0]
			}
			return a.list(from, name, all)
		},
		ValidArgsFunction: a.dumpNames(&from),
	}, usage{`Lists the newest dump of each database; with --all, and for a database that is
named, every dump. The last column but one says whether a drill has proven that
it restores.`, [2]string{"grainkeep list", "grainkeep list nightly/bookings --from /mnt/usb/dumps"}})
	a.fromFlag(cmd, &from)
	cmd.Flags().BoolVar(&all, "all", false, "list every dump, not just the newest of each database")
	return cmd
}

func (a *app) fromFlag(cmd *cobra.Command, from *string) {
	cmd.Flags().StringVar(from, "from", "", "look only into this `KEEP`: a configured name or a folder")
	a.completeOption(cmd, "from", job.Set.Keeps)
}

func (a *app) list(from, name string, every bool) error {
	f, err := a.config()
	if err != nil {
		return err
	}
	everywhere, err := a.everyCopy(f, from)
	if err != nil {
		return err
	}
	all, copies := oneOfEach(everywhere), map[string]int{}
	counted := map[string]bool{}
	for _, d := range everywhere {
		if in := d.Origin() + where(d); !counted[in] {
			counted[in] = true
			copies[d.Origin()]++
		}
	}
	var chosen []*keep.Dump
	links := chain.Link(all)
	for _, d := range all {
		if d.Err != nil {
			a.warn("dump-unreadable", "%s: %v", d.Path(), d.Err)
			continue
		}
		if d.ProofErr != nil {
			a.warn("proof-damaged", "%v", d.ProofErr)
		}
		if name == "" || d.Name() == name || d.Manifest.Job == name {
			if _, err := links.To(d); err != nil {
				a.warn("chain-broken", "%v", err)
			}
			chosen = append(chosen, d)
		}
	}
	if name != "" && len(chosen) == 0 {
		_, err := chain.Find(all, name, "", clock.Now())
		return err
	}
	sort.SliceStable(chosen, func(i, j int) bool { return chosen[i].Name() < chosen[j].Name() })
	shown := chosen
	if !every && !strings.Contains(name, "/") {
		shown = newest(chosen)
	}
	list := []jsonListed{}
	for _, d := range shown {
		x := jsonListedOf(d)
		x.Copies = copies[d.Origin()]
		list = append(list, x)
	}
	a.result = list
	if len(shown) == 0 {
		a.say("No dumps yet.")
		return nil
	}
	a.print("%s\n", a.listTable(shown, copies))
	a.say("%s", totals(chosen, len(shown)))
	return nil
}

// where tells the keep of a dump from others.
func where(d *keep.Dump) string {
	if d.Keep == nil {
		return ""
	}
	return d.Keep.ID
}

// newest leaves the last of each name; the list is sorted by name and time.
func newest(dumps []*keep.Dump) (last []*keep.Dump) {
	for i, d := range dumps {
		if i+1 == len(dumps) || dumps[i+1].Name() != d.Name() {
			last = append(last, d)
		}
	}
	return last
}

// totals counts what there is, and says what is not shown.
func totals(dumps []*keep.Dump, shown int) string {
	var bytes int64
	var proven int
	seen := map[string]bool{}
	var names []string
	for _, d := range dumps {
		bytes += d.Manifest.StoredBytes
		if !seen[d.Name()] {
			seen[d.Name()] = true
			names = append(names, d.Manifest.Database)
		}
		if d.State() == keep.Proven {
			proven++
		}
	}
	text := fmt.Sprintf("%s of %s, %s, %d proven.", phrase.Plural(int64(len(dumps)), "dump"),
		databasesAnd(names), phrase.Bytes(bytes), proven)
	if n := len(dumps) - shown; n > 0 {
		text += fmt.Sprintf(" %s not shown; --all lists them.", phrase.Plural(int64(n),
			"older one")+map[bool]string{true: " is",
			false: " are"}[n == 1])
	}
	return text
}

type jsonListed struct {
	Job      string `json:"job"`
	Database string `json:"database"`
	Moment   string `json:"moment"`
	Kind     string `json:"kind"`
	Partial  bool   `json:"partial,omitempty"` // tables or rows are left out
	ID       string `json:"id"`
	Path     string `json:"path"`
	Run      string `json:"run"`
	Rows     int64  `json:"rows"`
	Sealed   bool   `json:"sealed,omitempty"` // then how many rows it has is not known here
	Bytes    int64  `json:"bytes"`
	Proof    string `json:"proof"`
	Copies   int    `json:"copies"` // in the keeps that were looked into
}

func jsonListedOf(d *keep.Dump) jsonListed {
	m := d.Manifest
	return jsonListed{Job: m.Job, Database: m.Database, Moment: m.Moment.Format(time.RFC3339Nano),
		Kind: string(m.Kind), Partial: m.Partial(), ID: d.ID,
		Path: d.Path(), Run: m.Run.ID, Rows: m.Rows(), Sealed: m.Seal != nil, Bytes: m.StoredBytes,
		Proof: string(d.State())}
}

// rowsOf counts the rows of a dump, or the entries of a folder.
func rowsOf(m *manifest.Manifest) string {
	switch {
	case m.Locked():
		return "sealed"
	case m.Payload.Tar != nil:
		return phrase.Count(m.Payload.Tar.Entries)
	case m.Payload.Stream != nil:
		return "–"
	}
	return phrase.Count(m.Rows())
}

func (a *app) listTable(dumps []*keep.Dump, copies map[string]int) block {
	heads, several := []string{"Dump", "Moment", "Age", "Kind", "Rows", "Size", "Restore", "Id"}, false
	for _, d := range dumps {
		several = several || copies[d.Origin()] > 1
	}
	if several {
		heads = append(heads, "Copies")
	}
	t := a.newTable(heads, "Rows", "Size", "Copies").without("Kind", "Rows", "Copies", "Age", "Size")
	last := ""
	for _, d := range dumps {
		m := d.Manifest
		name := d.Name()
		if name == last {
			name = ""
		} else {
			last = name
		}
		cells := []any{name, instant{m.Moment, chain.Zone(d)}, phrase.Ago(clock.Since(m.Moment)), m.KindWord(),
			rowsOf(m), phrase.Bytes(m.StoredBytes), paint(a.stdout, stateColour(string(d.State())), string(d.State())),
			d.Short()}
		if several {
			cells = append(cells, copies[d.Origin()])
		}
		t.row(cells...)
	}
	return t.render()
}
