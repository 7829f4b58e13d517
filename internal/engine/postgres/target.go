package postgres

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"runtime"
	"sort"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// Databases under these names are being drilled or restored.
const (
	drillPrefix   = "grainkeep_drill_"
	restorePrefix = "grainkeep_restore_"
)

// The mark stands in a schema of its own inside a scratch database; the lock says
// that the one who made it is alive.
const (
	markSchema = "grainkeep_scratch"
	liveLock   = "1735551856, 1"
)

// Target makes a new database under a working name, marked and locked.
func (s *source) Target(ctx context.Context, spec engine.TargetSpec) (engine.Target, error) {
	t := &target{s: s, spec: spec, work: drillPrefix + spec.Run}
	if spec.Name != "" {
		t.work = restorePrefix + spec.Run
		if err := t.vacant(ctx); err != nil {
			return nil, err
		}
	}
	if err := t.create(ctx); err != nil {
		t.Discard(context.WithoutCancel(ctx))
		return nil, err
	}
	return t, nil
}

type target struct {
	s     *source
	spec  engine.TargetSpec
	work  string
	guard *pgx.Conn // holds the live lock
}

func (t *target) create(ctx context.Context) error {
	f := t.spec.Facts
	sql := "CREATE DATABASE " + quote(t.work) + CreateOptions(f)
	if _, err := t.s.home.Exec(ctx, sql); err != nil {
		var pg *pgconn.PgError
		if errors.As(err, &pg) && pg.Code == "42501" {
			return fault.New("rights-missing", nil, "the user %s may not create databases at %s", t.s.userName(), t.s.where()).
				Advise("'grainkeep grants --for drill' prints the SQL that allows it")
		}
		return fmt.Errorf("creating the database: %w", err)
	}
	var err error
	if t.guard, err = t.s.connect(ctx, t.work); err != nil {
		return err
	}
	_, err = t.guard.Exec(ctx, fmt.Sprintf(`SELECT pg_advisory_lock(%s); CREATE SCHEMA %s;
		CREATE TABLE %s.mark AS SELECT %s::text AS keep, %s::text AS run, now() AS made`,
		liveLock, markSchema, markSchema, literal(t.spec.KeepID), literal(t.spec.Run)))
	return err
}

// CreateOptions are the options of CREATE DATABASE that the facts ask for.
func CreateOptions(f map[string]string) string {
	sql := " TEMPLATE template0 ENCODING " + literal(f["encoding"]) + " LC_COLLATE " + literal(f["collate"]) + " LC_CTYPE " + literal(f["ctype"])
	switch f["provider"] {
	case "i":
		sql += " LOCALE_PROVIDER icu ICU_LOCALE " + literal(f["locale"])
	case "b":
		sql += " LOCALE_PROVIDER builtin BUILTIN_LOCALE " + literal(f["locale"])
	}
	return sql
}

// vacant fails when the target exists and may not be renamed aside, or is in use.
func (t *target) vacant(ctx context.Context) error {
	var there bool
	var users int
	err := t.s.home.QueryRow(ctx, `SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1),
		(SELECT count(*) FROM pg_stat_activity WHERE datname = $1 AND pid <> pg_backend_pid())`, t.spec.Name).Scan(&there, &users)
	switch {
	case err != nil || !there:
		return err
	case !t.spec.Replace:
		return fault.New("target-exists", nil, "the database %s exists already at %s", t.spec.Name, t.s.where()).
			Advise("restore under another name with --as NAME, or add --replace: the old one is then renamed, not deleted")
	case users > 0:
		return fault.New("target-in-use", nil, "%d sessions use the database %s at %s", users, t.spec.Name, t.s.where()).
			Advise("stop the application that uses it, then try again; nothing was changed")
	}
	return nil
}

func (t *target) Width() int { return max(1, runtime.GOMAXPROCS(0)) }

func (t *target) Settings() []string {
	return []string{"synchronous_commit = off", "maintenance_work_mem = 256MB"}
}

func (t *target) Session(ctx context.Context) (engine.Session, error) {
	c, err := t.s.connect(ctx, t.work)
	if err != nil {
		return nil, err
	}
	if _, err := c.Exec(ctx, fast); err != nil {
		closeConn(c)
		return nil, err
	}
	return &session{c}, nil
}

func (t *target) Snapshot(ctx context.Context) (engine.Snapshot, error) {
	return t.s.snapshot(ctx, t.work)
}

// Finish takes the mark off and gives the database its name.
func (t *target) Finish(ctx context.Context) (aside string, err error) {
	if err := t.vacant(ctx); err != nil {
		return "", err
	}
	if _, err := t.guard.Exec(ctx, "DROP SCHEMA "+markSchema+" CASCADE"); err != nil {
		return "", err
	}
	closeConn(t.guard)
	t.guard = nil
	var there bool
	if err := t.s.home.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)", t.spec.Name).Scan(&there); err != nil {
		return "", err
	}
	if there {
		aside = t.spec.Name + "_before_" + strings.ToLower(t.spec.Aside.UTC().Format("20060102T150405Z"))
		if len(aside) > 63 {
			aside = aside[len(aside)-63:]
		}
		if _, err := t.s.home.Exec(ctx, "ALTER DATABASE "+quote(t.spec.Name)+" RENAME TO "+quote(aside)); err != nil {
			return "", fmt.Errorf("renaming the old database aside: %w", err)
		}
	}
	if _, err := t.s.home.Exec(ctx, "ALTER DATABASE "+quote(t.work)+" RENAME TO "+quote(t.spec.Name)); err != nil {
		if aside != "" {
			t.s.home.Exec(ctx, "ALTER DATABASE "+quote(aside)+" RENAME TO "+quote(t.spec.Name))
		}
		return "", fmt.Errorf("renaming the restored database: %w", err)
	}
	return aside, nil
}

// Discard drops the database under its working name; it is this process's own.
func (t *target) Discard(ctx context.Context) error {
	closeConn(t.guard)
	t.guard = nil
	_, err := t.s.home.Exec(ctx, "DROP DATABASE IF EXISTS "+quote(t.work)+force(t.s.version))
	if err == nil {
		return nil
	}
	// The connection may be what was lost or cancelled: try with a new one.
	again, err2 := driver{}.Open(ctx, t.s.at)
	if err2 != nil {
		return err
	}
	defer again.Close()
	_, err = again.(*source).home.Exec(ctx, "DROP DATABASE IF EXISTS "+quote(t.work)+force(t.s.version))
	return err
}

func force(version int) string {
	if version >= 130000 {
		return " WITH (FORCE)"
	}
	return ""
}

var ownerOrGrantee = regexp.MustCompile(`(?m)(?: OWNER TO | TO | FROM |AUTHORIZATION )("(?:[^"]|"")+"|[a-z_][a-z0-9_$]*)(?: WITH GRANT OPTION)?;$`)

// Missing lists the roles that owners and grants name and the server lacks.
func (t *target) Missing(ctx context.Context, objects []engine.Object) ([]string, error) {
	named := map[string]bool{}
	for _, o := range objects {
		if o.Section != engine.Owners {
			continue
		}
		for _, m := range ownerOrGrantee.FindAllStringSubmatch(o.SQL, -1) {
			name := m[1]
			if strings.HasPrefix(name, `"`) {
				name = strings.ReplaceAll(name[1:len(name)-1], `""`, `"`)
			}
			named[name] = true
		}
	}
	rows, err := t.s.home.Query(ctx, "SELECT rolname::text FROM pg_roles")
	if err != nil {
		return nil, err
	}
	have, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, err
	}
	for _, n := range append(have, "public", "PUBLIC") {
		delete(named, n)
	}
	var missing []string
	for n := range named {
		missing = append(missing, n)
	}
	sort.Strings(missing)
	return missing, nil
}

// Sweep drops the scratch databases that bear the keep's mark and whose maker is
// gone. What has such a name without the mark is only listed.
func (s *source) Sweep(ctx context.Context, keepID string) (removed, foreign []string, err error) {
	rows, err := s.home.Query(ctx, `SELECT d.datname::text, EXISTS (SELECT FROM pg_locks l WHERE l.locktype = 'advisory'
			AND l.database = d.oid AND (l.classid::bigint, l.objid::bigint) = (`+liveLock+`))
		FROM pg_database d WHERE starts_with(d.datname, '`+drillPrefix+`') OR starts_with(d.datname, '`+restorePrefix+`') ORDER BY 1`)
	if err != nil {
		return nil, nil, err
	}
	type scratch struct {
		name  string
		alive bool
	}
	list, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (d scratch, err error) {
		err = r.Scan(&d.name, &d.alive)
		return d, err
	})
	if err != nil {
		return nil, nil, err
	}
	for _, d := range list {
		if d.alive {
			continue
		}
		if !s.bearsMark(ctx, d.name, keepID) {
			foreign = append(foreign, d.name)
			continue
		}
		if _, err := s.home.Exec(ctx, "DROP DATABASE IF EXISTS "+quote(d.name)); err != nil {
			foreign = append(foreign, d.name) // somebody uses it
			continue
		}
		removed = append(removed, d.name)
	}
	return removed, foreign, nil
}

func (s *source) bearsMark(ctx context.Context, database, keepID string) bool {
	c, err := s.connect(ctx, database)
	if err != nil {
		return false
	}
	defer closeConn(c)
	var ours bool
	err = c.QueryRow(ctx, "SELECT EXISTS (SELECT FROM "+markSchema+".mark WHERE keep = $1)", keepID).Scan(&ours)
	return err == nil && ours
}
