package cli

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
)

func (a *app) showCommand() *cobra.Command {
	var from, at string
	var all, moments bool
	cmd := explain(&cobra.Command{
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
			var out []any
			spanned := false
			for i, d := range found {
				if err := d.Readable(); err != nil {
					return err
				}
				if i > 0 {
					a.print("\n")
				}
				if moments {
					list, inside, err := a.showMoments(d)
					if err != nil {
						return err
					}
					spanned = spanned || inside
					out = append(out, map[string]any{"database": d.Name(), "moments": list})
					continue
				}
				if err := a.unlocked(d); err != nil {
					return err
				}
				a.show(d, all)
				if err := a.showChain(d, all); err != nil {
					return err
				}
				out = append(out, map[string]any{"id": d.ID, "path": d.Path(), "proof": d.State(), "proofs": d.Proofs,
					"manifest": d.Manifest})
			}
			switch {
			case spanned:
				a.say("--at WHEN takes the newest moment that is not later than WHEN. Where a span stands, the server's log\n" +
					"tells of all between: 'restore --at WHEN' stops at the last transaction before it.")
			case moments:
				a.say("Each moment is that of a dump: --at WHEN takes the newest one that is not later than WHEN.")
			}
			return a.emit(out)
		},
		ValidArgsFunction: a.dumpNames(&from),
	}, usage{`Shows one dump in full: when, from where, what it holds, its warnings, its proof,
and its tables with their sizes and fingerprints.`, [2]string{
		"grainkeep show nightly/bookings",
		"grainkeep show nightly/bookings --moments"}})
	a.fromFlag(cmd, &from)
	atFlag(cmd, &at)
	cmd.Flags().BoolVar(&all, "all", false, fmt.Sprintf("list all tables, not just the %d largest", shownTables))
	cmd.Flags().BoolVar(&moments, "moments", false, "list the moments to which the database can be restored, a line a day")
	return cmd
}

func atFlag(cmd *cobra.Command, at *string) {
	cmd.Flags().StringVar(at, "at", "",
		"the newest dump not later than `WHEN`: a time (2026-03-14T09:30), a date, an age (2 days)")
}

// unlocked reads a dump's manifest whole; where it is sealed and no key is here, as much as everybody may know.
func (a *app) unlocked(d *keep.Dump) error {
	err := d.Whole(a.ctx)
	if fault.HasCode(err, "dump-sealed") {
		d.Manifest, err = d.Stored(a.ctx)
	}
	return err
}

func (a *app) show(d *keep.Dump, all bool) {
	m := d.Manifest
	head := a.newTable(nil)
	line := func(k, format string, args ...any) { head.row(k, fmt.Sprintf(format, args...)) }
	line("dump", "%s", d.Name())
	line("id", "%s", d.ID)
	line("path", "%s", d.Path())
	line("kind", "%s%s", m.KindWord(), map[bool]string{true: ", outside the chain: nothing builds on it"}[m.Alone])
	if m.Why != "" {
		line("because", "%s", m.Why)
	}
	if m.Base != "" {
		line("builds on", "%s", m.Base[:min(10, len(m.Base))])
	}
	if m.Note != "" {
		line("note", "%s", m.Note)
	}
	line("moment", "%s, %s", phrase.Both(m.Moment, chain.Zone(d)), phrase.Ago(clock.Since(m.Moment)))
	line("from", "%s, %s", strings.TrimSpace(m.Source.Product+" "+m.Source.Version), cmp.Or(m.Source.Where, "where is sealed"))
	line("run", "%s, of %s", m.Run.ID, databasesAnd(m.Run.Databases))
	line("took", "%s", phrase.Duration(m.Finished.Sub(m.Started)))
	line("size", "%s, from %s (%s)", phrase.Bytes(m.StoredBytes), unpacked(m), ratio(m.RawBytes, m.StoredBytes))
	if s := m.Seal; s != nil {
		line("sealed", "for %s", strings.Join(s.For, "; "))
		if s.Was != "" {
			line("", "anew, from %s", s.Was[:10])
		}
	}
	if s := m.Signed; s != nil {
		line("signed", "%s, with the key %s", phrase.Both(s.At, chain.Zone(d)), s.By)
	}
	if len(m.Facts()) > 0 {
		line("database", "%s", facts(m.Facts()))
	}
	line("holds", "%s", holds(m))
	if m.Kind != manifest.Full && !m.Locked() {
		line("changed", "%s", changes(m)+fromLog(m))
	}
	if m.Payload.SQL != nil && m.Payload.SQL.NoLog != "" {
		line("compared", "%s", m.Payload.SQL.NoLog)
	}
	if m.Closes != "" {
		line("audits", "what the log told up to %s, which read all tables at the same moment: it has the fingerprints of that",
			m.Closes[:10])
	}
	for _, w := range m.Warnings {
		line("warning", "%s", w.Text)
	}
	line("restore", "%s", proofLine(d))
	if p := d.LastProof(); p != nil {
		for _, x := range p.Differences {
			line("", "%s", x)
		}
		for _, c := range p.Checks {
			line("check", "%s → %s", c.SQL, c.Got)
		}
		for _, x := range p.Warnings {
			line("", "%s", x)
		}
		if len(p.NotTested) > 0 {
			line("not tested", "%s", strings.Join(p.NotTested, "; "))
		}
	}
	a.holdLine(d, line)
	if t := m.Payload.Tar; t != nil && len(t.Skipped) > 0 {
		line("left out", "sockets, devices, the keep itself: %s", strings.Join(t.Skipped, ", "))
	}
	if m.Payload.SQL != nil && len(m.Payload.SQL.LeftOut) > 0 {
		line("left out", "by the job: %s", strings.Join(m.Payload.SQL.LeftOut, ", "))
	}
	for _, t := range m.Tables() {
		if t.Condition != "" {
			line("in part", "%s: only rows where %s", t.ID, t.Condition)
		}
	}
	if at := position(m.To); at != "" {
		line("log", "%s", at)
	}
	a.print("%s\n", head.render())
	a.showTables(m, all)
}

// holds says what a dump holds.
func holds(m *manifest.Manifest) string {
	switch p := m.Payload; {
	case p.Tar != nil:
		text := objectsOf(p.Tar.Kinds) + ", " + phrase.Bytes(p.Tar.Bytes) + " of content"
		if len(p.Tar.Only) > 0 {
			text += "; only " + strings.Join(p.Tar.Only, ", ")
		}
		if len(p.Tar.Except) > 0 {
			text += "; without " + strings.Join(p.Tar.Except, ", ")
		}
		return text
	case m.Locked():
		return "sealed: --key FILE shows what"
	case p.Stream != nil:
		return phrase.Bytes(p.Stream.Bytes) + " that a command wrote" + map[bool]string{true: ", and " +
			phrase.Plural(int64(len(p.Stream.Facts)), "fact")}[len(p.Stream.Facts) > 0]
	}
	return objectsOf(m.Payload.SQL.Objects)
}

// holdLine tells of a hold.
func (a *app) holdLine(d *keep.Dump, line func(k, format string, args ...any)) {
	if d.Keep == nil {
		return
	}
	holds, err := d.Keep.Holds(a.ctx)
	if err != nil {
		line("hold", "the holds of the keep cannot be read: %v", err)
		return
	}
	if h, held := holds[d.ID]; held && !h.Ended(clock.Now()) {
		line("hold", "%s: %s", lasts(h, d), h.Why)
	}
}

// position tells a place in a server's change log.
func position(p *engine.Position) string {
	if p == nil {
		return ""
	}
	var parts []string
	if p.File != "" {
		parts = append(parts, fmt.Sprintf("%s at %d", p.File, p.Offset))
	}
	if p.GTID != "" {
		parts = append(parts, "GTID "+p.GTID)
	}
	if p.LSN != "" {
		parts = append(parts, p.LSN)
	}
	return strings.Join(parts, ", ")
}

// shownTables is how many tables show lists, the largest first, unless told to list
// all of them.
const shownTables = 25

func (a *app) showTables(m *manifest.Manifest, all bool) {
	if len(m.Tables()) == 0 {
		return
	}
	a.print("\n")
	how, right := "Ratio", []string{"Rows", "Text", "Stored", "Ratio"}
	if m.Kind != manifest.Full {
		how, right = "Here", right[:3]
	}
	t := a.newTable([]string{"Table", "Rows", "Text", "Stored", how, "Fingerprint"}, right...).without("Text", "Fingerprint")
	stored := map[string]int64{}
	for _, f := range m.Files {
		stored[f.Path] = f.Bytes
	}
	of := func(x manifest.Table) (n int64) {
		for _, f := range slices.Concat(x.Files, x.Gone) {
			n += stored[f]
		}
		return n
	}
	tables, more := m.Tables(), 0
	if len(tables) > shownTables && !all {
		more = len(tables) - shownTables
		tables = slices.Clone(tables)
		sort.SliceStable(tables, func(i, j int) bool { return of(tables[i]) > of(tables[j]) })
	}
	var rows, text, kept int64
	for i, x := range tables {
		n := of(x)
		if more > 0 && i >= shownTables {
			rows, text, kept = rows+x.Rows, text+x.Bytes, kept+n
			continue
		}
		t.row(x.ID, phrase.Count(x.Rows), phrase.Bytes(x.Bytes), size(n), here(m.Kind, x, ratio(x.Bytes, n)), x.Sum)
	}
	if more > 0 {
		t.row(fmt.Sprintf("and %d smaller ones", more), phrase.Count(rows), phrase.Bytes(text), phrase.Bytes(kept),
			map[bool]string{true: ratio(text, kept)}[m.Kind == manifest.Full], "--all lists them")
	}
	a.print("%s\n", t.render())
}

// here says what a dump has of a table's rows: how small they are, in a full.
func here(kind manifest.Kind, t manifest.Table, ratio string) string {
	switch {
	case kind == manifest.Full:
		return ratio
	case t.Change == manifest.Unchanged:
		return "as before"
	case t.Change == manifest.Whole:
		return "whole"
	}
	return fmt.Sprintf("%s written, %s removed", phrase.Count(t.Counts.Written), phrase.Count(t.Counts.Removed))
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
	if d.ProofErr != nil {
		return "unproven: " + d.ProofErr.Error()
	}
	if x := d.Audit(); x != nil {
		return fmt.Sprintf("failed an audit of %s: %s", phrase.Both(x.At, chain.Zone(d)), strings.Join(x.Differences, "; "))
	}
	if p == nil && d.Manifest.Database == engine.ServerWide {
		return "cannot be drilled: a drill would change the server that it is made on"
	}
	if p == nil && !d.Drillable() {
		return "cannot be drilled: its source names no command that restores"
	}
	if p == nil {
		return "unproven: no drill has tested it yet"
	}
	when := phrase.Both(p.At, chain.Zone(d))
	if !p.Proven {
		return "failed its drill of " + when + " on " + p.On
	}
	on := fmt.Sprintf("proven %s on %s", when, p.On)
	if p.Version != "" {
		on += fmt.Sprintf(" (%s %s)", p.Product, p.Version)
	}
	if len(p.Sealed) > 0 && p.Objects == 0 {
		return fmt.Sprintf("%s: restored in %s; what was compared is sealed", on, phrase.Duration(p.Took()))
	}
	return fmt.Sprintf("%s: restored in %s, %s compared", on, phrase.Duration(p.Took()), comparedWhat(d, p))
}

// comparedWhat counts what a drill compared.
func comparedWhat(d *keep.Dump, p *keep.Proof) string {
	switch {
	case d.Manifest.Payload.Tar != nil:
		return phrase.Plural(p.Rows, "entry")
	case d.Manifest.Payload.Stream != nil:
		return phrase.Plural(int64(p.Objects), "fact")
	}
	return phrase.Plural(p.Rows, "row") + " and " + phrase.Plural(int64(p.Objects), "object")
}

// ambiguous says that a name means several dumps where one is needed.
func ambiguous(found []*chain.Plan, name string) error {
	var names []string
	for _, p := range found {
		names = append(names, p.Last().Name())
	}
	return fault.Wrong("name-ambiguous", "%s means %d dumps", name, len(found)).Advise("name one: %s",
		strings.Join(names, ", "))
}

// fromLog says what a dump has from the server's log.
func fromLog(m *manifest.Manifest) string {
	if m.Payload.SQL == nil || m.Payload.SQL.Log == nil {
		return ""
	}
	n := m.Payload.SQL.Log.Transactions
	if n == 0 {
		return ", as the server's log tells"
	}
	return fmt.Sprintf(", as the server's log tells: %s", phrase.Plural(n, "transaction"))
}
