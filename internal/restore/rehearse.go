package restore

import (
	"context"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
)

// Rehearsal is what a restore would do.
type Rehearsal struct {
	Tables   []string
	Rows     int64
	Bytes    int64 // of text
	Objects  int
	Without  []string // what belongs to the chosen tables, and needs others
	Replaces bool     // a database of that name would be renamed
	Name     string   // of the database
	Added    bool     // to the one that is there
	Beside   string   // why the tables would not be in the database of their name
}

// Rehearse looks at the dump and at the place, and does nothing. It fails where the restore
// would, as far as that can be seen.
func Rehearse(ctx context.Context, t Task) (*Rehearsal, error) {
	if err := t.Plan.Whole(ctx); err != nil {
		return nil, err
	}
	l, left, err := picked(ctx, t.Plan, t.Options)
	if err != nil {
		return nil, err
	}
	r := &Rehearsal{Objects: len(l.objects), Without: left}
	for _, x := range l.tables {
		r.Tables = append(r.Tables, x.ID)
		r.Rows += x.Rows
		r.Bytes += x.Bytes
	}
	if r.Name = t.Options.Name; !t.Options.Add {
		r.Replaces, err = t.look(ctx)
		return r, err
	}
	src, err := engine.Open(ctx, t.To)
	if err != nil {
		return nil, err
	}
	defer src.Close()
	opt, _, why, err := addOrBeside(ctx, src, t.Plan, t.Options)
	r.Name, r.Added, r.Beside = opt.Name, opt.Add, why
	return r, err
}

// look fails where the place is taken, and says whether what is there would be renamed.
func (t Task) look(ctx context.Context) (bool, error) {
	err := t.vacant(ctx)
	if err != nil || !t.Options.Replace {
		return false, err
	}
	t.Options.Replace = false
	if err := t.vacant(ctx); fault.HasCode(err, "target-exists") {
		return true, nil
	} else if err != nil {
		return false, err
	}
	return false, nil
}

// without lists what of the chosen tables is not chosen.
func without(all, chosen []manifest.ObjectEntry, tables []manifest.Table) (list []string) {
	taken, of := map[string]bool{}, map[string]bool{}
	for _, t := range tables {
		of[t.ID] = true
	}
	for _, o := range chosen {
		taken[o.ID()] = true
	}
	for _, o := range all {
		if o.Section != engine.Owners && of[o.Table] && !taken[o.ID()] {
			list = append(list, o.ID())
		}
	}
	return list
}
