package postgres

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pglogrepl"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgconn/ctxwatch"

	"grainkeep/internal/engine"
)

// The change log is read by logical decoding. A slot of the job's own keeps the log from where the chain stands; a
// publication of its own says which tables are decoded. A second slot, which lives as long as its session, gives each
// dump a snapshot with the very place in the log at which it stands.

// plugin is the server's own output plug-in.
const plugin = "pgoutput"

// logAt is where in the log a snapshot stands.
type logAt struct {
	conn     *pgconn.PgConn // that speaks replication; it holds the snapshot until it is used for something else
	snapshot string
	slot     string // the job's own
	now      string // the slot that came with the snapshot
	lost     bool   // the job's own was one that the server had given up
	made     string // on the server, to stay there
	position engine.Position
}

func (l *logAt) close() {
	if l != nil && l.conn != nil {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		l.conn.Close(ctx)
	}
}

// publication is the name of the job's own.
func (s *source) publication() string { return "grainkeep_" + s.at.Reader }

// slot is the name of the job's own, in a database.
func (s *source) slot(ctx context.Context, c *pgx.Conn) (name string, err error) {
	oid, err := databaseOID(ctx, c)
	return fmt.Sprintf("grainkeep_%s_%s", s.at.Reader, oid), err
}

// databaseOID tells a database from others, whatever they are called.
func databaseOID(ctx context.Context, c *pgx.Conn) (oid string, err error) {
	err = c.QueryRow(ctx, "SELECT oid::text FROM pg_database WHERE datname = current_database()").Scan(&oid)
	return oid, err
}

// followedRow is a row of followed.sql.
type followedRow struct {
	OID                           uint32
	ID, Identity, Made            string
	Named, Always                 []string
	Logged, Deferrable, Published bool
}

// followed asks what the log tells of each table.
func (s *source) followed(ctx context.Context, c *pgx.Conn) (map[string]followedRow, error) {
	sql, err := query(s.version, "followed", map[string]string{"publication": literal(s.publication())})
	if err != nil {
		return nil, err
	}
	rows, err := c.Query(ctx, sql)
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByName[followedRow])
	m := make(map[string]followedRow, len(list))
	for _, r := range list {
		m[r.ID] = r
	}
	return m, err
}

// why says why the log does not name the rows of a table; empty: it does.
func (f *followedRow) why() string {
	switch {
	case !f.Logged:
		return "it is unlogged"
	case f.Identity == "n", f.Identity != "f" && len(f.Named) == 0:
		return "it has no replica identity by which the log could name its rows"
	}
	return ""
}

// markLog says of each table what the log tells of it.
func (p *snapshot) markLog(ctx context.Context) (err error) {
	if p.follow, err = p.s.followed(ctx, p.c); err != nil {
		return err
	}
	for i := range p.cat.Tables {
		t := &p.cat.Tables[i]
		h, ours := t.Handle.(handle)
		f, there := p.follow[t.ID]
		switch {
		case !there || !ours || h.table == "":
			t.NotInLog = "the log does not tell of it"
		case f.why() != "":
			t.NotInLog = f.why()
		case len(t.Key) == 0 || t.Through != "":
			t.NotInLog = "it has no key by which a row can be named everywhere"
		case f.Identity != "f" && !slices.Equal(slices.Sorted(slices.Values(f.Named)),
			slices.Sorted(slices.Values(t.KeyColumns))):
			t.NotInLog = "the log names its rows by other columns than its key"
		case h.encoding != "" || h.condition != "":
			t.NotInLog = "its rows are not in UTF-8, or are an extension's"
		case strings.ContainsFunc(t.ID+strings.Join(t.Columns, ""), func(c rune) bool { return c < ' ' }):
			t.NotInLog = "its name, or that of a column, holds a control character"
		case f.Published:
			t.Made = f.Made
		case p.log != nil:
			t.NotInLog = "the publication " + p.s.publication() + " does not hold it"
		}
	}
	return nil
}

// toLog prepares the log for a dump: the publication, the slot, and a snapshot that stands at a place in it. An error
// of the code LogUnusable says why there is none.
func (s *source) toLog(ctx context.Context, database string) (*logAt, error) {
	c, err := s.connect(ctx, database)
	if err != nil {
		return nil, err
	}
	defer closeConn(c)
	setup, err := s.logSetup(ctx, c)
	if err != nil {
		return nil, err
	}
	if why := setup.why(s.at.LogUnbounded); why != "" {
		return nil, engine.Unusable("%s", why)
	}
	if err := s.publish(ctx, c, setup.recovering); err != nil {
		return nil, err
	}
	l := &logAt{}
	if l.slot, err = s.slot(ctx, c); err != nil {
		return nil, err
	}
	patience := s.at.LockWait
	if setup.recovering {
		patience = max(patience, standbyWait)
	}
	wait, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if l.conn, err = s.replication(wait, database); err != nil {
		return nil, err
	}
	if err = s.makeSlots(wait, c, l); err == nil && !setup.recovering {
		err = s.leaveMark(wait, c, l)
	}
	if err != nil {
		l.close()
		switch {
		case wait.Err() == nil || ctx.Err() != nil:
			return nil, err
		case setup.recovering:
			return nil, engine.Unusable("a place in the log could not be had within %s: a standby waits until the server that "+
				"it follows writes which transactions are open (every 15 s while it is written to, or by "+
				"pg_log_standby_snapshot() there)", patience)
		}
		return nil, engine.Unusable("a place in the log could not be had within %s: a slot waits for every transaction "+
			"that writes%s", patience, s.writer(ctx))
	}
	return l, nil
}

// logSetup is what the server and the user's rights allow of the log.
type logSetup struct {
	level, bound    string
	recovering, may bool
	version         int
}

func (s *source) logSetup(ctx context.Context, c *pgx.Conn) (l logSetup, err error) {
	l.version = s.version
	bound := "current_setting('max_slot_wal_keep_size')"
	if s.version < 130000 {
		bound = "'-1'"
	}
	err = c.QueryRow(ctx, "SELECT current_setting('wal_level'), "+bound+", pg_is_in_recovery(), "+
		"(SELECT rolreplication OR rolsuper FROM pg_roles WHERE rolname = current_user)").Scan(&l.level, &l.bound,
		&l.recovering, &l.may)
	return l, err
}

// words say what the log allows.
func (l logSetup) words() string {
	switch {
	case l.level != "logical":
		return "level " + l.level + "; changes could be read from it only with logical"
	case l.bound == "-1":
		return "level logical; a slot that nobody reads is not bounded (max_slot_wal_keep_size)"
	}
	return "level logical; a slot holds at most " + l.bound
}

// why says why the log cannot be followed, by a job that may hold back any amount of it or not; empty: it can.
func (l logSetup) why(unbounded bool) string {
	switch {
	case l.level != "logical":
		return "the server writes too little into it (wal_level = logical, then restart it)"
	case l.recovering && l.version < slotsOnStandby:
		return "this is a standby, and has no slots before version 16: read changes from the server that it follows"
	case !l.may:
		return "this user may not read it: 'grainkeep grants --for changes' prints the right"
	case l.bound == "-1" && !unbounded:
		return "the server does not bound what a slot that nobody reads holds back, and its drive could fill up: set " +
			"max_slot_wal_keep_size there, or say changes = \"log\" in the job if that is meant"
	}
	return ""
}

// publish makes the job's publication one of just the tables that the log can tell of. Any other table in it would make
// the application's own changes fail. On a standby, where nothing can be made, it must be there.
func (s *source) publish(ctx context.Context, c *pgx.Conn, standby bool) error {
	f, err := s.followed(ctx, c)
	if err != nil {
		return err
	}
	var want, have []string
	for id, t := range f {
		if t.why() == "" {
			want = append(want, id)
		}
		if t.Published {
			have = append(have, id)
		}
	}
	slices.Sort(want)
	slices.Sort(have)
	var there bool
	if err := c.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_publication WHERE pubname = "+literal(s.publication())+")").
		Scan(&there); err != nil {
		return err
	}
	name := quote(s.publication())
	sql := ""
	switch {
	case standby && !there:
		return engine.Unusable("the publication %s must be made on the server that this standby follows: 'CREATE "+
			"PUBLICATION %s FOR TABLE ONLY %s' in this database", s.publication(), name, strings.Join(want, ", ONLY "))
	case standby:
		return nil
	case !there && len(want) == 0:
		sql = "CREATE PUBLICATION " + name
	case !there:
		sql = "CREATE PUBLICATION " + name + " FOR TABLE ONLY " + strings.Join(want, ", ONLY ")
	case slices.Equal(want, have):
		return nil
	case len(want) == 0:
		sql = "ALTER PUBLICATION " + name + " DROP TABLE ONLY " + strings.Join(have, ", ONLY ")
	default:
		sql = "ALTER PUBLICATION " + name + " SET TABLE ONLY " + strings.Join(want, ", ONLY ")
	}
	_, err = c.Exec(ctx, "BEGIN READ WRITE; "+s.lockTimeout()+"SET LOCAL client_min_messages = error; "+sql+"; COMMIT")
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		c.Exec(ctx, "ROLLBACK")
		return engine.Unusable("the publication %s could not be made to hold the tables: %s ('grainkeep grants --for "+
			"changes' prints what is needed)", s.publication(), pg.Message)
	}
	return err
}

// A standby has slots from this version on; and the longest time that is waited for a place in its log, which it learns
// every 15 s.
const (
	slotsOnStandby = 160000
	standbyWait    = 40 * time.Second
)

// replication opens a connection that speaks replication.
func (s *source) replication(ctx context.Context, database string) (*pgconn.PgConn, error) {
	cfg, err := s.config(database)
	if err != nil {
		return nil, err
	}
	cfg.RuntimeParams["replication"] = "database"
	cfg.BuildContextWatcherHandler = func(c *pgconn.PgConn) ctxwatch.Handler {
		return &pgconn.DeadlineContextWatcherHandler{Conn: c.Conn()}
	}
	conn, err := pgconn.ConnectConfig(ctx, &cfg.Config)
	if err != nil {
		return nil, engine.Unusable("the server lets nobody read its log here: %v", engine.RootCause(err))
	}
	for _, sql := range strings.SplitAfter(settings+noTimeouts(conn.ParameterStatus("server_version")), ";\n") {
		if strings.TrimSpace(sql) == "" {
			continue
		}
		if _, err := conn.Exec(ctx, strings.TrimSuffix(sql, ";\n")).ReadAll(); err != nil {
			conn.Close(ctx)
			return nil, fmt.Errorf("session settings: %w", err)
		}
	}
	return conn, nil
}

// makeSlots makes the job's slot, where there is none, and one that lives as long as the connection, with a snapshot.
func (s *source) makeSlots(ctx context.Context, c *pgx.Conn, l *logAt) error {
	var there, lost bool
	err := c.QueryRow(ctx, "SELECT count(*) > 0, coalesce(bool_or("+s.slotStatus()+" = 'lost' AND NOT active), false) FROM "+
		"pg_replication_slots WHERE slot_name = "+literal(l.slot)).Scan(&there, &lost)
	if err != nil {
		return err
	}
	if lost { // it would be in the way for ever
		if _, err = c.Exec(ctx, "SELECT pg_drop_replication_slot("+literal(l.slot)+")"); err != nil {
			return slotTrouble(err)
		}
		there, l.lost = false, true
	}
	if !there {
		if _, err = pglogrepl.CreateReplicationSlot(ctx, l.conn, l.slot, plugin, pglogrepl.CreateReplicationSlotOptions{
			SnapshotAction: "NOEXPORT_SNAPSHOT"}); err != nil {
			return slotTrouble(err)
		}
		l.made = fmt.Sprintf("the slot %s and the publication %s were made, by which changes are read from the server's "+
			"log", l.slot, s.publication())
	}
	system, err := pglogrepl.IdentifySystem(ctx, l.conn)
	if err != nil {
		return err
	}
	// Of a dump that was killed the server may keep such a slot for a while: each has a name of its own.
	var own [4]byte
	rand.Read(own[:])
	l.now = l.slot + "_now_" + hex.EncodeToString(own[:])
	made, err := pglogrepl.CreateReplicationSlot(ctx, l.conn, l.now, plugin, pglogrepl.CreateReplicationSlotOptions{
		Temporary: true, SnapshotAction: "EXPORT_SNAPSHOT"})
	if err != nil {
		return slotTrouble(err)
	}
	l.snapshot = made.SnapshotName
	l.position = engine.Position{System: fmt.Sprintf("%s/%d", system.SystemID, system.Timeline), LSN: made.ConsistentPoint}
	l.position.Database, err = databaseOID(ctx, c)
	return err
}

// markSince is the version of the server from which on marks are left in its log, and decoded.
const markSince = 140000

// marked is what marks of this job are called in the log.
func (s *source) marked() string { return "grainkeep_" + s.at.Reader }

// leaveMark leaves a mark in the log, right after the place: whoever goes on from there must meet it before any other
// of the job's. A log that grew anew from an older copy of the server's files does not have it.
func (s *source) leaveMark(ctx context.Context, c *pgx.Conn, l *logAt) error {
	if s.version < markSince {
		return nil
	}
	mark := rand.Text()
	_, err := c.Exec(ctx, "SELECT pg_logical_emit_message(false, "+literal(s.marked())+", "+literal(mark)+")")
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		return engine.Unusable("the server lets nobody leave a mark in its log: %s", pg.Message)
	}
	l.position.Mark = mark
	return err
}

func slotTrouble(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		return engine.Unusable("the server makes no slot: %s", pg.Message)
	}
	return err
}

// writer names the transaction that has written for longest.
func (s *source) writer(ctx context.Context) string {
	var pid int32
	var user, query string
	err := s.home.QueryRow(ctx, "SELECT pid, coalesce(usename::text, '?'), left(coalesce(query, ''), 60) FROM "+
		"pg_stat_activity WHERE backend_xid IS NOT NULL ORDER BY xact_start LIMIT 1").Scan(&pid, &user, &query)
	if err == nil {
		return fmt.Sprintf(", and process %d of the user %s has one open (%s)", pid, user, query)
	}
	var gid string
	if s.home.QueryRow(ctx, "SELECT gid FROM pg_prepared_xacts ORDER BY prepared LIMIT 1").Scan(&gid) == nil {
		return fmt.Sprintf(", and %s is prepared", gid)
	}
	return ""
}

// Left implements engine.Follower.
func (p *snapshot) Left() string {
	if p.log == nil {
		return ""
	}
	return p.log.made
}

// LogHead implements engine.Follower.
func (p *snapshot) LogHead() string { return "" }

// Follow implements engine.Follower.
func (p *snapshot) Follow(ctx context.Context, from engine.Position, tables []*engine.Table,
	to engine.ChangeSink) error {
	switch {
	case p.noLog != nil:
		return p.noLog
	case p.log == nil:
		return engine.Unusable("this snapshot stands at no place in the log")
	case from.LSN == "":
		return engine.Unusable("the dump before does not say where in the log it stands")
	case from.System != p.log.position.System:
		return engine.Unusable("the server is another one, or goes on from another one's log")
	case from.Database != p.log.position.Database && from.Database != "":
		return engine.Doubted("the database of this name is another one than it was")
	case from.Mark == "" && p.log.position.Mark != "":
		return engine.Unusable("the dump before left no mark in the log, by which it could be told from another one")
	}
	begin, err1 := pglogrepl.ParseLSN(from.LSN)
	end, err2 := pglogrepl.ParseLSN(p.log.position.LSN)
	if err := errors.Join(err1, err2); err != nil {
		return engine.Unusable("a place in the log cannot be read: %v", err)
	}
	if begin > end {
		return engine.Doubted("the dump before stands further in the log than the server does")
	}
	if err := p.slotIsFree(ctx, begin); err != nil {
		return err
	}
	r := &logReader{conn: p.log.conn, to: to, begin: begin, end: end, mark: from.Mark, marked: p.s.marked(),
		tables:    map[uint32]*pgTable{},
		relations: map[uint32]*relation{}}
	for _, t := range tables {
		r.tables[p.follow[t.ID].OID] = &pgTable{Table: t, of: p.follow[t.ID]}
	}
	if err := r.read(ctx, p.log.slot, p.log.now, p.s.publication(), p.s.at.Bound()); err != nil {
		return err
	}
	return r.met()
}

// freeWithin is how long is waited for a slot that somebody reads: the reader of a dump that was killed ends soon.
const freeWithin = 10 * time.Second

// slotIsFree waits until nobody reads the job's slot, which must hold the log from a place on.
func (p *snapshot) slotIsFree(ctx context.Context, from pglogrepl.LSN) error {
	for end := time.Now().Add(freeWithin); ; {
		err := p.slotServes(ctx, from)
		if !errors.Is(err, errSlotActive) {
			return err
		}
		if time.Now().After(end) {
			return engine.Unusable("somebody else reads the slot %s just now", p.log.slot)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(5 * pause):
		}
	}
}

var errSlotActive = errors.New("the slot is being read")

// slotServes fails unless the job's slot still holds the log from a place on.
func (p *snapshot) slotServes(ctx context.Context, from pglogrepl.LSN) error {
	slot := p.log.slot
	var confirmed, status string
	var active bool
	err := p.c.QueryRow(ctx, "SELECT coalesce(confirmed_flush_lsn::text, '0/0'), "+p.s.slotStatus()+", active FROM "+
		"pg_replication_slots WHERE slot_name = "+literal(slot)).Scan(&confirmed, &status, &active)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return engine.Unusable("the slot %s is gone", slot)
	case err != nil:
		return err
	case active:
		return errSlotActive
	case lostSlot(status):
		return engine.Unusable("the server gave up what the slot %s held back of the log: it was more than it may be", slot)
	}
	if p.log.lost {
		return engine.Unusable("the server gave up what the slot %s held back of the log: it was more than it may be; there is a "+
			"new one now", slot)
	}
	if p.log.made != "" {
		return engine.Unusable("there was no slot %s any more; now there is", slot)
	}
	at, err := pglogrepl.ParseLSN(confirmed)
	if err != nil || at > from {
		return engine.Doubted("the slot %s stands further than the chain: somebody else has read from it, or made it anew",
			slot)
	}
	return nil
}
