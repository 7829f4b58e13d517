package mysql

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/pattern"
)

// mark is a table inside a scratch database that tells whose it is, and, once it is
// complete, which name it gets and which one the old database of that name. That its maker is
// alive is told by a lock of the server's under the run's name, taken before the
// database exists.
const mark = "grainkeep_scratch"

// marks says whether a table is a mark.
func marks(database, table string) bool {
	return table == mark && (strings.HasPrefix(database, engine.DrillPrefix) || strings.HasPrefix(database,
		engine.RestorePrefix))
}

func liveLock(run string) string { return "grainkeep_" + run }

type target struct {
	s      *source
	spec   engine.TargetSpec
	work   string
	moving bool // its names are changing: it is no longer to be discarded
}

// Target makes a new database under a working name, locked and marked.
func (s *source) Target(ctx context.Context, spec engine.TargetSpec) (engine.Target, error) {
	t := &target{s: s, spec: spec, work: spec.WorkName()}
	switch {
	case spec.Name == engine.ServerWide: // its statements are whole each, and change nothing that is there
		t.spec.Into, t.work = true, ""
		return t, nil
	case spec.Into:
		t.work = spec.Name
		return t, t.enter(ctx)
	case spec.Name != "" && !spec.Add:
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

func (t *target) create(ctx context.Context) error {
	create, err := createDatabase(t.work, t.spec.Facts)
	if err != nil {
		return err
	}
	if err := t.s.loosen(ctx, t.s.home); err != nil { // the mark has no key either
		return err
	}
	if _, err := t.s.home.value(ctx, "SELECT get_lock("+literal(liveLock(t.spec.Run))+", 0)"); err != nil {
		return err
	}
	if _, err := t.s.home.exec(ctx, create); err != nil {
		return fmt.Errorf("creating the database: %w", err)
	}
	_, err = t.s.home.exec(ctx,
		fmt.Sprintf("CREATE TABLE %s.%s (keep varchar(64), run varchar(64), name varchar(64), aside varchar(64)) "+
			"CHARACTER SET utf8mb4; INSERT INTO %s.%s VALUES (%s, %s, '', '')",
			quote(t.work), mark, quote(t.work), mark, literal(t.spec.KeepID), literal(t.spec.Run)))
	return err
}

// word is what names of character sets and collations look like.
var word = pattern.Of(`^[0-9A-Za-z_]+$`)

// createDatabase is the statement that makes a database with the facts of a dump, which
// are not to be trusted.
func createDatabase(name string, facts map[string]string) (string, error) {
	for _, f := range []string{"charset", "collation"} {
		if !word().MatchString(facts[f]) {
			return "", fault.New("restore-failed", nil, "the dump's %s is %.40q, which is no name of one", f, facts[f])
		}
	}
	sql := "CREATE DATABASE " + quote(name) + " CHARACTER SET " + facts["charset"] + " COLLATE " + facts["collation"]
	if c := facts["comment"]; c != "" {
		sql += " COMMENT " + literal(c)
	}
	return sql, nil
}

// Vacant fails when the target exists and may not be moved aside, or is in use.
func (s *source) Vacant(ctx context.Context, spec engine.TargetSpec) error {
	there, err := s.has(ctx, spec.Name)
	if err != nil || !there {
		return err
	}
	users, err := s.home.value(ctx,
		"SELECT count(*) FROM information_schema.processlist WHERE db = "+literal(spec.Name)+" AND id <> connection_id()")
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(users)
	if err != nil {
		return err
	}
	return engine.Occupied(spec, s.where(), n)
}

func (s *source) has(ctx context.Context, database string) (bool, error) {
	n, err := s.home.value(ctx,
		"SELECT count(*) FROM information_schema.schemata WHERE schema_name = "+literal(database))
	return n != "0", err
}

// Width is all workers: an index is made by one of the server's threads.
func (t *target) Width() (rows, after int) {
	n := t.s.workers()
	if t.s.local() && t.s.at.Workers == 0 {
		n *= 2
	}
	return n, n
}

// Settings tells which settings were made for speed.
func (t *target) Settings() []string {
	return []string{"foreign_key_checks = 0", "one transaction a file", "rows by LOAD DATA"}
}

// Session is a connection in the new database.
func (t *target) Session(ctx context.Context) (engine.Session, error) {
	c, err := t.s.connect(ctx, t.work)
	if err != nil {
		return nil, err
	}
	if err := t.s.loosen(ctx, c); err != nil {
		c.close()
		return nil, err
	}
	return &session{c: c, maria: t.s.maria}, nil
}

// Snapshot reads back what was restored.
func (t *target) Snapshot(ctx context.Context) (engine.Snapshot, error) {
	return t.s.Snapshot(ctx, t.work)
}

// Finish moves everything into the database of the final name. What it is about to do
// stands in the mark: Sweep does the rest of it if this process is killed.
func (t *target) Finish(ctx context.Context) (aside string, err error) {
	if t.spec.Into {
		return "", nil
	}
	if t.spec.Add {
		return "", t.s.merge(ctx, t.work, t.spec.Name, t.spec.Warn)
	}
	if err := t.s.Vacant(ctx, t.spec); err != nil {
		return "", err
	}
	there, err := t.s.has(ctx, t.spec.Name)
	if err != nil {
		return "", err
	}
	if there {
		if aside, err = t.spec.AsideName(64, func(name string) (bool, error) {
			return t.s.has(ctx, name)
		}); err != nil {
			return "", err
		}
	}
	if err := t.s.intend(ctx, t.work, t.spec.Name, aside); err != nil {
		return "", err
	}
	if there && t.spec.Disconnect {
		if err := t.s.clearOut(ctx, t.spec.Name); err != nil {
			return "", err
		}
	}
	lost, err := t.s.place(ctx, t.work, t.spec.Name, aside)
	for _, l := range lost {
		t.spec.Warn(l)
	}
	t.moving = fault.HasCode(err, codeUnfinished)
	return aside, err
}

// intend writes into the mark what is to be done.
func (s *source) intend(ctx context.Context, work, name, aside string) error {
	_, err := s.home.exec(ctx, fmt.Sprintf("UPDATE %s.%s SET name = %s, aside = %s", quote(work), mark, literal(name),
		literal(aside)))
	return err
}

// place moves an old database aside and a restored one into its place. An error other than
// codeUnfinished means that the old one is in its place.
func (s *source) place(ctx context.Context, work, name, aside string) (lost []string, err error) {
	if aside != "" {
		if lost, err = s.move(ctx, name, aside); err != nil {
			return lost, fmt.Errorf("moving the old database aside: %w", err)
		}
		if err := s.intend(ctx, work, name, ""); err != nil {
			return lost, unfinished(err, name, aside)
		}
	}
	more, err := s.move(ctx, work, name)
	if err == nil {
		return append(lost, more...), nil
	}
	err = fmt.Errorf("moving the restored database into place: %w", err)
	if aside != "" && !fault.HasCode(err, codeUnfinished) {
		if _, e := s.move(ctx, aside, name); e != nil {
			return lost, unfinished(errors.Join(err, e), name, aside)
		}
	}
	return lost, err
}

// Discard drops the database under its working name; it is this process's own.
func (t *target) Discard(ctx context.Context) error {
	if t.spec.Name == engine.ServerWide || t.moving {
		return nil
	}
	if t.spec.Into {
		return t.leave(ctx)
	}
	drop := "DROP DATABASE IF EXISTS " + quote(t.work)
	if _, err := t.s.home.exec(ctx, drop); err == nil {
		return nil
	}
	// The connection may be what was lost or cancelled: try with a new one.
	c, err := t.s.connect(ctx, "")
	if err != nil {
		return err
	}
	defer c.close()
	_, err = c.exec(ctx, drop)
	return err
}

// Missing lists the users and roles that the server lacks.
func (t *target) Missing(ctx context.Context, roles []string) (missing []string, err error) {
	rows, err := t.s.home.rows(ctx,
		"SELECT concat('`', replace(user, '`', '``'), '`', IF(host = '', '', concat('@`', replace(host, '`', "+
			"'``'), '`'))) FROM mysql.user")
	if err != nil {
		return nil, nil //nolint:nilerr // this user may not know; the server will say what it lacks
	}
	for _, role := range roles {
		if !slices.ContainsFunc(rows, func(r []string) bool { return r[0] == role }) {
			missing = append(missing, role)
		}
	}
	return missing, nil
}
