package mysql

import (
	"context"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

// definer finds the user that an object acts as.
var definer = pattern.Of("DEFINER=((?:`(?:[^`]|``)*`|\"(?:[^\"]|\"\")*\")(?:@(?:`(?:[^`]|``)*`|\"(?:[^\"]|\"\")*\"))?)")

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
	if word().MatchString(by.client) && !strings.HasPrefix(by.client, "utf8") && !wide(by.client) &&
		!strings.ContainsFunc(create, func(c rune) bool { return c >= 0x80 }) {
		first = "SET character_set_client = " + by.client + ";\n"
		back = "SET character_set_client = utf8mb4;\n"
	}
	if m := definer().FindStringSubmatch(create); m != nil {
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
