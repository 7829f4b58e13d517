package postgres

import (
	"cmp"
	"context"
	"slices"
	"sort"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// resolve finds the node that an address stands for: a row type is its table, an
// index of a key is the key.
func (r *catalogReader) resolve(k key) *node {
	for range 4 {
		if n := r.nodes[k]; n != nil {
			return n
		}
		next, ok := r.alias[k]
		if !ok {
			return nil
		}
		k = next
	}
	return nil
}

// needed is resolve, with an extension standing for its members.
func (r *catalogReader) needed(k key) *node {
	if n := r.resolve(k); n != nil {
		return n
	}
	return r.nodes[r.member[k]]
}

// dependenciesRow is a row of dependencies.sql.
type dependenciesRow struct {
	OwnClass, RefClass       string
	OwnOID, Relation, RefOID uint32
	Num                      int16
}

// dependencies reads what needs what.
func (r *catalogReader) dependencies(ctx context.Context) error {
	err := each(ctx, r, "dependencies", func(x *dependenciesRow) error {
		var own, ref key
		own.class, own.oid, ref.class, ref.oid = x.OwnClass, x.OwnOID, x.RefClass, x.RefOID
		from, to := r.resolve(own), r.needed(ref)
		switch own.class {
		case "pg_attrdef":
			from = r.defaultNode(x.Relation, x.Num)
		case "pg_rewrite":
			if from == nil { // the rule that makes a view a view
				from = r.nodes[key{"pg_class", x.Relation}]
			}
		}
		if from != nil && to != nil && from != to {
			from.needs = append(from.needs, to.key)
		}
		if from != nil && from == to && from.stub != nil && own.class == "pg_proc" {
			r.outline(from) // a function that calls itself
		}
		return nil
	})
	for parent, children := range r.children {
		if n := r.nodes[parent]; n != nil {
			n.needs = append(n.needs, children...)
		}
	}
	r.refreshes()
	r.onExtensions()
	return err
}

// defaultNode is the table, or the default itself where it comes later.
func (r *catalogReader) defaultNode(table uint32, num int16) *node {
	if n := r.laterDefault[place{table, num}]; n != nil {
		return n
	}
	return r.nodes[key{"pg_class", table}]
}

// order puts every object after what it needs. What rows need goes before them; the
// rest after. The order depends on names and needs only.
func (r *catalogReader) order() ([]engine.Object, error) {
	for {
		all := append([]*node{}, r.extra...)
		for _, n := range r.nodes {
			all = append(all, n)
		}
		slices.SortFunc(all, before)
		circle := r.circle(all)
		if circle == nil {
			return r.placed(all), nil
		}
		if !r.breakUp(circle) {
			var names []string
			for _, n := range circle {
				names = append(names, n.obj.ID())
			}
			return nil, fault.New("cannot-carry", nil, "these objects need each other: %s", strings.Join(names, " → ")).
				Advise("this version cannot break that circle; nothing was dumped")
		}
	}
}

func before(a, b *node) int {
	if a.rank != b.rank {
		return a.rank - b.rank
	}
	if a.rank == rankRefresh { // what one reads through functions, of which there is no record, was there before it
		return cmp.Compare(a.oid, b.oid)
	}
	return strings.Compare(a.obj.ID(), b.obj.ID())
}

// needs gives what a node needs, in a fixed order.
func (r *catalogReader) needs(n *node) []*node {
	var list []*node
	for _, k := range n.needs {
		if other := r.needed(k); other != nil && other != n && !slices.Contains(list, other) {
			list = append(list, other)
		}
	}
	slices.SortFunc(list, before)
	return list
}

// circle finds nodes that need each other, if there are any.
func (r *catalogReader) circle(all []*node) []*node {
	done := map[*node]bool{}
	var path, found []*node
	var walk func(n *node) bool
	walk = func(n *node) bool {
		if done[n] {
			return false
		}
		if i := slices.Index(path, n); i >= 0 {
			found = slices.Clone(path[i:])
			return true
		}
		path = append(path, n)
		if slices.ContainsFunc(r.needs(n), walk) {
			return true
		}
		path = path[:len(path)-1]
		done[n] = true
		return false
	}
	for _, n := range all {
		if walk(n) {
			break
		}
	}
	return found
}

// breakUp gives one object of a circle an outline, which is enough for the others in
// it. The object itself comes after them.
func (r *catalogReader) breakUp(circle []*node) bool {
	i := slices.IndexFunc(circle, func(n *node) bool { return n.stub != nil })
	if i < 0 {
		return false
	}
	n := circle[i]
	outline := r.outline(n)
	reached := map[*node]bool{}
	var reach func(m *node)
	reach = func(m *node) {
		for _, other := range r.needs(m) {
			if !reached[other] && other != n {
				reached[other] = true
				reach(other)
			}
		}
	}
	reach(n)
	for m := range reached {
		for j, k := range m.needs {
			if r.needed(k) == n {
				m.needs[j] = outline.key
			}
		}
	}
	return true
}

// outline puts an object's outline before it.
func (r *catalogReader) outline(n *node) *node {
	outline := &node{key: key{"+outline", n.oid}, obj: *n.stub, rank: n.rank, late: n.late}
	n.stub = nil
	if n.whole != "" {
		n.obj.SQL = n.whole
	}
	r.nodes[outline.key] = outline
	for _, k := range n.needs { // its types and schema
		if k.class == "pg_namespace" || k.class == "pg_type" {
			outline.needs = append(outline.needs, k)
		}
	}
	n.needs = append(n.needs, outline.key)
	return outline
}

// placed gives the objects in their order.
func (r *catalogReader) placed(all []*node) []engine.Object {
	r.sections(all)
	var out []engine.Object
	done := map[*node]bool{}
	var place func(n *node)
	place = func(n *node) {
		if done[n] {
			return
		}
		done[n] = true
		for _, other := range r.needs(n) {
			place(other)
			n.obj.Needs = append(n.obj.Needs, other.obj.ID())
		}
		if n.obj.SQL != "" {
			sort.Strings(n.obj.Needs)
			out = append(out, n.obj)
		}
	}
	for _, n := range all {
		place(n)
	}
	rank := map[engine.Section]int{engine.Schema: 0, engine.Keys: 1, engine.Finish: 2, engine.Owners: 3,
		engine.Active: 4}
	sort.SliceStable(out, func(a, b int) bool { return rank[out[a].Section] < rank[out[b].Section] })
	return out
}

// sections moves what rows need before the rows, and everything else that needs
// something late behind it.
func (r *catalogReader) sections(all []*node) {
	early := map[*node]bool{}
	var pull func(n *node)
	pull = func(n *node) {
		if early[n] {
			return
		}
		early[n] = true
		n.late = false
		n.obj.Section = engine.Schema
		for _, other := range r.needs(n) {
			pull(other)
		}
	}
	for _, n := range all {
		switch n.obj.Kind {
		case "table", "partitioned table", "foreign table", "sequence", "partition":
			pull(n)
		}
	}
	for moved := true; moved; {
		moved = false
		for _, n := range all {
			if early[n] || n.late || n.obj.Section == engine.Owners || n.obj.Section == engine.Active {
				continue
			}
			if slices.ContainsFunc(r.needs(n), func(other *node) bool {
				return other.late || n.obj.Section == engine.Schema && other.obj.Section == engine.Keys
			}) {
				n.late, n.obj.Section, moved = true, engine.Finish, true
			}
		}
	}
}
