package postgres

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
)

// snapshot is one exported snapshot with all tables locked. The connection that
// holds it reads the catalog; rows are read by others.
type snapshot struct {
	s        *source
	database string
	c        *pgx.Conn
	name     string // of the exported snapshot
	moment   time.Time
	cat      *engine.Catalog
	log      *logAt                 // the place in the log at which it stands; nil: it is not known
	noLog    error                  // why
	follow   map[string]followedRow // what the log tells of the tables, by ID
	moved    string                 // what was changed while it was read
	reading  sync.Mutex             // one reader at a time borrows c
}

// tries to lock a set of tables that others keep changing
const tries = 20

// Snapshot locks every table in share mode first and takes the snapshot then: a
// TRUNCATE or a rewrite that comes between a snapshot and the first read of a
// table would make it read as empty.
func (s *source) Snapshot(ctx context.Context, database string) (engine.Snapshot, error) {
	if database == engine.ServerWide {
		return s.serverSnapshot(ctx)
	}
	return s.snapshot(ctx, database, "")
}

// snapshot leaves out the schema that is the mark of a scratch database, if there is one.
func (s *source) snapshot(ctx context.Context, database, mark string) (*snapshot, error) {
	c, err := s.connect(ctx, database)
	if err != nil {
		return nil, err
	}
	if mark != "" {
		if _, err := c.Exec(ctx, "SELECT set_config('grainkeep.mark', $1, false)", mark); err != nil {
			closeConn(c)
			return nil, err
		}
	}
	snap := &snapshot{s: s, database: database, c: c}
	if err := snap.readable(ctx); err != nil {
		closeConn(c)
		return nil, err
	}
	for n := 0; ; n++ {
		whole, err := snap.try(ctx)
		if err == nil && whole {
			break
		}
		if err == nil && n == tries {
			err = fault.New("structure-changing", nil,
				"the structure of %s is being changed all the time; just now: %s", database, snap.moved).
				Advise("dump it at a quieter hour")
		}
		if err != nil {
			closeConn(c)
			return nil, err
		}
	}
	if snap.log != nil {
		snap.cat.Position = &snap.log.position
	}
	for i := range snap.cat.Tables {
		snap.cat.Tables[i].Shares = s.shares()
	}
	return snap, nil
}

// lockTable is a row of lockable.sql.
type lockTable struct {
	OID        uint32
	Name       string
	InSnapshot uint32 // the file that the snapshot's catalog names
	Now        uint32 // the file that there is
}

func lockTables(ctx context.Context, c *pgx.Conn) ([]lockTable, error) {
	sql, err := query(0, "lockable", nil)
	if err != nil {
		return nil, err
	}
	rows, err := c.Query(ctx, sql)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[lockTable])
}

// try takes the snapshot and reads what it shows. It is not whole when anything was
// changed meanwhile.
func (p *snapshot) try(ctx context.Context) (whole bool, err error) {
	if err := p.place(ctx); err != nil {
		return false, err
	}
	if whole, err := p.fix(ctx); err != nil || !whole {
		return false, err
	}
	if p.cat, err = readCatalog(ctx, p.c, p.s.version); err == nil {
		err = p.markLog(ctx)
	}
	if err == nil {
		p.moved, err = p.changed(ctx)
	} else if fault.HasCode(err, "object-gone") {
		p.moved, err = err.Error(), nil
	}
	if err != nil || p.moved == "" {
		return err == nil, err
	}
	_, err = p.c.Exec(ctx, "ROLLBACK")
	return false, err
}

// place finds a place in the log for the snapshot, where the log is to be followed. Before the locks: a slot waits for
// all who write, and they may wait for a lock.
func (p *snapshot) place(ctx context.Context) (err error) {
	p.log.close()
	p.log, p.noLog = nil, nil
	if !p.s.at.Log {
		return nil
	}
	p.log, err = p.s.toLog(ctx, p.database)
	if fault.HasCode(err, engine.LogUnusable) {
		p.noLog, err = err, nil
	}
	return err
}

// fix locks the tables that there are and takes the snapshot. It is not whole
// when the snapshot shows other tables than were locked.
func (p *snapshot) fix(ctx context.Context) (whole bool, err error) {
	before, err := lockTables(ctx, p.c)
	if err != nil {
		return false, err
	}
	if _, err := p.c.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"); err != nil {
		return false, err
	}
	if err := p.lock(ctx, before); err != nil {
		p.c.Exec(ctx, "ROLLBACK")
		if fault.HasCode(err, "table-gone") {
			p.moved = err.Error()
			return false, nil
		}
		return false, err
	}
	if p.log != nil {
		if _, err := p.c.Exec(ctx, "SET TRANSACTION SNAPSHOT "+literal(p.log.snapshot)); err != nil {
			return false, err
		}
	}
	// The first query after the locks fixes the moment.
	var sees string
	err = p.c.QueryRow(ctx, "SELECT pg_export_snapshot(), clock_timestamp(), txid_current_snapshot()::text").Scan(&p.name,
		&p.moment, &sees)
	if err != nil {
		return false, err
	}
	if p.log != nil {
		p.log.position.Snapshot = sees
	}
	after, err := lockTables(ctx, p.c)
	if err != nil {
		return false, err
	}
	if p.moved = differing(before, after); p.moved != "" {
		_, err := p.c.Exec(ctx, "ROLLBACK")
		return false, err
	}
	return true, nil
}

// differing names a table that was made, dropped, renamed or rewritten in between;
// empty, if there is none.
func differing(before, after []lockTable) string {
	old := map[uint32]string{}
	for _, b := range before {
		old[b.OID] = b.Name
	}
	for _, a := range after {
		if old[a.OID] != a.Name || a.InSnapshot != a.Now {
			return a.Name
		}
		delete(old, a.OID)
	}
	for _, name := range old {
		return name
	}
	return ""
}

func (p *snapshot) lock(ctx context.Context, tables []lockTable) error {
	if len(tables) == 0 {
		return nil
	}
	names := make([]string, len(tables))
	for i, t := range tables {
		names[i] = t.Name
	}
	_, err := p.c.Exec(ctx, p.s.lockTimeout()+"LOCK TABLE ONLY "+strings.Join(names, ", ONLY ")+
		" IN ACCESS SHARE MODE; SET LOCAL lock_timeout = 0")
	var pg *pgconn.PgError
	if !errors.As(err, &pg) {
		return err
	}
	switch pg.Code {
	case "55P03":
		return p.lockHolder(ctx, tables)
	case "42P01", "3F000":
		return fault.New("table-gone", err, "a table of %s was dropped or renamed just now", p.database)
	case "42501":
		return fault.New("rights-missing", nil, "%s", pg.Message).
			Advise("'grainkeep grants' prints the SQL that gives this user what a dump needs")
	case "53200":
		return fault.New("locks-short", nil, "the server has no room to lock the %d tables of %s: %s", len(tables),
			p.database, pg.Message).Advise("raise max_locks_per_transaction there, and restart it")
	}
	return err
}

// lockHolder names the session that keeps a table locked.
func (p *snapshot) lockHolder(ctx context.Context, tables []lockTable) error {
	oids := make([]string, len(tables))
	for i, t := range tables {
		oids[i] = fmt.Sprint(t.OID)
	}
	e := fault.New("lock-wait", nil, "a table of %s stayed locked for %s", p.database, phrase.Duration(p.s.at.LockWait)).
		Advise("end the session that holds it, dump at a quieter hour, or give lock_wait more time")
	var pid int32
	var table, user, app, query string
	err := p.s.home.QueryRow(ctx, `SELECT l.pid, l.relation, coalesce(a.usename::text, '?'),
		coalesce(a.application_name, ''),
		left(coalesce(a.query, ''), 80)
		FROM pg_locks l LEFT JOIN pg_stat_activity a ON a.pid = l.pid
		WHERE l.granted AND l.mode = 'AccessExclusiveLock' AND l.locktype = 'relation'
		AND l.relation IN (`+strings.Join(oids, ",")+`) ORDER BY a.xact_start LIMIT 1`).Scan(&pid, &table, &user, &app, &query)
	if err == nil {
		for _, t := range tables {
			if fmt.Sprint(t.OID) == table {
				table = t.Name
			}
		}
		e.What = fmt.Sprintf("%s in %s stayed locked for %s by process %d of the server (user %s, %s): %s",
			table, p.database, phrase.Duration(p.s.at.LockWait), pid, user, app, query)
	}
	return e
}

func (p *snapshot) Moment() time.Time        { return p.moment }
func (p *snapshot) Catalog() *engine.Catalog { return p.cat }
func (p *snapshot) Width() int               { return p.s.workers() }

// shares is how many readers a large table is divided among. Compressing takes
// about a core for each reader; so does the server, where it is on this machine.
func (s *source) shares() int {
	if s.local() {
		return max(1, s.workers()/2)
	}
	return s.workers()
}

// workers is how many connections read or load: one for each core, unless the job
// wants fewer.
func (s *source) workers() int {
	if s.at.Workers > 0 {
		return min(s.at.Workers, runtime.GOMAXPROCS(0))
	}
	return runtime.GOMAXPROCS(0)
}

// Close ends the snapshot.
func (p *snapshot) Close() error {
	p.log.close()
	return closeConn(p.c)
}

// Confirm fails if the transaction that holds the locks and the snapshot did not
// live to the end, or a table got another file all the same.
func (p *snapshot) Confirm(ctx context.Context) ([]string, error) {
	if p.database == engine.ServerWide {
		return nil, p.c.Ping(ctx)
	}
	tables, err := lockTables(ctx, p.c)
	if err != nil {
		return nil, fault.New("snapshot-lost", err, "the session that held the snapshot of %s was lost", p.database).
			Advise("look into the server's log; nothing was dumped")
	}
	for _, t := range tables {
		if t.InSnapshot != t.Now {
			return nil, fault.New("table-rewritten", nil, "%s was rewritten while it was dumped", t.Name).
				Advise("take the dump again")
		}
	}
	return nil, nil
}

// Ask runs a check in the snapshot, on a connection of its own.
func (p *snapshot) Ask(ctx context.Context, sql string) (string, error) {
	c, err := p.join(ctx)
	if err != nil {
		return "", err
	}
	defer closeConn(c)
	results, err := c.PgConn().Exec(ctx, sql).ReadAll()
	if err != nil {
		return "", plain(ctx, c, err)
	}
	var lines []string
	for _, r := range results {
		for _, row := range r.Rows {
			values := make([]string, len(row))
			for i, v := range row {
				values[i] = string(v)
			}
			lines = append(lines, strings.Join(values, "|"))
		}
	}
	return strings.Join(lines, "\n"), nil
}

// join opens a connection on the same snapshot.
func (p *snapshot) join(ctx context.Context) (*pgx.Conn, error) {
	c, err := p.s.connect(ctx, p.database)
	if err != nil {
		return nil, err
	}
	_, err = c.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; SET TRANSACTION SNAPSHOT "+literal(p.name))
	if err != nil {
		closeConn(c)
		return nil, fmt.Errorf("joining the snapshot: %w", err)
	}
	return c, nil
}

// Pin has nothing to do: a snapshot of this server is of one database.
func (s *source) Pin(context.Context, []string, string) error { return nil }
