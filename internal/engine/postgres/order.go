package postgres

import (
	"context"
	"sort"
	"strings"

	"github.com/jackc/pgx/v5"

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

// dependencies reads what needs what.
func (r *catalogReader) dependencies(ctx context.Context) error {
	return r.rows(ctx, `SELECT CASE WHEN d.classid = 'pg_rewrite'::regclass THEN 'pg_class'
				WHEN d.classid = 'pg_attrdef'::regclass THEN 'pg_attrdef' ELSE d.classid::regclass::text END,
			coalesce(w.ev_class, f.adrelid, d.objid), coalesce(f.adnum, 0), d.refclassid::regclass::text, d.refobjid
		FROM pg_depend d
		LEFT JOIN pg_rewrite w ON d.classid = 'pg_rewrite'::regclass AND w.oid = d.objid
		LEFT JOIN pg_attrdef f ON d.classid = 'pg_attrdef'::regclass AND f.oid = d.objid
		WHERE d.objid >= 16384 AND (d.refobjid >= 16384 OR d.refobjid = 'public'::regnamespace) AND d.deptype IN ('n', 'a', 'i')
			AND NOT (d.refobjsubid > 0 AND d.classid = 'pg_class'::regclass AND d.deptype IN ('a', 'i'))`, func(rows pgx.Rows) error {
		var class, refClass string
		var oid, ref uint32
		var num int16
		if err := rows.Scan(&class, &oid, &num, &refClass, &ref); err != nil {
			return err
		}
		from, to := r.resolve(key{class, oid}), r.resolve(key{refClass, ref})
		if class == "pg_attrdef" {
			from = r.defaultNode(oid, num)
		}
		if from != nil && to != nil && from != to {
			from.needs = append(from.needs, to.key)
		}
		return nil
	})
}

// defaultNode is the table, or the default itself where it comes later.
func (r *catalogReader) defaultNode(table uint32, num int16) *node {
	if n := r.laterDefault[place{table, num}]; n != nil {
		return n
	}
	return r.nodes[key{"pg_class", table}]
}

// order puts every object after what it needs. What rows need goes before them;
// the rest after.
func (r *catalogReader) order() ([]engine.Object, error) {
	all := append([]*node{}, r.extra...)
	for _, n := range r.nodes {
		all = append(all, n)
	}
	sort.Slice(all, func(a, b int) bool {
		if all[a].rank != all[b].rank {
			return all[a].rank < all[b].rank
		}
		return all[a].obj.Name < all[b].obj.Name
	})
	r.sections(all)
	var out []engine.Object
	state := map[*node]int{} // 1: being placed, 2: placed
	var path []string
	var place func(n *node) error
	place = func(n *node) error {
		switch state[n] {
		case 2:
			return nil
		case 1:
			return fault.New("cannot-carry", nil, "these objects need each other: %s", strings.Join(append(path, n.obj.ID()), " → ")).
				Advise("this version cannot break that circle; nothing was dumped")
		}
		state[n] = 1
		path = append(path, n.obj.ID())
		for _, k := range n.needs {
			if other := r.resolve(k); other != nil {
				if err := place(other); err != nil {
					return err
				}
				n.obj.Needs = append(n.obj.Needs, other.obj.ID())
			}
		}
		path = path[:len(path)-1]
		state[n] = 2
		if n.obj.SQL != "" {
			sort.Strings(n.obj.Needs)
			out = append(out, n.obj)
		}
		return nil
	}
	for _, n := range all {
		if err := place(n); err != nil {
			return nil, err
		}
	}
	rank := map[engine.Section]int{engine.Schema: 0, engine.Keys: 1, engine.Finish: 2, engine.Owners: 3}
	sort.SliceStable(out, func(a, b int) bool { return rank[out[a].Section] < rank[out[b].Section] })
	return out, nil
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
		for _, k := range n.needs {
			if other := r.resolve(k); other != nil {
				pull(other)
			}
		}
	}
	for _, n := range all {
		if n.obj.Kind == "table" || n.obj.Kind == "sequence" {
			pull(n)
		}
	}
	for moved := true; moved; {
		moved = false
		for _, n := range all {
			if early[n] || n.late || n.obj.Section == engine.Owners {
				continue
			}
			for _, k := range n.needs {
				if other := r.resolve(k); other != nil && other.late {
					n.late, n.obj.Section, moved = true, engine.Finish, true
				}
			}
		}
	}
}
