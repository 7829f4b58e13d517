package postgres

// Functions may rely on the search path that the application has, and be called where a
// row is loaded or a rule is made: then that path is set for as long as it takes. All
// else is done under none, where every name says what it means.

// usualPath is what a server's own search path is, unless the database says otherwise.
const usualPath = `"$user", public`

// factPath is the name of the database's own search path among its facts.
const factPath = "search_path"

const noPath = "SET search_path = '';\n"

// path sets the database's own search path.
func (r *catalogReader) path() string {
	own := r.ownPath
	if own == "" {
		own = usualPath
	}
	return "SET search_path = " + settingValue("search_path", own) + ";\n"
}

// paths puts the search path around what calls such functions.
func (r *catalogReader) paths() {
	calls := map[key]bool{}
	for k, n := range r.nodes {
		switch {
		case k.class != "pg_class" && k.class != "pg_constraint" && k.class != "+rows":
			continue
		case n.rank != rankIndex && n.rank != rankKey && n.rank != rankCheck && n.rank != rankRefresh &&
			n.rank != rankTable:
			continue
		}
		calls[k] = r.callsLoose(n, map[*node]bool{})
		if !calls[k] || n.rank == rankTable || n.obj.SQL == "" {
			continue
		}
		n.obj.SQL = r.path() + n.obj.SQL + noPath
		if n.obj.Unchecked != "" {
			n.obj.Unchecked = r.path() + n.obj.Unchecked + noPath
		}
	}
	for i := range r.tables {
		t := &r.tables[i]
		for _, oid := range r.careful[t.ID] {
			if calls[key{"pg_class", oid}] {
				t.Frame.Head = r.path() + t.Frame.Head
				break
			}
		}
	}
}

// callsLoose says whether a node calls a function whose body is looked at only when it
// runs, and that brings no path of its own: itself, or through an operator or a view.
func (r *catalogReader) callsLoose(n *node, seen map[*node]bool) bool {
	if n == nil || seen[n] {
		return false
	}
	seen[n] = true
	for _, k := range n.needs {
		if r.loose[k] {
			return true
		}
		switch k.class {
		case "pg_operator", "pg_opclass", "pg_proc":
		case "pg_class": // a materialised view's own query, and the views in it
			if other := r.nodes[k]; n.rank != rankRefresh && n.rank != rankView || other == nil ||
				other.rank != rankView {
				continue
			}
		default:
			continue
		}
		if r.callsLoose(r.nodes[k], seen) {
			return true
		}
	}
	return false
}
