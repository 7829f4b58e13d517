package mysql

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// catalogReader reads what a database holds, with the database as the current one: so
// the server leaves the database's own name out of most definitions.
type catalogReader struct {
	s        *source
	c        *conn
	database string
	listed   []pinned // tables and sequences
	outside  []string // tables that no snapshot holds
	selfName *regexp.Regexp
	objects  []engine.Object
	tables   []engine.Table
	warns    []string
}

func (r *catalogReader) read(ctx context.Context) (*engine.Catalog, error) {
	facts, err := r.facts(ctx)
	if err != nil {
		return nil, err
	}
	if err := r.seen(ctx); err != nil {
		return nil, err
	}
	r.selfName = regexp.MustCompile("(?i)(?:^|[^\\w`])`?" + asIs(r.database) + "`?\\s*\\.")
	for _, step := range []struct {
		what string
		read func(context.Context) error
	}{
		{"sequences", r.sequences}, {"tables", r.readTables}, {"libraries", r.libraries}, {"routines", r.routines},
		{"views", r.views}, {"triggers", r.triggers}, {"events", r.events},
	} {
		if err := step.read(ctx); err != nil {
			return nil, fmt.Errorf("reading %s of %s: %w", step.what, r.database, err)
		}
	}
	sort.Slice(r.tables, func(a, b int) bool { return r.tables[a].ID < r.tables[b].ID })
	return &engine.Catalog{Facts: facts, Header: settings, Tables: r.tables, Objects: r.objects, Warnings: r.warns}, nil
}

func (r *catalogReader) add(o engine.Object) { r.objects = append(r.objects, o) }

// facts are the properties that a database is made with.
func (r *catalogReader) facts(ctx context.Context) (map[string]string, error) {
	comment := "''"
	if r.s.maria && r.s.version >= 100500 {
		comment = "schema_comment"
	}
	rows, err := r.c.rows(ctx,
		"SELECT default_character_set_name, default_collation_name, "+comment+" FROM information_schema.schemata "+
			"WHERE schema_name = "+literal(r.database))
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, gone("the database " + r.database)
	}
	if options, err := r.readOnly(ctx); err != nil {
		return nil, err
	} else if options {
		r.warns = append(r.warns, "the database is read only on the server: that is not carried; say it again after a "+
			"restore (ALTER DATABASE … READ ONLY = 1)")
	}
	f := map[string]string{"charset": rows[0][0], "collation": rows[0][1]}
	if rows[0][2] != "" {
		f["comment"] = rows[0][2]
	}
	return f, nil
}

// readOnly says whether MySQL lets nobody write to the database.
func (r *catalogReader) readOnly(ctx context.Context) (bool, error) {
	if r.s.maria || r.s.version < 80022 {
		return false, nil
	}
	options, err := r.c.value(ctx, "SELECT coalesce(options, '') FROM information_schema.schemata_extensions "+
		"WHERE schema_name = "+literal(r.database))
	return strings.Contains(options, "READ ONLY=1"), err
}

func gone(what string) error {
	return fault.New("object-gone", nil, "%s was dropped while its definition was read",
		what).Advise("take the dump again")
}

// definition runs SHOW CREATE and gives the column of that name.
func (r *catalogReader) definition(ctx context.Context, what, name string, column int) (string, []string, error) {
	rows, err := r.c.rows(ctx, "SHOW CREATE "+what+" "+quote(name))
	if err != nil {
		return "", nil, fmt.Errorf("%s %s: %w", strings.ToLower(what), name, err)
	}
	if len(rows) == 0 {
		return "", nil, gone(strings.ToLower(what) + " " + name)
	}
	if rows[0][column] == "" {
		return "", nil, fault.New(engine.RightsMissing, nil, "this user may not read the definition of the %s %s",
			strings.ToLower(what), name).
			Advise("'grainkeep grants' prints what is needed")
	}
	return rows[0][column], rows[0], nil
}

// sequences are made with their state: the next value that nobody was given yet. What
// the server has handed to its cache counts as given.
func (r *catalogReader) sequences(ctx context.Context) error {
	for _, listed := range r.listed {
		if listed.kind != "SEQUENCE" {
			continue
		}
		name := listed.name
		sql, _, err := r.definition(ctx, "SEQUENCE", name, 1)
		if err != nil {
			return err
		}
		state, err := r.c.rows(ctx, "SELECT next_not_cached_value, cycle_count FROM "+quote(name))
		if err != nil {
			return err
		}
		r.add(engine.Object{Kind: "sequence", Name: quote(name), Section: engine.Schema,
			SQL: fmt.Sprintf("%s;\nDO setval(%s, %s, 0, %s);\n", sql, quote(name), state[0][0], state[0][1])})
	}
	return nil
}

// definer finds the user that an object acts as.
var definer = regexp.MustCompile("DEFINER=((?:`(?:[^`]|``)*`|\"(?:[^\"]|\"\")*\")(?:@(?:`(?:[^`]|``)*`|\"(?:[^\"]|\"\")*\"))?)")

// acted are the settings that code was made with.
type acted struct{ mode, collation, client, zone string }

// acting fills in whose rights an object has, and the settings that it was made with. Text that
// says the same in every character set is sent in the one of its maker's client.
func (r *catalogReader) acting(o engine.Object, create string, by acted) engine.Object {
	o.SelfNamed = r.selfName.MatchString(create)
	// MySQL keeps the semicolon that ended the statement, if there was one. A comment at the end
	// would hide the mark that ends it.
	create = strings.TrimRight(create, "; \t\r\n")
	last := create[strings.LastIndexByte(create, '\n')+1:]
	if strings.Contains(last, "--") || strings.Contains(last, "#") {
		create += "\n"
	}
	first, set, back := "", "SET sql_mode = "+literal(by.mode), ""
	if by.collation != "" {
		set += ", collation_connection = " + literal(by.collation)
	}
	if by.zone != "" {
		set += ", time_zone = " + literal(by.zone)
	}
	if word.MatchString(by.client) && !strings.HasPrefix(by.client, "utf8") && !wide(by.client) &&
		!strings.ContainsFunc(create, func(c rune) bool { return c >= 0x80 }) {
		first = "SET character_set_client = " + by.client + ";\n"
		back = "SET character_set_client = utf8mb4;\n"
	}
	if m := definer.FindStringSubmatch(create); m != nil {
		o.Definer = m[0]
		user := strings.ReplaceAll(m[1], `"`, "`")
		o.Roles = []string{user}
	}
	mark := "//"
	for strings.Contains(create, mark) {
		mark += "/"
	}
	word := "DELIMITER"
	if !r.s.maria { // its client knows it in small letters only, where it is told not to look at characters
		word = "delimiter"
	}
	o.SQL = first + set + ";\n" + word + " " + mark + "\n" + create + mark + "\n" + word + " ;\n" + back
	return o
}

// libraries hold code that routines of MySQL use.
func (r *catalogReader) libraries(ctx context.Context) error {
	if r.s.maria || r.s.version < 90200 {
		return nil
	}
	rows, err := r.c.rows(ctx, "SELECT library_name, sql_mode FROM information_schema.libraries WHERE library_schema = "+
		"database() ORDER BY 1")
	if err != nil {
		return err
	}
	for _, row := range rows {
		sql, _, err := r.definition(ctx, "LIBRARY", row[0], 2)
		if err != nil {
			return err
		}
		r.add(r.acting(engine.Object{Kind: "library", Name: quote(row[0]), Section: engine.Finish}, sql, acted{mode: row[1]}))
	}
	return nil
}

// routines are functions, procedures and packages. Their bodies are not looked at when
// they are made, so their order does not matter.
func (r *catalogReader) routines(ctx context.Context) error {
	rows, err := r.c.rows(ctx, `SELECT routine_type, routine_name, sql_mode, collation_connection, character_set_client FROM
		information_schema.routines
		WHERE routine_schema = database() AND routine_type IN ('FUNCTION', 'PROCEDURE', 'PACKAGE', 'PACKAGE BODY')
			ORDER BY routine_type = 'PACKAGE BODY', 1, 2`)
	if err != nil {
		return err
	}
	for _, row := range rows {
		sql, _, err := r.definition(ctx, row[0], row[1], 2)
		if err != nil {
			return err
		}
		r.add(r.acting(engine.Object{Kind: strings.ToLower(row[0]), Name: quote(row[1]), Section: engine.Finish}, sql,
			acted{mode: row[2], collation: row[3], client: row[4]}))
	}
	return nil
}

var quoted = regexp.MustCompile("`(?:[^`]|``)*`")

// views come after the views and functions that their text names. One that is broken
// on the server cannot be made, and is named.
func (r *catalogReader) views(ctx context.Context) error {
	rows, err := r.c.rows(ctx, "SHOW FULL TABLES WHERE table_type LIKE '%VIEW'")
	if err != nil {
		return err
	}
	var bad []engine.Object
	text := map[string]string{}
	object := map[string]engine.Object{}
	var names []string
	for _, row := range rows {
		sql, facts, err := r.definition(ctx, "VIEW", row[0], 1)
		if err != nil {
			return err
		}
		sql = r.unnamed(sql)
		why, err := r.broken(ctx, quote(row[0]))
		if err != nil {
			return err
		}
		text[quote(row[0])] = sql
		if why != "" {
			r.warns = append(r.warns, fmt.Sprintf("the view %s is broken on the server, and is dumped so: %s", row[0], why))
			bad = append(bad, r.acting(engine.Object{Kind: "view", Name: quote(row[0])}, sql,
				acted{collation: facts[3], client: facts[2]}))
			continue
		}
		names = append(names, quote(row[0]))
		object[quote(row[0])] = r.acting(engine.Object{Kind: "view", Name: quote(row[0]), Section: engine.Finish},
			sql, acted{collation: facts[3], client: facts[2]})
	}
	known := map[string]string{}
	for _, o := range r.objects {
		known[o.Name] = o.ID()
	}
	for _, n := range names {
		known[n] = "view " + n
	}
	done := map[string]bool{}
	var put func(name string, path []string)
	put = func(name string, path []string) {
		if done[name] || slices.Contains(path, name) {
			return
		}
		o := object[name]
		for _, other := range quoted.FindAllString(text[name], -1) {
			if _, view := object[other]; view && other != name {
				put(other, append(path, name))
			}
			_, later := object[other]
			if id := known[other]; id != "" && other != name && (!later || done[other]) && !slices.Contains(o.Needs,
				id) {
				o.Needs = append(o.Needs, id)
			}
		}
		done[name] = true
		r.add(o)
	}
	for _, n := range names {
		put(n, nil)
	}
	r.brokenViews(bad, text, func(name string) bool { return known[name] != "" || text[name] != "" })
	return nil
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

// triggers come in the order in which they fire.
func (r *catalogReader) triggers(ctx context.Context) error {
	rows, err := r.c.rows(ctx, `SELECT trigger_name, event_object_table, sql_mode, collation_connection, character_set_client FROM
		information_schema.triggers
		WHERE trigger_schema = database() ORDER BY event_object_table, action_timing, event_manipulation, action_order`)
	if err != nil {
		return err
	}
	for _, row := range rows {
		sql, _, err := r.definition(ctx, "TRIGGER", row[0], 2)
		if err != nil {
			return err
		}
		r.add(r.acting(engine.Object{Kind: "trigger", Name: quote(row[0]), Table: quote(row[1]),
			Needs: []string{"table " + quote(row[1])}, Section: engine.Finish}, sql,
			acted{mode: row[2], collation: row[3], client: row[4]}))
	}
	return nil
}

// events act by themselves: a drill leaves them out.
func (r *catalogReader) events(ctx context.Context) error {
	rows, err := r.c.rows(ctx,
		"SELECT event_name, sql_mode, collation_connection, time_zone, character_set_client FROM information_schema.events WHERE "+
			"event_schema = database() ORDER BY 1")
	if err != nil {
		return err
	}
	for _, row := range rows {
		sql, _, err := r.definition(ctx, "EVENT", row[0], 3)
		if err != nil {
			return err
		}
		r.add(r.acting(engine.Object{Kind: "event", Name: quote(row[0]), Section: engine.Active}, sql,
			acted{mode: row[1], collation: row[2], zone: row[3], client: row[4]}))
	}
	return nil
}
