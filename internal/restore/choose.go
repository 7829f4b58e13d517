package restore

import (
	"context"
	"slices"

	"grainkeep/internal/chain"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/payload"
	"grainkeep/internal/phrase"
)

// pick reads what the dump has and leaves what is to be restored. It tells what belongs to
// chosen tables and needs others.
func (l *loader) pick(ctx context.Context) (left []string, err error) {
	if l.objects, err = l.files.Index(ctx); err != nil {
		return nil, err
	}
	all := l.objects
	if err := l.choose(); err != nil || len(l.opt.Only) == 0 {
		return nil, err
	}
	return without(all, l.objects, l.tables), nil
}

// picked is a loader of what a plan ends with that has picked, and nowhere to load to.
func picked(ctx context.Context, plan *chain.Plan, opt Options) (l *loader, left []string, err error) {
	parts, err := payload.NewChain(plan.Dumps())
	if err != nil {
		return nil, nil, err
	}
	d := plan.Last()
	l = &loader{d: d, plan: plan, m: d.Manifest, parts: parts, files: parts.Structure, opt: opt,
		layers: map[string][]payload.Layer{}}
	if left, err = l.pick(ctx); err != nil {
		return nil, nil, err
	}
	for _, t := range l.tables {
		if l.layers[t.ID], err = parts.Layers(t.ID); err != nil {
			return nil, nil, err
		}
	}
	return l, left, nil
}

// choose leaves what is to be restored: everything, or some tables with what
// they need.
func (l *loader) choose() error {
	l.tables = l.m.Tables()
	if l.opt.Owners == Mine {
		l.objects = slices.DeleteFunc(l.objects,
			func(o manifest.ObjectEntry) bool { return o.Section == engine.Owners || o.Kind == "owner" })
	}
	if l.opt.Into {
		l.objects = slices.DeleteFunc(l.objects, func(o manifest.ObjectEntry) bool { return o.OfDatabase })
	}
	if l.opt.Passive {
		l.objects = slices.DeleteFunc(l.objects,
			func(o manifest.ObjectEntry) bool { return o.Section == engine.Active })
	}
	if len(l.opt.Held) > 0 {
		all := make([]engine.Object, len(l.objects))
		for i, o := range l.objects {
			all[i] = o.Object
		}
		held := heldBack(all, l.opt.Held)
		l.objects = slices.DeleteFunc(l.objects, func(o manifest.ObjectEntry) bool { return held[o.ID()] })
	}
	switch l.opt.Part {
	case Structure:
		l.objects = slices.DeleteFunc(l.objects, func(o manifest.ObjectEntry) bool {
			return slices.Contains(rowLike, o.Kind)
		})
	case Rows:
		l.objects = slices.DeleteFunc(l.objects, func(o manifest.ObjectEntry) bool {
			return !slices.Contains(rowLike, o.Kind)
		})
	}
	if err := l.only(); err != nil {
		return err
	}
	if l.opt.Part == Structure {
		l.tables = nil
	}
	return nil
}

// rowLike are the kinds of objects that go with rows.
var rowLike = []string{"sequence value", "large objects", "refresh"}

func (l *loader) only() error {
	if len(l.opt.Only) == 0 {
		return nil
	}
	wanted, err := PickTables(l.m, l.opt.Only)
	if err != nil {
		return err
	}
	chosen := wanted
	wanted = l.parts.Together(wanted)
	for id := range wanted {
		if !chosen[id] {
			l.along = append(l.along, id)
		}
	}
	slices.Sort(l.along)
	l.tables = slices.DeleteFunc(slices.Clone(l.tables), func(t manifest.Table) bool { return !wanted[t.ID] })
	l.objects = Needed(l.objects, wanted)
	return nil
}

// PickTables finds tables by the names that people write: as SQL writes them, or
// plainly, with or without the schema.
func PickTables(m *manifest.Manifest, names []string) (map[string]bool, error) {
	wanted := map[string]bool{}
	for _, n := range names {
		var hits []string
		for _, t := range m.Tables() {
			if n == t.ID || n == t.Name || n == t.Schema+"."+t.Name {
				hits = append(hits, t.ID)
			}
		}
		if len(hits) == 0 && phrase.HasPattern(n) && pickPattern(m, n, wanted) {
			continue
		}
		if len(hits) == 0 && pickTree(m, n, wanted) {
			continue
		}
		switch len(hits) {
		case 0:
			return nil, fault.Wrong("table-absent", "the dump has no table %q",
				n).Advise("'grainkeep show' lists its tables")
		case 1:
			wanted[hits[0]] = true
		default:
			return nil, fault.Wrong("table-ambiguous", "the dump has several tables %q", n).Advise("name one of: %v",
				hits)
		}
	}
	for _, t := range m.Tables() {
		if wanted[t.ID] && t.Through != "" { // its rows may land in any of the tree's partitions
			pickTree(m, t.Through, wanted)
		}
	}
	return wanted, nil
}

// pickPattern takes the tables that a pattern means, by name or with the schema.
func pickPattern(m *manifest.Manifest, pattern string, wanted map[string]bool) (found bool) {
	for _, t := range m.Tables() {
		if phrase.Match(pattern, t.Name) || t.Schema != "" && phrase.Match(pattern, t.Schema+"."+t.Name) {
			wanted[t.ID], found = true, true
		}
	}
	return found
}

// pickTree takes a partitioned table: it is its partitions.
func pickTree(m *manifest.Manifest, root string, wanted map[string]bool) (found bool) {
	for _, t := range m.Tables() {
		if root != "" && t.Tree == root {
			wanted[t.ID], wanted[t.Tree], found = true, true, true
		}
	}
	return found
}

// Needed gives the objects that belong to some tables, and all that those need,
// as long as that needs no other table. The order stays.
func Needed(objects []manifest.ObjectEntry, tables map[string]bool) []manifest.ObjectEntry {
	byID := map[string]*manifest.ObjectEntry{}
	for i := range objects {
		byID[objects[i].ID()] = &objects[i]
	}
	possible := map[string]bool{} // by object; false while being looked at
	var fits func(id string) bool
	fits = func(id string) bool {
		if ok, seen := possible[id]; seen {
			return ok
		}
		possible[id] = true // a circle does not make it impossible
		o := byID[id]
		ok := o == nil || o.Kind != "table" && o.Kind != "virtual table" || tables[o.Table] || tables[o.Name]
		if o != nil {
			for _, n := range o.Needs {
				ok = fits(n) && ok
			}
		}
		possible[id] = ok
		return ok
	}
	taken := map[string]bool{}
	var take func(id string)
	take = func(id string) {
		o := byID[id]
		if o == nil || taken[id] || !fits(id) {
			return
		}
		taken[id] = true
		for _, n := range o.Needs {
			take(n)
		}
	}
	for _, o := range objects {
		if o.Table != "" && tables[o.Table] || o.Kind == "table" && tables[o.Name] {
			take(o.ID())
		}
	}
	for _, o := range objects { // what describes a taken object: its value, owner, grants
		if o.Table == "" && len(o.Needs) > 0 && !slices.ContainsFunc(o.Needs,
			func(n string) bool { return !taken[n] }) {
			switch o.Kind {
			case "sequence value", "owner", "grants", "comment":
				take(o.ID())
			}
		}
	}
	var list []manifest.ObjectEntry
	for _, o := range objects {
		if taken[o.ID()] {
			list = append(list, o)
		}
	}
	return list
}
