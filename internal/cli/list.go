package cli

import (
	"sort"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
)

func (a *app) listCommand() *cobra.Command {
	var from string
	cmd := &cobra.Command{
		Use: "list [JOB or JOB/DATABASE]", Short: "List the dumps that are kept",
		Args: args(0, 1, ""),
		RunE: func(_ *cobra.Command, names []string) error {
			name := ""
			if len(names) > 0 {
				name = names[0]
			}
			return a.list(from, name)
		},
	}
	fromFlag(cmd, &from)
	return cmd
}

func fromFlag(cmd *cobra.Command, from *string) {
	cmd.Flags().StringVar(from, "from", "", "look only into this `KEEP`: a configured name or a folder")
}

func (a *app) list(from, name string) error {
	f, err := a.config()
	if err != nil {
		return err
	}
	all, err := a.dumps(f, from)
	if err != nil {
		return err
	}
	var shown []*keep.Dump
	for _, d := range all {
		if d.Err != nil {
			a.warn("dump-unreadable", "%s: %v", d.Path(), d.Err)
			continue
		}
		if d.ProofErr != nil {
			a.warn("proof-damaged", "%v", d.ProofErr)
		}
		if name == "" || d.Name() == name || d.Manifest.Job == name {
			shown = append(shown, d)
		}
	}
	if name != "" && len(shown) == 0 {
		_, err := chain.Find(all, name, "", time.Now())
		return err
	}
	sort.SliceStable(shown, func(i, j int) bool { return shown[i].Name() < shown[j].Name() })
	list := []jsonListed{}
	for _, d := range shown {
		list = append(list, jsonListedOf(d))
	}
	a.result = list
	if len(shown) == 0 {
		a.say("No dumps yet.")
		return nil
	}
	a.print("%s\n", a.listTable(shown))
	return nil
}

type jsonListed struct {
	Job      string `json:"job"`
	Database string `json:"database"`
	Moment   string `json:"moment"`
	Kind     string `json:"kind"`
	ID       string `json:"id"`
	Path     string `json:"path"`
	Run      string `json:"run"`
	Rows     int64  `json:"rows"`
	Bytes    int64  `json:"bytes"`
	Proof    string `json:"proof"`
}

func jsonListedOf(d *keep.Dump) jsonListed {
	m := d.Manifest
	return jsonListed{Job: m.Job, Database: m.Database, Moment: m.Moment.Format(time.RFC3339Nano),
		Kind: string(m.Kind), ID: d.ID,
		Path: d.Path(), Run: m.Run.ID, Rows: m.Rows(), Bytes: m.StoredBytes, Proof: string(d.State())}
}

func (a *app) listTable(dumps []*keep.Dump) block {
	t := newTable([]string{"Dump", "Moment", "Age", "Kind", "Rows", "Size", "Restore", "Id"}, "Rows", "Size")
	last := ""
	for _, d := range dumps {
		m := d.Manifest
		name := d.Name()
		if name == last {
			name = ""
		} else {
			last = name
		}
		t.row(name, m.Moment.In(chain.Zone(d)).Format("2006-01-02 15:04:05 MST"), phrase.Ago(time.Since(m.Moment)),
			m.Kind, phrase.Count(m.Rows()), phrase.Bytes(m.StoredBytes), d.State(), d.Short())
	}
	return t.render()
}
