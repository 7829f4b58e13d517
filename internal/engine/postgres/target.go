package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// The mark stands in a schema of its own inside a scratch database. That its
// maker is alive is told by an advisory lock, taken before the database exists:
// the class is liveClass, the object comes from the run's id.
const (
	markSchema = "grainkeep_scratch" // and the run: somebody may have a schema of such a name
	liveClass  = 1735551856
)

// Target makes a new database under a working name, locked and marked.
func (s *source) Target(ctx context.Context, spec engine.TargetSpec) (engine.Target, error) {
	t := &target{s: s, spec: spec, work: spec.WorkName()}
	if spec.Name == engine.ServerWide { // its statements are whole each, and change nothing that is there
		t.spec.Into, t.work = true, s.home.Config().Database
		return t, nil
	}
	if spec.Add {
		return s.add(ctx, spec)
	}
	if spec.Into {
		t.work = spec.Name
		return t, t.enter(ctx)
	}
	if spec.Name != "" {
		if err := t.s.Vacant(ctx, t.spec); err != nil {
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
	s    *source
	spec engine.TargetSpec
	work string

	elsewhere bool      // the database's own tablespace is not there
	in        *pgx.Conn // in the new database from the start: later this user may not be let in
}

// lockObject is the object of a run's live lock.
func lockObject(run string) int32 {
	n, err := strconv.ParseUint(run[:min(8, len(run))], 16, 32)
	if err != nil {
		return 0
	}
	return int32(uint32(n))
}

func (t *target) create(ctx context.Context) error {
	if _, err := t.s.home.Exec(ctx, "SELECT pg_advisory_lock($1, $2)", int32(liveClass),
		lockObject(t.spec.Run)); err != nil {
		return err
	}
	options := CreateOptions(t.spec.Facts)
	if space := t.spec.Facts[factTablespace]; space != "" {
		var there bool
		err := t.s.home.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_tablespace WHERE spcname = $1 AND "+
			"has_tablespace_privilege(oid, 'CREATE'))", space).Scan(&there)
		if err != nil {
			return err
		}
		if there {
			options += " TABLESPACE " + quote(space)
		} else if t.elsewhere = true; t.spec.Warn != nil {
			t.spec.Warn("the target has no tablespace " + space + " that this user may use: the database comes into " +
				"the usual one")
		}
	}
	if _, err := t.s.home.Exec(ctx, "CREATE DATABASE "+quote(t.work)+options); err != nil {
		var pg *pgconn.PgError
		if errors.As(err, &pg) && pg.Code == "42501" {
			return fault.New("rights-missing", nil, "the user %s may not create databases at %s", t.s.userName(),
				t.s.where()).
				Advise("'grainkeep grants --for drill' prints the SQL that allows it")
		}
		return fmt.Errorf("creating the database: %w", err)
	}
	return t.inside(ctx,
		fmt.Sprintf(`CREATE SCHEMA %s; CREATE TABLE %s.mark AS SELECT %s::text AS keep, %s::text AS run, now() AS made`,
			t.mark(), t.mark(), literal(t.spec.KeepID), literal(t.spec.Run))+t.ownPath())
}

// mark is the schema of this target's mark, as SQL writes it.
func (t *target) mark() string { return quote(t.markName()) }

func (t *target) markName() string { return markSchema + "_" + t.spec.Run }

// ownPath gives the database the search path that the dumped one has of its own: what is
// restored, and what is read back, may rely on it.
func (t *target) ownPath() string {
	path := t.spec.Facts[factPath]
	if path == "" {
		return ""
	}
	return "; ALTER DATABASE " + quote(t.work) + " SET search_path TO " + settingValue("search_path", path)
}

// inside runs statements in the new database.
func (t *target) inside(ctx context.Context, sql string) (err error) {
	if t.in == nil || t.in.IsClosed() {
		if t.in, err = t.s.connect(ctx, t.work); err != nil {
			return err
		}
	}
	_, err = t.in.Exec(ctx, sql)
	return err
}

// out ends the session in the new database.
func (t *target) out() {
	if t.in != nil {
		closeConn(t.in)
		t.in = nil
	}
}

// Names of facts that only some databases have.
const (
	factRules      = "rules"      // of an ICU locale
	factTablespace = "tablespace" // where the database lies, unless told otherwise
)

// CreateOptions are the options of CREATE DATABASE that the facts ask for.
func CreateOptions(f map[string]string) string {
	sql := " TEMPLATE template0 ENCODING " + literal(f["encoding"]) + " LC_COLLATE " + literal(f["collate"]) +
		" LC_CTYPE " + literal(f["ctype"])
	switch f["provider"] {
	case "i":
		sql += " LOCALE_PROVIDER icu ICU_LOCALE " + literal(f["locale"])
	case "b":
		sql += " LOCALE_PROVIDER builtin BUILTIN_LOCALE " + literal(f["locale"])
	}
	if f[factRules] != "" {
		sql += " ICU_RULES " + literal(f[factRules])
	}
	return sql
}

// Vacant fails when the target exists and may not be renamed aside, or is in use.
func (s *source) Vacant(ctx context.Context, spec engine.TargetSpec) error {
	var there bool
	var users int
	err := s.home.QueryRow(ctx, `SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1),
		(SELECT count(*) FROM pg_stat_activity WHERE datname = $1 AND pid <>
			pg_backend_pid())`, spec.Name).Scan(&there, &users)
	if err != nil || !there {
		return err
	}
	return engine.Occupied(spec, s.where(), users)
}

// Width is all workers for rows. An index is made by two of the server's processes
// together, so half as many are made side by side.
func (t *target) Width() (rows, after int) {
	n := t.s.workers()
	return n, max(1, n/2)
}

func (t *target) Settings() []string {
	return strings.FieldsFunc(strings.ReplaceAll(fast, "SET ", ""), func(r rune) bool { return r == ';' || r == '\n' })
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
	if len(t.spec.Fill) > 0 {
		_, _ = c.Exec(ctx, passive) // who may not was warned
	}
	return &session{c}, nil
}

func (t *target) Snapshot(ctx context.Context) (engine.Snapshot, error) {
	p, err := t.s.snapshot(ctx, t.work, t.markName())
	if err == nil && t.elsewhere { // which is the target's doing
		p.cat.Facts[factTablespace] = t.spec.Facts[factTablespace]
	}
	return p, err
}

// Finish gives the database its name and takes the mark off.
func (t *target) Finish(ctx context.Context) (aside string, err error) {
	if t.spec.Into {
		return "", nil
	}
	if err := t.s.Vacant(ctx, t.spec); err != nil {
		return "", err
	}
	there, err := t.s.has(ctx, t.spec.Name)
	if err != nil {
		return "", err
	}
	rename := "ALTER DATABASE " + quote(t.work) + " RENAME TO " + quote(t.spec.Name)
	if there {
		if aside, err = t.spec.AsideName(63, func(name string) (bool, error) {
			return t.s.has(ctx, name)
		}); err != nil {
			return "", err
		}
		rename = "ALTER DATABASE " + quote(t.spec.Name) + " RENAME TO " + quote(aside) + "; " + rename
	}
	// The mark inside goes first, and a comment takes its place: that leaves in the same
	// transaction in which the names change. Whoever is killed anywhere here leaves
	// nothing of ours in a database that somebody uses.
	comment, err := t.comment(ctx)
	if err != nil {
		return "", err
	}
	if _, err := t.s.home.Exec(ctx, "COMMENT ON DATABASE "+quote(t.work)+" IS "+literal(markComment(t.spec.KeepID,
		t.spec.Run))); err != nil {
		return "", fmt.Errorf("marking the database: %w", err)
	}
	if err := t.inside(ctx, "DROP SCHEMA "+t.mark()+" CASCADE"); err != nil {
		return "", fmt.Errorf("taking the mark off: %w", err)
	}
	t.out()
	if there && t.spec.Disconnect {
		if err := t.s.clearOut(ctx, t.spec.Name); err != nil {
			return "", errors.Join(err, t.s.letIn(ctx, t.spec.Name))
		}
		rename = "ALTER DATABASE " + quote(t.spec.Name) + " WITH ALLOW_CONNECTIONS true; " + rename
	}
	// Statements that are sent as one are one transaction.
	if _, err := t.s.home.Exec(ctx, rename+"; COMMENT ON DATABASE "+quote(t.spec.Name)+" IS "+comment); err != nil {
		err = fmt.Errorf("renaming the databases: %w", err)
		if there && t.spec.Disconnect {
			err = errors.Join(err, t.s.letIn(ctx, t.spec.Name))
		}
		return "", err
	}
	t.work = t.spec.Name
	return aside, nil
}

// markComment is the comment of a restored database whose name is about to change.
func markComment(keepID, run string) string { return markSchema + " " + keepID + " " + run }

// comment is the database's own comment, as SQL.
func (t *target) comment(ctx context.Context) (string, error) {
	var text *string
	err := t.s.home.QueryRow(ctx, "SELECT shobj_description(oid, 'pg_database') FROM pg_database WHERE datname = $1",
		t.work).Scan(&text)
	if err != nil || text == nil {
		return "NULL", err
	}
	return literal(*text), nil
}

func (s *source) has(ctx context.Context, database string) (there bool, err error) {
	err = s.home.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)", database).Scan(&there)
	return there, err
}

// Discard drops the database under its working name; it is this process's own.
func (t *target) Discard(ctx context.Context) error {
	if t.spec.Name == engine.ServerWide {
		return nil
	}
	if t.spec.Into {
		return t.leave(ctx)
	}
	t.out()
	if drop(ctx, t.s, t.work, force(t.s.version)) == nil {
		return nil
	}
	// The connection may be what was lost or cancelled: try with a new one.
	again, err := driver{}.Open(ctx, t.s.at)
	if err != nil {
		return err
	}
	defer again.Close()
	return drop(ctx, again.(*source), t.work, force(t.s.version))
}

// Codes of the server's errors about a database that is to be dropped.
const (
	codeInUse    = "55006"
	codeTemplate = "42809"
	codeDenied   = "42501"
)

// drop removes a scratch database, and ends its sessions when told to. A subscription in it would hold it fast.
func drop(ctx context.Context, s *source, name, force string) error {
	statement := "DROP DATABASE IF EXISTS " + quote(name) + force
	_, err := s.home.Exec(ctx, statement)
	var pg *pgconn.PgError
	if !errors.As(err, &pg) || pg.Code != codeInUse && pg.Code != codeTemplate && pg.Code != codeDenied {
		return err
	}
	if pg.Code == codeDenied {
		if force == "" {
			return err
		}
		// An account that is no superuser may not end autovacuum's worker in it; without force, the server does itself.
		return drop(ctx, s, name, "")
	}
	if pg.Code == codeTemplate {
		_, err = s.home.Exec(ctx, "ALTER DATABASE "+quote(name)+" IS_TEMPLATE false")
		if err == nil {
			_, err = s.home.Exec(ctx, statement)
		}
		return err
	}
	c, err := s.connect(ctx, name)
	if err != nil {
		return err
	}
	_, err = c.Exec(ctx, `DO $do$DECLARE s name; BEGIN FOR s IN SELECT subname FROM pg_subscription WHERE subdbid =
		(SELECT oid FROM pg_database WHERE datname = current_database())
		LOOP EXECUTE format('ALTER SUBSCRIPTION %I SET (slot_name = NONE)', s); EXECUTE
			format('DROP SUBSCRIPTION %I', s); END LOOP; END$do$`)
	if err = errors.Join(err, closeConn(c)); err != nil {
		return err
	}
	_, err = s.home.Exec(ctx, statement)
	return err
}

func force(version int) string {
	if version >= 130000 {
		return " WITH (FORCE)"
	}
	return ""
}

// Missing lists the roles that the server lacks.
func (t *target) Missing(ctx context.Context, roles []string) ([]string, error) {
	plain := make([]string, len(roles))
	for i, r := range roles {
		plain[i] = plainRole(r)
	}
	rows, err := t.s.home.Query(ctx, "SELECT r FROM unnest($1::text[], $2::text[]) x(r, plain) WHERE plain NOT IN (SELECT "+
		"rolname FROM pg_roles) ORDER BY 1", roles, plain)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// Sweep drops the scratch databases of a keep whose maker is gone: those that
// bear its mark, and those that carry its id in their name and hold nothing yet,
// because their maker was killed before it could mark them. Anything else with
// such a name is only listed.
func (s *source) Sweep(ctx context.Context, keepID string) (engine.Swept, error) {
	var swept engine.Swept
	names, err := s.scratch(ctx)
	if err != nil {
		return swept, err
	}
	for _, name := range names {
		ours, err := s.ours(ctx, name, keepID)
		if err != nil {
			return swept, err
		}
		if ours {
			err = drop(ctx, s, name, "")
		}
		if !ours || err != nil { // an error: somebody uses it
			swept.Foreign = append(swept.Foreign, name)
			continue
		}
		swept.Removed = append(swept.Removed, name)
	}
	return swept, nil
}

// scratch lists the databases with scratch names whose maker is not alive.
func (s *source) scratch(ctx context.Context) ([]string, error) {
	rows, err := s.home.Query(ctx, `SELECT datname::text FROM pg_database
		WHERE starts_with(datname, '`+engine.DrillPrefix+`') OR starts_with(datname, '`+engine.RestorePrefix+`') ORDER BY 1`)
	if err != nil {
		return nil, err
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, err
	}
	rows, err = s.home.Query(ctx,
		"SELECT objid::bigint FROM pg_locks WHERE locktype = 'advisory' AND classid::bigint = $1", int64(liveClass))
	if err != nil {
		return nil, err
	}
	locks, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	return slices.DeleteFunc(names, func(name string) bool {
		run := name[strings.LastIndexByte(name, '_')+1:]
		return slices.Contains(locks, int64(uint32(lockObject(run))))
	}), err
}

func (s *source) ours(ctx context.Context, database, keepID string) (bool, error) {
	var commented bool
	err := s.home.QueryRow(ctx, `SELECT coalesce(starts_with(shobj_description(oid, 'pg_database'), $2), false)
		FROM pg_database WHERE datname = $1`, database, markComment(keepID, "")).Scan(&commented)
	if errors.Is(err, pgx.ErrNoRows) {
		return false, nil // somebody else dropped it
	}
	if err != nil || commented {
		return commented, err
	}
	c, err := s.connect(ctx, database)
	if ctx.Err() != nil {
		return false, context.Cause(ctx)
	}
	if err != nil {
		return false, nil //nolint:nilerr // who may not look into it does not own it
	}
	defer closeConn(c)
	rows, err := c.Query(ctx, `SELECT quote_ident(n.nspname) FROM pg_namespace n JOIN pg_class c ON c.relnamespace = n.oid
		WHERE starts_with(n.nspname, '`+markSchema+`') AND c.relname = 'mark'`)
	if err != nil {
		return false, err
	}
	marks, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return false, err
	}
	for _, mark := range marks {
		var ours bool
		if c.QueryRow(ctx, "SELECT EXISTS (SELECT FROM "+mark+".mark WHERE keep = $1)", keepID).Scan(&ours) == nil &&
			ours {
			return true, nil // another may not be read by this user, or be somebody's own
		}
	}
	if len(marks) > 0 || !engine.WorkOf(keepID, database) {
		return false, nil
	}
	var empty bool
	return empty, c.QueryRow(ctx, `SELECT NOT EXISTS (SELECT FROM pg_class WHERE oid >= 16384)
		AND NOT EXISTS (SELECT FROM pg_proc WHERE oid >= 16384) AND NOT EXISTS (SELECT FROM pg_namespace WHERE oid
			>= 16384)`).Scan(&empty)
}
