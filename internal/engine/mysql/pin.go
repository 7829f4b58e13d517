package mysql

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
)

// pin is one moment of several databases: readers whose snapshots are the same, each
// of which has touched every table and so keeps it from being altered, renamed,
// emptied or dropped until the reader ends.
type pin struct {
	databases []string
	readers   []*conn
	free      chan *conn
	moment    time.Time
	position  engine.Position
	tables    []pinned
	inside    []pinned        // those of them that a snapshot holds
	outside   []pinned        // those that none does
	broken    map[pinned]bool // unions of tables that are gone
	keeper    *conn           // keeps writers out of tables without transactions
	firm      bool            // the lock is one that writers wait for, also while it is waited for
}

// pinned is a table of a pin.
type pinned struct{ database, name, kind string }

func (p *pin) release() {
	if p == nil {
		return
	}
	for _, c := range p.readers {
		c.close()
	}
	p.keeper.close()
}

// Pin takes one moment of several databases.
func (s *source) Pin(ctx context.Context, databases []string, _ string) error {
	s.pinned.release()
	var err error
	s.pinned, err = s.pin(ctx, databases, s.workers())
	return err
}

// pin tries until nothing changes meanwhile, or the wait for locks is over.
func (s *source) pin(ctx context.Context, databases []string, readers int) (*pin, error) {
	end := time.Now().Add(s.at.LockWait)
	for n := 0; ; n++ {
		p := &pin{databases: databases, broken: map[pinned]bool{}, firm: !s.maria && n >= politeTurns}
		whole, err := s.try(ctx, p, readers)
		if err == nil && whole {
			err = s.nameLog(ctx, p)
		}
		if err == nil && whole {
			p.free = make(chan *conn, len(p.readers))
			for _, c := range p.readers {
				p.free <- c
			}
			return p, nil
		}
		p.release()
		if hasCode(err, codeLockWait, codeDeadlock) && !sleep(ctx, time.Second) {
			return nil, context.Cause(ctx)
		}
		if hasCode(err, codeNoTable) || hasCode(err, codeLockWait, codeDeadlock) && time.Now().Before(end) {
			err = nil
		}
		switch {
		case hasCode(err, codeLockWait, codeDeadlock):
			return nil, fault.New("locked", nil, "the tables could not be pinned within %s: others hold a lock",
				phrase.Duration(s.at.LockWait)).Advise("%s", s.holders(ctx))
		case err != nil:
			return nil, err
		case time.Now().After(end):
			return nil, fault.New("structure-changing", nil,
				"tables of %s are being made, renamed or dropped all the time", strings.Join(databases,
					", ")).Advise("dump it at a quieter hour")
		}
	}
}

// politeTurns is how often the tables are asked for in a way that lets new writers go first. On MySQL, where that may
// never end, they are then asked for firmly.
const politeTurns = 3

// nameLog says which log the position is of.
func (s *source) nameLog(ctx context.Context, p *pin) (err error) {
	if p.position.File == "" {
		return nil
	}
	if p.position.System, err = s.system(ctx); err != nil || !s.at.Log {
		return err
	}
	if p.position.Applied, err = s.applied(ctx); err == nil {
		p.position.Began, err = s.began(ctx, p.position)
	}
	return err
}

// sleep waits, unless the context ends.
func sleep(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// try takes a moment. Before any snapshot exists a guard touches every table, so that
// none is renamed or altered between a snapshot and its reader's own touch: a snapshot
// does not survive that, and says nothing.
func (s *source) try(ctx context.Context, p *pin, readers int) (whole bool, err error) {
	guard, err := s.connect(ctx, "")
	if err != nil {
		return false, err
	}
	defer guard.close()
	if p.tables, err = s.tables(ctx, guard, p.databases); err != nil {
		return false, err
	}
	if err := p.touch(ctx, guard, "START TRANSACTION"); err != nil {
		return false, err
	}
	again, err := s.tables(ctx, guard, p.databases)
	if err != nil || !slices.Equal(p.tables, again) {
		return false, err
	}
	if err := s.divide(ctx, p); err != nil {
		return false, err
	}
	for range readers {
		c, err := s.connect(ctx, "")
		if err != nil {
			return false, err
		}
		p.readers = append(p.readers, c)
	}
	if readers > 1 || !s.maria {
		err = s.together(ctx, p)
	} else {
		err = s.alone(ctx, p)
	}
	if err != nil {
		return false, err
	}
	for _, c := range p.readers {
		if err := p.touch(ctx, c, "SET lock_wait_timeout = 1"); err != nil {
			return false, err
		}
	}
	return true, nil
}

// alone starts the snapshot of the only reader, which needs no lock on MariaDB.
func (s *source) alone(ctx context.Context, p *pin) error {
	if err := s.hold(ctx, p); err != nil {
		return err
	}
	if _, err := p.readers[0].exec(ctx, begin); err != nil {
		return err
	}
	return s.positionOf(ctx, p)
}

// hold locks the tables that no snapshot holds against writers, if the job says so.
func (s *source) hold(ctx context.Context, p *pin) (err error) {
	if !s.at.Hold {
		return nil
	}
	if len(p.outside) == 0 {
		return nil
	}
	if p.keeper, err = s.connect(ctx, ""); err == nil {
		_, err = p.keeper.exec(ctx, lockTables(p.outside))
	}
	return err
}

// divide tells the tables that a snapshot holds from the others. Sequences are neither
// here nor there: their state is that of this instant.
func (s *source) divide(ctx context.Context, p *pin) error {
	p.inside, p.outside = nil, nil
	for _, d := range p.databases {
		rows, err := s.home.rows(ctx, "SELECT table_name, coalesce(engine, '') FROM information_schema.tables "+
			"WHERE table_schema = "+literal(d)+" AND table_type <> 'VIEW'")
		if err != nil {
			return err
		}
		engines := map[string]string{}
		for _, r := range rows {
			engines[r[0]] = r[1]
		}
		for _, t := range p.tables {
			switch {
			case t.database != d || t.kind == "SEQUENCE" || p.broken[t]:
			case transactional(engines[t.name]):
				p.inside = append(p.inside, t)
			default:
				p.outside = append(p.outside, t)
			}
		}
	}
	return nil
}

// lockTables is the statement that keeps writers out of tables.
func lockTables(tables []pinned) string {
	if len(tables) == 0 {
		return "DO 0"
	}
	var list []string
	for _, t := range tables {
		list = append(list, quote(t.database)+"."+quote(t.name)+" READ")
	}
	return "LOCK TABLES " + strings.Join(list, ", ")
}

// lock is the statement that keeps writers out of the tables that a snapshot holds.
func (p *pin) lock(may bool) string {
	if !p.firm || !may || len(p.inside) == 0 { // without tables it would lock them all
		return lockTables(p.inside)
	}
	list := make([]string, len(p.inside))
	for i, t := range p.inside {
		list[i] = quote(t.database) + "." + quote(t.name)
	}
	return "FLUSH TABLES " + strings.Join(list, ", ") + " WITH READ LOCK"
}

// begin starts a snapshot.
const begin = "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ; START TRANSACTION WITH CONSISTENT SNAPSHOT"

// together starts the snapshots of several readers while nobody can write to the tables of
// the pin: who has begun to is waited for, and nobody commits meanwhile. Other tables, and
// those who read, are left alone; whatever happens there is no part of the moment, and the
// log's position is as good for it after as before.
func (s *source) together(ctx context.Context, p *pin) error {
	lock, err := s.connect(ctx, "")
	if err != nil {
		return err
	}
	defer lock.close()
	// While it is waited for, others may not be able to begin to write to a table: short turns.
	_, err = lock.exec(ctx, "SET lock_wait_timeout = 2; "+p.lock(true))
	if p.firm && fault.HasCode(err, "rights-missing") {
		_, err = lock.exec(ctx, p.lock(false))
	}
	if err != nil {
		if fault.HasCode(err, "rights-missing") && s.maria { // one reader needs no lock
			for _, c := range p.readers[1:] {
				c.close()
			}
			p.readers = p.readers[:1]
			return s.alone(ctx, p)
		}
		return err
	}
	// Not before: a writer that waits for these tables would keep the lock away.
	if err := s.hold(ctx, p); err != nil {
		return err
	}
	for _, c := range p.readers {
		if _, err := c.exec(ctx, begin); err != nil {
			return err
		}
	}
	if p.moment, err = now(ctx, lock); err != nil {
		return err
	}
	if at := lock.logStatus(ctx); len(at) > 1 {
		if p.position.Offset, err = strconv.ParseInt(at[1], 10, 64); err != nil {
			return fmt.Errorf("the server's log position is %.40q", at[1])
		}
		p.position.File = at[0]
		if !s.maria && len(at) > 4 {
			p.position.GTID = strings.ReplaceAll(at[4], "\n", "")
		}
	}
	if gtid, err := lock.value(ctx, "SELECT @@gtid_binlog_pos"); s.maria && err == nil && gtid != "" {
		p.position.GTID = gtid
	}
	return nil // closing the connection lets go of the lock
}

// positionOf asks MariaDB for the position that belongs to the only reader's snapshot.
func (s *source) positionOf(ctx context.Context, p *pin) (err error) {
	if p.moment, err = now(ctx, p.readers[0]); err != nil {
		return err
	}
	rows, err := p.readers[0].rows(ctx, "SHOW STATUS LIKE 'binlog_snapshot_%'")
	for _, r := range rows {
		switch {
		case r[1] == "" || r[1] == "0":
		case strings.EqualFold(r[0], "binlog_snapshot_file"):
			p.position.File = r[1]
		case strings.EqualFold(r[0], "binlog_snapshot_position"):
			if p.position.Offset, err = strconv.ParseInt(r[1], 10, 64); err != nil {
				return fmt.Errorf("the server's log position is %.40q", r[1])
			}
		}
	}
	if err == nil && p.position.File != "" {
		gtid, err := s.home.value(ctx, fmt.Sprintf("SELECT binlog_gtid_pos(%s, %d)", literal(p.position.File),
			p.position.Offset))
		if err == nil && gtid != "" {
			p.position.GTID = gtid
		}
	}
	return err
}

func now(ctx context.Context, c *conn) (time.Time, error) {
	t, err := c.value(ctx, "SELECT utc_timestamp(6)")
	if err != nil {
		return time.Time{}, err
	}
	return time.Parse("2006-01-02 15:04:05.000000", t)
}

// tables lists the tables whose rows are dumped. The server's information tables would
// leave out one that somebody is just changing.
func (s *source) tables(ctx context.Context, c *conn, databases []string) (list []pinned, err error) {
	for _, d := range databases {
		rows, err := c.rows(ctx, "SHOW FULL TABLES FROM "+quote(d)+" WHERE table_type NOT LIKE '%VIEW'")
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			if !marks(d, r[0]) {
				list = append(list, pinned{d, r[0], r[1]})
			}
		}
	}
	return list, nil
}

// touch opens every table in a transaction; one without transactions before those who
// wait to write to it, since they may wait for this very pin.
func (p *pin) touch(ctx context.Context, c *conn, first string) error {
	if _, err := c.exec(ctx, first); err != nil {
		return err
	}
	for _, t := range p.tables {
		if _, err := c.rows(ctx,
			"SELECT HIGH_PRIORITY 1 FROM "+quote(t.database)+"."+quote(t.name)+" LIMIT 0"); hasCode(err,
			codeBrokenUnion) {
			p.broken[t] = true
		} else if err != nil {
			return err
		}
	}
	return nil
}

// transactional says whether an engine's tables are part of a snapshot.
func transactional(engine string) bool {
	return strings.EqualFold(engine, "InnoDB") || strings.EqualFold(engine, "ROCKSDB") || strings.EqualFold(engine,
		"TokuDB")
}
