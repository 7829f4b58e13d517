package drill

import (
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/manifest"
	"grainkeep/internal/rows"
)

// witness compares what the server said of a table when it was dumped with what the
// server says now. Nothing of it has gone through our own reading of definitions.
func (c *comparison) witness(want *manifest.Table, found *rows.Found) {
	if g := found.Generated(); want.Generated != "" && want.Generated != g && want.Through == "" {
		c.rowsDiffer("table "+want.ID,
			"the table %s has other values in its generated columns: their fingerprint is %s and was %s", want.ID,
			g, want.Generated)
	}
	was, is := want.Witness, found.Witness
	// it could not be asked: somebody waited for the table
	if was == nil || is == nil || was.Holds == "" || is.Holds == "" {
		return
	}
	c.witnessColumns(want.ID, was.Columns, is.Columns)
	intact := len(c.out.LeftOut) == 0 &&
		len(c.d.Manifest.Payload.SQL.LeftOut) == 0 // else what it holds is told by name
	if was.Holds != is.Holds && c.sameSeries && intact {
		c.definitionDiffers("table "+want.ID, "the server counts %s on the table %s, and counted %s", is.Holds, want.ID,
			was.Holds)
	}
	if was.Digest != is.Digest && was.Sample > 0 {
		c.rowsDiffer("table "+want.ID,
			"the table %s has other values: the server's own digest of up to %d rows over all columns is %s and was %s",
			want.ID, was.Sample, is.Digest, was.Digest)
	}
}

func (c *comparison) witnessColumns(id string, was, is []engine.WitnessColumn) {
	names := func(list []engine.WitnessColumn) string {
		var names []string
		for _, w := range list {
			names = append(names, w.Name)
		}
		return strings.Join(names, ", ")
	}
	if a, b := names(was), names(is); a != b {
		c.definitionDiffers("table "+id, "the table %s has the columns %s, and the server listed %s when it was dumped",
			id, b, a)
		return
	}
	for i, w := range was {
		if says := is[i].Says; c.sameSeries && says != w.Says && Canonical(says) != Canonical(w.Says) {
			c.definitionDiffers("table "+id, "the column %s of the table %s is %q to the server, and was %q", w.Name,
				id, says, w.Says)
		}
	}
}
