package mysql

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"grainkeep/internal/engine"
)

// mark is a table inside a scratch database that tells whose it is. That its maker is
// alive is told by a lock of the server's under the run's name, taken before the
// database exists.
const mark = "grainkeep_scratch"

func liveLock(run string) string { return "grainkeep_" + run }

type target struct {
	s    *source
	spec engine.TargetSpec
	work string
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
	case spec.Name != "":
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

func (t *target) create(ctx context.Context) error {
	if _, err := t.s.home.value(ctx, "SELECT get_lock("+literal(liveLock(t.spec.Run))+", 0)"); err != nil {
		return err
	}
	if _, err := t.s.home.exec(ctx, createDatabase(t.work, t.spec.Facts)); err != nil {
		return fmt.Errorf("creating the database: %w", err)
	}
	_, err := t.s.home.exec(ctx, fmt.Sprintf("CREATE TABLE %s.%s (keep varchar(64), run varchar(64)) CHARACTER SET ascii; INSERT INTO %s.%s VALUES (%s, %s)",
		quote(t.work), mark, quote(t.work), mark, literal(t.spec.KeepID), literal(t.spec.Run)))
	return err
}

func createDatabase(name string, facts map[string]string) string {
	sql := "CREATE DATABASE " + quote(name) + " CHARACTER SET " + facts["charset"] + " COLLATE " + facts["collation"]
	if c := facts["comment"]; c != "" {
		sql += " COMMENT " + literal(c)
	}
	return sql
}

// vacant fails when the target exists and may not be moved aside, or is in use.
func (t *target) vacant(ctx context.Context) error {
	there, err := t.exists(ctx, t.spec.Name)
	if err != nil || !there {
		return err
	}
	users, err := t.s.home.value(ctx, "SELECT count(*) FROM information_schema.processlist WHERE db = "+literal(t.spec.Name)+" AND id <> connection_id()")
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(users)
	if err != nil {
		return err
	}
	return engine.Occupied(t.spec, t.s.where(), n)
}

func (t *target) exists(ctx context.Context, name string) (bool, error) {
	n, err := t.s.home.value(ctx, "SELECT count(*) FROM information_schema.schemata WHERE schema_name = "+literal(name))
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
	return &session{c}, nil
}

// Snapshot reads back what was restored; the mark is no part of it.
func (t *target) Snapshot(ctx context.Context) (engine.Snapshot, error) {
	if !t.spec.Into {
		if _, err := t.s.home.exec(ctx, "DROP TABLE IF EXISTS "+quote(t.work)+"."+mark); err != nil {
			return nil, err
		}
	}
	return t.s.Snapshot(ctx, t.work)
}

// Finish moves everything into the database of the final name.
func (t *target) Finish(ctx context.Context) (aside string, err error) {
	if t.spec.Into {
		return "", nil
	}
	if err := t.vacant(ctx); err != nil {
		return "", err
	}
	there, err := t.exists(ctx, t.spec.Name)
	if err != nil {
		return "", err
	}
	if there {
		aside = t.spec.Name + "_before_" + strings.ToLower(t.spec.Aside.UTC().Format("20060102T150405Z"))
		if len(aside) > 64 {
			aside = aside[len(aside)-64:]
		}
		if err := t.s.move(ctx, t.spec.Name, aside); err != nil {
			return "", fmt.Errorf("moving the old database aside: %w", err)
		}
	}
	if err := t.s.move(ctx, t.work, t.spec.Name); err != nil {
		if aside != "" {
			t.s.move(ctx, aside, t.spec.Name)
		}
		return "", fmt.Errorf("moving the restored database into place: %w", err)
	}
	return aside, nil
}

// Discard drops the database under its working name; it is this process's own.
func (t *target) Discard(ctx context.Context) error {
	if t.spec.Name == engine.ServerWide {
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
	rows, err := t.s.home.rows(ctx, "SELECT concat('`', replace(user, '`', '``'), '`', IF(host = '', '', concat('@`', replace(host, '`', '``'), '`'))) FROM mysql.user")
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

// Sweep drops the scratch databases of a keep whose maker is gone. Anything else with
// such a name is only listed.
func (s *source) Sweep(ctx context.Context, keepID string) (removed, foreign []string, err error) {
	rows, err := s.home.rows(ctx, `SELECT s.schema_name, is_used_lock(concat('grainkeep_', substring_index(s.schema_name, '_', -1))) IS NOT NULL,
		EXISTS (SELECT 1 FROM information_schema.tables t WHERE t.table_schema = s.schema_name AND t.table_name = '`+mark+`'),
		NOT EXISTS (SELECT 1 FROM information_schema.tables t WHERE t.table_schema = s.schema_name)
		FROM information_schema.schemata s WHERE s.schema_name LIKE 'grainkeep\\_drill\\_%' OR s.schema_name LIKE 'grainkeep\\_restore\\_%' ORDER BY 1`)
	if err != nil {
		return nil, nil, err
	}
	for _, r := range rows {
		name, alive, marked, empty := r[0], r[1] == "1", r[2] == "1", r[3] == "1"
		if alive {
			continue
		}
		named := engine.WorkOf(keepID, name)
		ours := named && empty
		if marked {
			keep, _ := s.home.value(ctx, "SELECT keep FROM "+quote(name)+"."+mark)
			ours = keep == keepID || named && keep == "" // a crash of the server can lose what stands in the mark
		}
		if !ours {
			foreign = append(foreign, name)
			continue
		}
		if _, err := s.home.exec(ctx, "DROP DATABASE "+quote(name)); err != nil {
			return removed, foreign, err
		}
		removed = append(removed, name)
	}
	return removed, foreign, nil
}
