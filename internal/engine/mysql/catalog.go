package mysql

import (
	"context"
	"fmt"
	"regexp"
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
	secrets  []string // users whose passwords are left out
	blind    bool     // to the rights on tables and routines
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
		{"reference systems", r.systems}, {"sequences", r.sequences}, {"tables", r.readTables},
		{"libraries", r.libraries}, {"routines", r.routines},
		{"views", r.views}, {"triggers", r.triggers}, {"rights", r.rights},
		{"events", r.events},
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
