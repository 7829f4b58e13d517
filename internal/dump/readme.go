package dump

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
)

// readme writes what people need to restore the dump by hand.
func (o *databaseDump) readme(ctx context.Context, cat *engine.Catalog) error {
	driver, err := engine.Find(o.Source.Engine)
	if err != nil {
		return err
	}
	owners := false
	for _, obj := range cat.Objects {
		owners = owners || obj.Section == engine.Owners
	}
	m := o.m
	files := "find . -path './[0-9][0-9]-*.sql*' | LC_ALL=C sort"
	if len(o.chain) > 0 {
		files = "cat " + manifest.LoadOrder
	}
	lines := driver.ByHand(engine.HandDump{Database: m.Database, Product: m.Source.Product, Facts: m.Facts(),
		Owners: owners, Unpack: o.Compression.Unpack(), Files: files})
	var b strings.Builder
	what := "the database " + phrase.Clean(m.Database)
	if m.Database == engine.ServerWide {
		what = "what belongs to the server itself: its roles or users, and their rights"
	}
	fmt.Fprintf(&b, readmeHead, article(m.Kind), m.KindWord(), what, m.Job, m.Source.Product, m.Source.Version,
		phrase.Clean(m.Source.Where),
		phrase.Both(m.Moment, o.Zone),
		phrase.Count(m.Rows()), phrase.Plural(int64(len(m.Tables())), "table"), phrase.Bytes(m.StoredBytes),
		phrase.Bytes(m.RawBytes), o.builtOn())
	if len(o.chain) > 0 {
		b.WriteString("    (for d in $(grep -o '^\\.\\./[^/]*' load-order.txt | sort -u); do\n" +
			"      (cd $d && sha256sum -c --quiet SHA256SUMS) || exit 1; done)\n")
	}
	for _, l := range lines {
		b.WriteString("    " + l + "\n")
	}
	if len(m.Warnings) > 0 {
		b.WriteString("\nWorth knowing:\n")
		for _, w := range m.Warnings {
			b.WriteString("  - " + phrase.Clean(w.Text) + "\n")
		}
	}
	if left := m.Payload.SQL.LeftOut; len(left) > 0 {
		b.WriteString("\nNot in this dump, as its job says: " + phrase.Clean(strings.Join(left, ", ")) + "\n")
	}
	for _, t := range m.Tables() {
		if t.Condition != "" {
			b.WriteString("\nOf " + phrase.Clean(t.ID) + " it has only the rows where " + phrase.Clean(t.Condition) +
				"\n")
		}
	}
	order := "Their order by name is the order to load them\nin: structure, rows, keys, then the rest."
	if len(o.chain) > 0 {
		order = manifest.LoadOrder + " names those of the whole chain in\nthe order to load them in: structure, rows, " +
			"keys, changes, then the rest."
	}
	fmt.Fprintf(&b, readmeEnd, order)
	if slices.ContainsFunc(m.Tables(), func(t manifest.Table) bool { return len(t.Ranges) > 0 }) {
		b.WriteString("What lies in ranges is for dumps that build on this one; it is not loaded.\n")
	}
	return o.files.Write(ctx, manifest.Readme, blob.None, b.String())
}

// article stands before the name of a kind.
func article(k manifest.Kind) string {
	return map[bool]string{true: "An", false: "A"}[k == manifest.Incremental]
}

// builtOn says what the dump has of its own, and what it needs.
func (o *databaseDump) builtOn() string {
	if len(o.chain) == 0 {
		return ""
	}
	c, whole := o.m.Payload.SQL.Changed()
	return fmt.Sprintf("  changes     %s written, %s removed; %s whole\n  builds on   %s beside this folder, which it "+
		"needs\n", phrase.Plural(c.Written, "row"), phrase.Count(c.Removed), phrase.Plural(int64(whole), "table"),
		phrase.Plural(int64(len(o.chain)), "dump"))
}

const readmeHead = `%s %s dump of %s

  job         %s
  from        %s %s (%s)
  moment      %s
  rows        %s in %s
  size        %s, %s as text
%s
To restore it with Grain Keep, give it this folder:

    grainkeep restore ./ --to SOURCE

To restore it by hand, with a shell, sha256sum, the decompressor and the
server's own client, run these lines one after the other in this folder. Each
must succeed before the next.

    sha256sum -c --quiet SHA256SUMS
`

const readmeEnd = `
The files are plain SQL. %s
Loading stops at the first error. Where the data itself breaks a rule (a foreign
key, a check), that rule stops it: load the file without that statement, or add
NOT VALID to it where the server can.
`
