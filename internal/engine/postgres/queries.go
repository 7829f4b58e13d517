package postgres

import (
	"context"
	"embed"
	"fmt"
	"strings"
	"sync"
	"text/template"

	"grainkeep/internal/pattern"

	"github.com/jackc/pgx/v5"
)

// The catalog queries, one kind of object a file. What differs by the server's version is
// a named fragment at the head of the file: {{since 14}} asks for the version.
//
//go:embed queries/*.sql
var queryFiles embed.FS

// queries are the files as templates. The functions in them write SQL that many need.
var queries = sync.OnceValues(func() (*template.Template, error) {
	return template.New("").Funcs(template.FuncMap{
		"since": func(int) bool { return false }, // as the version says, when it is used
		"ours":  func() string { return ours },
		"own":   notMember,
		"later": laterThanExtension,
		"settable": func(options string) string { // what begins so is the server's own to set
			return "(SELECT string_agg(u.o, ', ' ORDER BY u.n) FROM unnest(" + options +
				") WITH ORDINALITY u (o, n) WHERE u.o !~ '^pg_')"
		},
		"changed": changedByHand,
		"others": func(publication string) string { // not those by which this program reads the log
			return publication + " !~ '^grainkeep_[0-9a-f]{12}$'"
		},
		"routine": func() string { // as statements about a routine want it: overloads differ in more than what comes in
			return "(format('%I.%I(', n.nspname, p.proname) || pg_get_function_identity_arguments(p.oid) || ')')"
		},
		"function": func(column string) string {
			return "CASE WHEN " + column + "::oid <> 0 THEN " + column + "::text ELSE '' END"
		},
		"collation": collationOf,
		"options":   optionList,
		"operator":  operatorName,
		"optional":  optional,
		"mode": func(column string) string {
			return "CASE " + column +
				" WHEN 'r' THEN 'READ_ONLY' WHEN 's' THEN 'SHAREABLE' WHEN 'w' THEN 'READ_WRITE' END"
		},
	}).ParseFS(queryFiles, "queries/*.sql")
})

// versions holds the queries as each version of a server that was met wants them.
var versions sync.Map

func queriesFor(version int) (*template.Template, error) {
	if t, ok := versions.Load(version); ok {
		return t.(*template.Template), nil
	}
	all, err := queries()
	if err != nil {
		return nil, err
	}
	if all, err = all.Clone(); err != nil {
		return nil, err
	}
	all.Funcs(template.FuncMap{"since": func(major int) bool { return version >= major*10000 }})
	versions.Store(version, all)
	return all, nil
}

// query gives a catalog query as the server's version wants it. Flags are the values of
// {{.name}} in it.
func query(version int, name string, flags map[string]string) (string, error) {
	all, err := queriesFor(version)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	if err := all.ExecuteTemplate(&b, name+".sql", flags); err != nil {
		return "", fmt.Errorf("the query %s: %w", name, err)
	}
	// What the files say to people may not exist in the server's encoding.
	return strings.TrimSpace(comment().ReplaceAllString(b.String(), "")), nil
}

var comment = pattern.Of(`(?m)^--.*\n`)

// each runs a catalog query and gives each of its rows as a struct, by the names of its
// columns.
func each[T any](ctx context.Context, r *catalogReader, name string, f func(*T) error) error {
	return eachOf(ctx, r, name, nil, f)
}

// eachOf is each, with flags.
func eachOf[T any](ctx context.Context, r *catalogReader, name string, flags map[string]string,
	f func(*T) error) error {
	sql, err := query(r.version, name, flags)
	if err != nil {
		return err
	}
	rows, err := r.c.Query(ctx, sql)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		row, err := pgx.RowToAddrOfStructByName[T](rows)
		if err != nil {
			return fmt.Errorf("the query %s: %w", name, err)
		}
		if err := f(row); err != nil {
			return err
		}
	}
	return rows.Err()
}

// yes is a flag that is set or not.
func yes(set bool) string {
	if set {
		return "yes"
	}
	return ""
}
