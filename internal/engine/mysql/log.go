package mysql

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net"
	"slices"
	"strings"
	"time"

	logclient "github.com/go-mysql-org/go-mysql/mysql"
	"github.com/go-mysql-org/go-mysql/replication"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/pattern"
)

// setLog says whether the log tells what changes in a table, and which tables change with it: what foreign keys do to
// rows is not in the log.
func setLog(e *engine.Table, h *handle, t *table) {
	for _, item := range t.references {
		m := reference().FindStringSubmatch(item)
		switch {
		case m == nil || strings.Contains(m[3], "."):
			e.NotInLog = "a foreign key ties it to another database"
		case m[3] != e.ID:
			e.Tied = append(e.Tied, m[3])
		}
		e.Follows = e.Follows || acting().MatchString(words(item))
	}
	for _, c := range h.all {
		h.told = append(h.told, c.generated || !c.zerofill && !slices.Contains([]string{"enum", "set", "json"}, c.kind))
	}
	odd := slices.IndexFunc(h.all, func(c column) bool { return !c.generated && len(c.inLog()) == 0 })
	switch {
	case e.NotInLog != "":
	case !transactional(t.engine):
		e.NotInLog = "it has no transactions"
	case t.versioned:
		e.NotInLog = "it keeps a history of its rows"
	case len(h.inOrder) == 0:
		e.NotInLog = "it has no primary key by which a row can be named"
	case odd >= 0:
		e.NotInLog = "the log shows " + h.all[odd].kind + " in a form of its own"
	case strings.ContainsFunc(t.name, oddInLog) || slices.ContainsFunc(h.all, func(c column) bool {
		return strings.ContainsFunc(c.name, oddInLog)
	}):
		e.NotInLog = "its name, or that of a column, holds a control character"
	}
}

// acting is what a foreign key does to the rows that refer to one that is removed or gets another key.
var acting = pattern.Of(` ON (?:DELETE|UPDATE) (?:CASCADE|SET)`)

func oddInLog(c rune) bool { return c < ' ' }

// Left implements engine.Follower: this server's log needs nothing.
func (p *snapshot) Left() string { return "" }

// LogHead implements engine.Follower: rows change as they did on the server, keys with them.
func (p *snapshot) LogHead() string {
	head := byteNames + "SET foreign_key_checks = 1, unique_checks = 1;\n"
	if p.s.maria { // rows that break a check are there too: a session may have turned that off
		head += "SET check_constraint_checks = 0;\n"
	}
	return head
}

// mostOffset is how far into a log file a reader can begin, in bytes.
const mostOffset = math.MaxUint32

// Follow implements engine.Follower.
func (p *snapshot) Follow(ctx context.Context, from engine.Position, tables []*engine.Table,
	to engine.ChangeSink) error {
	end := p.pin.position
	switch {
	case end.File == "" || end.Offset == 0:
		return engine.Unusable("the server writes no log, or this user may not ask for its position")
	case from.File == "":
		return engine.Unusable("the dump before does not say where in the log it stands")
	case from.Applied != end.Applied && from.System == end.System:
		return engine.Doubted("the server has changes from another one that it did not log (log_slave_updates is off)")
	case from.Offset > mostOffset || end.Offset > mostOffset:
		return engine.Unusable("a log file of more than 4 GiB cannot be followed")
	}
	if why, err := p.s.partial(ctx); err != nil || why != "" {
		if err == nil {
			err = engine.Unusable("the server's log does not hold all that changes: %s", why)
		}
		return err
	}
	r := &logReader{database: p.database, tables: map[string]*engine.Table{}, to: to, from: from, end: end,
		maria: p.s.maria, logsKeys: p.s.logsKeys}
	for _, t := range tables {
		r.tables[t.Name] = t
	}
	r.byGTID = from.System != end.System
	if r.byGTID && (from.GTID == "" || end.GTID == "") {
		return engine.Unusable("the server is another one, and no transaction ids say where its log goes on")
	}
	if !r.byGTID && from.File == end.File && (from.Began == end.Began || from.Began == 0) && from.Offset == end.Offset &&
		from.GTID == end.GTID {
		return nil // nothing was written since
	}
	if err := r.past(); err != nil {
		return err
	}
	if err := p.s.readLog(ctx, r); err != nil {
		return err
	}
	if len(r.tables) == 0 {
		return nil
	}
	return r.whole()
}

// heartbeat is how often a server that has nothing to say says so.
const heartbeat = time.Second

// readLog has a reader read the log until it has seen enough.
func (s *source) readLog(ctx context.Context, r *logReader) error {
	r.prepare()
	cfg, err := s.logConfig(ctx, r)
	if err != nil {
		return err
	}
	b := replication.NewBinlogSyncer(cfg)
	defer b.Close()
	var stream *replication.BinlogStreamer
	if r.byGTID {
		set, e := logclient.ParseGTIDSet(cfg.Flavor, r.from.GTID)
		if e != nil {
			return engine.Unusable("the transaction ids of the dump before cannot be read: %v", e)
		}
		stream, err = b.StartSyncGTID(set)
	} else {
		stream, err = b.StartSync(logclient.Position{Name: r.from.File, Pos: uint32(r.from.Offset)})
	}
	if err == nil {
		_, err = stream.GetEvent(ctx)
	}
	switch {
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case r.done:
		return nil
	case r.err != nil:
		return r.err
	}
	return refused(err)
}

// refused says why the server does not give its log.
func refused(err error) error {
	var m *logclient.MyError
	if !errors.As(err, &m) {
		return fault.New(engine.Trouble, err, "the connection to the server was lost while its log was read").
			Advise("look into the server's log")
	}
	switch m.Code {
	case logclient.ER_MASTER_FATAL_ERROR_READING_BINLOG:
		return engine.Unusable("the server does not have that part of its log any more, or cannot read it: %s", m.Message)
	case codePrivilege, codeAccess, codeTableAccess, codeAccessDB:
		return engine.Unusable("this user may not read the server's log ('grainkeep grants --for changes' prints what it needs)")
	}
	return engine.Unusable("the server does not give its log: %s", m.Message)
}

// logConfig says how the log is asked for.
func (s *source) logConfig(ctx context.Context, r *logReader) (replication.BinlogSyncerConfig, error) {
	var id [4]byte
	if _, err := rand.Read(id[:]); err != nil {
		return replication.BinlogSyncerConfig{}, err
	}
	cfg := replication.BinlogSyncerConfig{
		ServerID: binary.LittleEndian.Uint32(id[:])>>2 | 1<<31, // replicas have small ones
		Flavor:   logclient.MySQLFlavor, Host: s.cfg.Addr, User: s.cfg.User, Password: s.cfg.Passwd,
		Localhost: "grainkeep", RawModeEnabled: true, VerifyChecksum: true, DisableRetrySync: true, DiscardGTIDSet: true,
		HeartbeatPeriod: heartbeat, ReadTimeout: s.at.Bound(), EventCacheCount: 1,
		Logger:                  slog.New(slog.DiscardHandler),
		SynchronousEventHandler: r,
		Dialer: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, s.cfg.Net, s.cfg.Addr)
		},
	}
	if s.maria {
		cfg.Flavor, cfg.FillZeroLogPos = logclient.MariaDBFlavor, s.version >= 110400
	}
	if s.cfg.TLS == nil {
		return cfg, nil
	}
	rows, err := s.home.rows(ctx, "SHOW STATUS LIKE 'Ssl_cipher'")
	if err != nil {
		return cfg, err
	}
	if len(rows) > 0 && rows[0][1] != "" { // as the other connections of this source
		cfg.TLSConfig = s.cfg.TLS.Clone()
		if host, _, err := net.SplitHostPort(s.cfg.Addr); err == nil && cfg.TLSConfig.ServerName == "" {
			cfg.TLSConfig.ServerName = host
		}
		cfg.TLSConfig.MinVersion = tls.VersionTLS12
	}
	return cfg, nil
}

// began asks when a log file was begun; 0: this user may not know.
func (s *source) began(ctx context.Context, at engine.Position) (int64, error) {
	r := &logReader{from: engine.Position{File: at.File, Offset: 4}, end: at, maria: s.maria,
		justBegan: true}
	if err := s.readLog(ctx, r); err != nil && ctx.Err() == nil {
		return 0, nil //nolint:nilerr // less is known of the log, and that is no reason not to dump
	}
	return r.end.Began, nil
}

// past fails where the log's ids show that the dump before is not of its past.
func (r *logReader) past() error {
	if r.maria || r.from.GTID == "" || r.end.GTID == "" {
		return nil
	}
	from, e1 := logclient.ParseMysqlGTIDSet(r.from.GTID)
	end, e2 := logclient.ParseMysqlGTIDSet(r.end.GTID)
	switch {
	case e1 != nil || e2 != nil:
		return engine.Unusable("the server's transaction ids cannot be read: %v", errors.Join(e1, e2))
	case !end.Contain(from):
		return engine.Unusable("the server has not had all the transactions that the dump before has: it was reset, or is " +
			"another one")
	}
	r.ids = from.(*logclient.MysqlGTIDSet)
	return nil
}

// whole fails unless every transaction came that the server has had.
func (r *logReader) whole() error {
	if r.maria {
		if r.end.GTID == "" || r.from.GTID == r.end.GTID {
			return nil
		}
		return r.wholeDomains()
	}
	if r.ids == nil {
		return nil
	}
	end, err := logclient.ParseMysqlGTIDSet(r.end.GTID)
	if err != nil || !r.ids.Contain(end) {
		return engine.Unusable("the log lacks transactions that the server has had")
	}
	return nil
}

// wholeDomains is the same of MariaDB, whose ids count in each domain.
func (r *logReader) wholeDomains() error {
	end, e1 := logclient.ParseMariadbGTIDSet(r.end.GTID)
	from, e2 := logclient.ParseMariadbGTIDSet(r.from.GTID)
	if err := errors.Join(e1, e2); err != nil {
		return engine.Unusable("the server's transaction ids cannot be read: %v", err)
	}
	was, is := from.(*logclient.MariadbGTIDSet).Sets, end.(*logclient.MariadbGTIDSet).Sets
	for domain, seen := range r.domains {
		if is[domain] == nil || is[domain].SequenceNumber < seen {
			return engine.Unusable("the log has a transaction (%d-%d) that the server's own position does not have", domain, seen)
		}
	}
	for domain, last := range is {
		if r.from.GTID == "" { // it is not known what there was before
			break
		}
		if _, seen := r.domains[domain]; !seen && (was[domain] == nil || *was[domain] != *last) {
			return engine.Unusable("the log lacks transactions that the server has had: %s", last)
		}
	}
	return nil
}

// system is what tells a server from others.
func (s *source) system(ctx context.Context) (string, error) {
	if !s.maria {
		return s.home.value(ctx, "SELECT @@server_uuid")
	}
	rows, err := s.home.rows(ctx, "SHOW GLOBAL VARIABLES WHERE variable_name IN ('server_id', 'server_uid')")
	var parts []string
	for _, r := range rows {
		parts = append(parts, r[1])
	}
	return strings.Join(parts, " "), err
}

// place names a place in the log.
func place(file string, offset uint32) string { return fmt.Sprintf("%s:%d", file, offset) }
