package journal

import (
	"context"

	"grainkeep/internal/keep"
)

// Rebuild puts back what a keep can tell: the runs that its dumps came from, and their drills. What is in the
// journal already stays as it is.
func (j *Journal) Rebuild(ctx context.Context, dumps []*keep.Dump) error {
	runs := map[string]*Run{}
	var order []*Run
	for _, d := range dumps {
		if d.Manifest == nil {
			continue
		}
		m := d.Manifest
		r := runs[m.Run.ID]
		if r == nil {
			r = &Run{ID: m.Run.ID, Command: "dump", Job: m.Job, StartedBy: "", Keep: m.Keep, Place: placeOf(d),
				Started: m.Run.Started,
				Result:  Good}
			runs[m.Run.ID], order = r, append(order, r)
		}
		if m.Finished.After(r.Ended) {
			r.Ended = m.Finished
		}
		for _, w := range m.Warnings {
			r.Result = Warned
			r.Warnings = append(r.Warnings, Warning{Code: w.Code, Of: m.Database, Text: w.Text})
		}
		r.Parts = append(r.Parts, PartOf(d))
		for _, p := range d.Proofs {
			if !p.Audit { // that was a part of a dump's run
				order = append(order, drillRun(d, p))
			}
		}
	}
	for _, r := range order {
		known, err := j.Runs(ctx, Filter{ID: r.ID})
		if err != nil {
			return err
		}
		if len(known) > 0 {
			continue
		}
		if err := j.insert(ctx, r); err != nil {
			return unusable(j.where, err)
		}
		for _, p := range r.Parts {
			if err := j.insertPart(ctx, r.ID, r.Job, p); err != nil {
				return unusable(j.where, err)
			}
		}
	}
	return nil
}

func placeOf(d *keep.Dump) string {
	if d.Keep == nil {
		return ""
	}
	return d.Keep.Where()
}

// PartOf is a dump as a part of the run that made it.
func PartOf(d *keep.Dump) Part {
	m := d.Manifest
	return Part{Name: m.Database, Command: "dump", Dump: d.ID, Path: d.Path(), Kind: string(m.Kind), Moment: m.Moment,
		Ended: m.Finished,
		Took:  m.Finished.Sub(m.Started), Rows: m.Rows(), Bytes: m.RawBytes, Stored: m.StoredBytes, Result: Good}
}

// drillRun is a drill as its proof tells of it.
func drillRun(d *keep.Dump, p keep.Proof) *Run {
	part := PartOf(d)
	part.Command, part.Ended, part.Took = "drill", p.At, p.Took()
	part.Rows, part.Bytes, part.Stored = p.Rows, 0, 0
	r := &Run{ID: "drill-" + d.Short() + "-" + p.At.UTC().Format("20060102T150405"), Command: "drill",
		Job:  d.Manifest.Job,
		Keep: d.Manifest.Keep, Place: placeOf(d), Started: p.At.Add(-p.Took()), Ended: p.At, Result: Good}
	if !p.Proven {
		part.Result, r.Result, r.Code, r.Reason = Failed, Failed, "drill-failed", "the dump failed its drill"
	}
	r.Parts = []Part{part}
	return r
}
