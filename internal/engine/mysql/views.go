package mysql

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

var quoted = pattern.Of("`(?:[^`]|``)*`")

// view is a view as the server shows it.
type view struct {
	name    string // as SQL writes it
	text    string
	object  engine.Object
	outside bool // it needs another database
}

// views come after the views and functions that their text names. One that is broken
// on the server cannot be made, and is named. One that needs another database, which may not be
// there yet, comes last of all.
func (r *catalogReader) views(ctx context.Context) error {
	rows, err := r.c.rows(ctx, "SHOW FULL TABLES WHERE table_type LIKE '%VIEW'")
	if err != nil {
		return err
	}
	var bad []engine.Object
	text := map[string]string{}
	o := ordering{known: map[string]string{}, views: map[string]*view{}, done: map[string]bool{}, add: r.add}
	var names []string
	for _, row := range rows {
		v, why, err := r.view(ctx, row[0])
		if err != nil {
			return err
		}
		text[v.name] = v.text
		if why != "" {
			r.warns = append(r.warns, fmt.Sprintf("the view %s is broken on the server, and is dumped so: %s", row[0], why))
			if !v.outside {
				bad = append(bad, v.object)
				continue
			}
		}
		names = append(names, v.name)
		o.views[v.name] = v
	}
	for _, x := range r.objects {
		o.known[x.Name] = x.ID()
	}
	for _, n := range names {
		o.known[n] = "view " + n
	}
	for _, n := range names {
		o.put(n, nil)
	}
	r.brokenViews(bad, text, func(name string) bool { return o.known[name] != "" || text[name] != "" })
	return nil
}

// view reads one, and why it is broken, if it is.
func (r *catalogReader) view(ctx context.Context, name string) (*view, string, error) {
	sql, client, collation, err := r.shown(ctx, name)
	if err != nil {
		return nil, "", err
	}
	v := &view{name: quote(name), text: r.unnamed(sql)}
	for _, m := range elsewhere().FindAllStringSubmatch(v.text, -1) {
		where := unquote(m[1] + m[2])
		v.outside = v.outside || where != r.database && !slices.Contains(systems, where)
	}
	v.object = r.acting(engine.Object{Kind: "view", Name: v.name, Section: engine.Finish}, v.text,
		acted{collation: collation, client: client})
	why, err := r.broken(ctx, v.name)
	return v, why, err
}

// elsewhere finds names of databases in a view, as the server writes it: before a table, and
// before a function.
var elsewhere = pattern.Of("(?:from|join) \\(*(`(?:[^`]|``)*`)\\.`|(`(?:[^`]|``)*`)\\.`(?:[^`]|``)*`\\(")

// shown is a view's definition, with its client's character set and collation. MySQL does not show
// one that reads a database which is gone; its information tables do, but for the way in
// which it is worked out.
func (r *catalogReader) shown(ctx context.Context, name string) (sql, client, collation string, err error) {
	sql, facts, err := r.definition(ctx, "VIEW", name, 1)
	if err == nil {
		return sql, facts[2], facts[3], nil
	}
	if !hasCode(err, codeNoDatabase) {
		return "", "", "", err
	}
	rows, err := r.c.rows(ctx, "SELECT view_definition, definer, security_type, check_option, character_set_client, "+
		"collation_connection FROM information_schema.views WHERE table_schema = database() AND table_name = "+literal(name))
	if err != nil || len(rows) == 0 || rows[0][0] == "" {
		return "", "", "", errors.Join(err, gone("the view "+name))
	}
	v := rows[0]
	at := strings.LastIndexByte(v[1], '@')
	sql = "CREATE DEFINER=" + quote(v[1][:max(0, at)]) + "@" + quote(v[1][at+1:]) + " SQL SECURITY " + v[2] + " VIEW " +
		quote(name) + " AS " + v[0]
	if v[3] != "NONE" {
		sql += " WITH " + v[3] + " CHECK OPTION"
	}
	return sql, v[4], v[5], nil
}

// ordering puts views after what they need.
type ordering struct {
	known map[string]string // Object.ID by name
	views map[string]*view
	done  map[string]bool
	add   func(engine.Object)
}

func (o *ordering) put(name string, path []string) {
	if o.done[name] || slices.Contains(path, name) {
		return
	}
	v := o.views[name]
	for _, other := range quoted().FindAllString(v.text, -1) {
		needed, isView := o.views[other]
		if isView && other != name {
			o.put(other, append(path, name))
			v.outside = v.outside || needed.outside
		}
		if id := o.known[other]; id != "" && other != name && (!isView || o.done[other]) &&
			!slices.Contains(v.object.Needs, id) {
			v.object.Needs = append(v.object.Needs, id)
		}
	}
	if o.done[name] = true; v.outside {
		v.object.Section, v.object.Rule = engine.Active, true
	}
	o.add(v.object)
}

// unnamed takes the database's own name out of a view. The server writes it before every
// name once a view touches anything in another database, or is broken; the view would go on
// to mean the old database.
func (r *catalogReader) unnamed(sql string) string {
	own := quote(r.database)
	if regexp.MustCompile("` "+asIs(own)+"(?:[^.]|$)").MatchString(sql) || r.has(own) {
		return sql // it stands for a table too
	}
	return replaceWords(sql, own+".", "")
}

// asIs is a name as a part of a regular expression, which no name can break.
func asIs(name string) string { return regexp.QuoteMeta(strings.ToValidUTF8(name, "\ufffd")) }

// has says whether there is a table or view of a name.
func (r *catalogReader) has(name string) bool {
	return slices.ContainsFunc(r.listed, func(t pinned) bool { return quote(t.name) == name }) ||
		slices.ContainsFunc(r.objects, func(o engine.Object) bool { return o.Name == name })
}
