package cli

import (
	"fmt"
	"sort"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/fault"
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
			a.warn(fmt.Sprintf("%s: %v", d.Path, d.Err))
			continue
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
	return jsonListed{Job: m.Job, Database: m.Database, Moment: m.Moment.Format(time.RFC3339Nano), Kind: string(m.Kind), ID: d.ID,
		Path: d.Path, Run: m.Run.ID, Rows: m.Rows(), Bytes: m.StoredBytes, Proof: d.State()}
}

func (a *app) listTable(dumps []*keep.Dump) string {
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
		t.AppendRow([]any{phrase.OneLine(name), m.Moment.In(chain.Zone(d)).Format("2006-01-02 15:04:05 MST"), phrase.Ago(time.Since(m.Moment)),
			m.Kind, phrase.Count(m.Rows()), phrase.Bytes(m.StoredBytes), d.State(), d.Short()})
	}
	return t.Render()
}

func (a *app) showCommand() *cobra.Command {
	var from, at string
	cmd := &cobra.Command{
		Use: "show JOB/DATABASE", Short: "Show one dump in full", Args: args(1, 1, "a dump"),
		RunE: func(_ *cobra.Command, names []string) error {
			f, err := a.config()
			if err != nil {
				return err
			}
			found, err := a.find(f, from, names[0], at)
			if err != nil {
				return err
			}
			if err := readable(found); err != nil {
				return err
			}
			var all []any
			for i, d := range found {
				if i > 0 {
					a.print("\n")
				}
				a.show(d)
				all = append(all, map[string]any{"id": d.ID, "path": d.Path, "proof": d.State(), "proofs": d.Proofs, "manifest": d.Manifest})
			}
			return a.emit(all)
		},
	}
	fromFlag(cmd, &from)
	atFlag(cmd, &at)
	return cmd
}

func atFlag(cmd *cobra.Command, at *string) {
	cmd.Flags().StringVar(at, "at", "", "the newest dump not later than `WHEN`: a time (2026-03-14T09:30), a date, an age (2 days)")
}

func (a *app) show(d *keep.Dump) {
	m := d.Manifest
	head := newTable(nil)
	line := func(k, format string, args ...any) { head.AppendRow([]any{k, fmt.Sprintf(format, args...)}) }
	line("dump", "%s", phrase.OneLine(d.Name()))
	line("id", "%s", d.ID)
	line("path", "%s", phrase.OneLine(d.Path))
	line("kind", "%s", m.Kind)
	line("moment", "%s, %s", phrase.Both(m.Moment, chain.Zone(d)), phrase.Ago(time.Since(m.Moment)))
	line("from", "%s %s, %s", m.Source.Product, m.Source.Version, phrase.OneLine(m.Source.Where))
	line("run", "%s, of %s", m.Run.ID, phrase.Plural(int64(len(m.Run.Databases)), "database"))
	line("took", "%s", phrase.Duration(m.Finished.Sub(m.Started)))
	line("size", "%s, from %s of text (%s)", phrase.Bytes(m.StoredBytes), phrase.Bytes(m.RawBytes), ratio(m.RawBytes, m.StoredBytes))
	line("database", "%s", facts(m.Facts))
	line("holds", "%s", objectsOf(m.Objects))
	for _, w := range m.Warnings {
		line("warning", "%s", w)
	}
	line("restore", "%s", proofLine(d))
	if p := d.LastProof(); p != nil {
		for _, x := range p.Differences {
			line("", "%s", x)
		}
		for _, c := range p.Checks {
			line("check", "%s → %s", phrase.OneLine(c.SQL), phrase.OneLine(c.Got))
		}
		for _, x := range p.Warnings {
			line("", "%s", x)
		}
	}
	a.print("%s\n\n", head.Render())
	t := newTable([]string{"Table", "Rows", "Text", "Stored", "Ratio", "Fingerprint"}, "Rows", "Text", "Stored", "Ratio")
	stored := map[string]int64{}
	for _, f := range m.Files {
		stored[f.Path] = f.Bytes
	}
	for _, x := range m.Tables {
		var n int64
		for _, f := range x.Files {
			n += stored[f]
		}
		t.AppendRow([]any{phrase.OneLine(x.ID), phrase.Count(x.Rows), phrase.Bytes(x.Bytes), phrase.Bytes(n), ratio(x.Bytes, n), x.Sum})
	}
	a.print("%s\n", t.Render())
}

func ratio(raw, stored int64) string {
	if stored == 0 || raw == 0 {
		return "–"
	}
	return fmt.Sprintf("%.1f ×", float64(raw)/float64(stored))
}

func facts(f map[string]string) string {
	var list []string
	for k, v := range f {
		list = append(list, strings.ReplaceAll(k, "_", " ")+" "+v)
	}
	sort.Strings(list)
	return strings.Join(list, ", ")
}

func objectsOf(counts map[string]int) string {
	var list []string
	for k := range counts {
		list = append(list, k)
	}
	sort.Strings(list)
	for i, k := range list {
		list[i] = phrase.Plural(int64(counts[k]), k)
	}
	return strings.Join(list, ", ")
}

func proofLine(d *keep.Dump) string {
	p := d.LastProof()
	if p == nil {
		return "unproven: no drill has tested it yet"
	}
	when := phrase.Both(p.At, chain.Zone(d))
	if !p.Proven {
		return "failed its drill of " + when + " on " + p.On
	}
	return fmt.Sprintf("proven %s on %s (%s %s): restored in %s, %s and %s compared", when, p.On, p.Product, p.Version,
		phrase.Duration(time.Duration(p.Seconds*float64(time.Second))), phrase.Plural(p.Rows, "row"), phrase.Plural(int64(p.Objects), "object"))
}

// one expects a name to mean a single dump.
func one(found []*keep.Dump, name string) (*keep.Dump, error) {
	if len(found) == 1 {
		return found[0], nil
	}
	var names []string
	for _, d := range found {
		names = append(names, d.Name())
	}
	return nil, fault.Wrong("name-ambiguous", "%s means %d dumps", name, len(found)).Advise("name one: %s", strings.Join(names, ", "))
}
