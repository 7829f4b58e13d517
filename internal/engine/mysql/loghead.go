package mysql

import (
	"context"
	"strconv"
	"strings"

	logclient "github.com/go-mysql-org/go-mysql/mysql"
	"github.com/go-mysql-org/go-mysql/replication"

	"grainkeep/internal/engine"
)

// What the server says of its log, and what the log says of itself: that files follow each other, that no transactions
// lie between them, and that the server was not started again, maybe without a log.

// partial says why the log does not hold all that changes; empty: by what the server says, it does.
func (s *source) partial(ctx context.Context) (string, error) {
	if at := s.home.logStatus(ctx); len(at) > 3 {
		if at[2] != "" {
			return "it holds only what is done in some databases (binlog_do_db: " + at[2] + ")", nil
		}
		if at[3] != "" {
			return "it leaves out what is done in some databases (binlog_ignore_db: " + at[3] + ")", nil
		}
	}
	updates := "log_replica_updates"
	if s.maria || s.version < 80026 {
		updates = "log_slave_updates"
	}
	logs, err := s.home.value(ctx, "SELECT @@"+updates)
	if err != nil || logs == "1" {
		return "", err
	}
	follows, err := s.replica(ctx)
	if err == nil && follows {
		return "the server follows another one, whose changes it does not log (" + updates + " is off)", nil
	}
	return "", err
}

// logStatus is where a server stands in its log: the file, the offset, the databases that the log is bound to, those that
// it leaves out, and, from MySQL, all transactions so far. Empty: it writes none, or this user may not ask.
func (c *conn) logStatus(ctx context.Context) []string {
	for _, sql := range []string{"SHOW BINLOG STATUS", "SHOW MASTER STATUS", "SHOW BINARY LOG STATUS"} {
		if rows, err := c.rows(ctx, sql); err == nil && len(rows) > 0 {
			return rows[0]
		}
	}
	return nil
}

// replica says whether the server follows another one, or is to.
func (s *source) replica(ctx context.Context) (bool, error) {
	asked := false
	for _, sql := range []string{"SHOW ALL SLAVES STATUS", "SHOW REPLICA STATUS"} {
		if rows, err := s.home.rows(ctx, sql); err == nil {
			asked = true
			if len(rows) > 0 {
				return true, nil
			}
		} else if ctx.Err() != nil {
			return false, context.Cause(ctx)
		}
	}
	if asked || !s.maria {
		return !asked, nil // without the right to know, it is better to compare
	}
	rows, err := s.home.rows(ctx, "SHOW GLOBAL STATUS LIKE 'Slaves_running'")
	return len(rows) > 0 && rows[0][1] != "0", err
}

// applied is what a server that does not log it has had from another one, in its words; empty: nothing, or it logs it.
func (s *source) applied(ctx context.Context) (string, error) {
	if !s.maria {
		return "", nil
	}
	return s.home.value(ctx, "SELECT if(@@log_slave_updates, '', @@gtid_slave_pos)")
}

// turns takes an event that says which log file comes next. The server says it twice: at the end of a file, unless it
// was stopped in the middle of it, and before the next one.
func (r *logReader) turns(h *replication.EventHeader, e *replication.RotateEvent) error {
	name := string(e.NextLogName)
	if h.Flags&replication.LOG_EVENT_ARTIFICIAL_F == 0 && h.Timestamp != 0 {
		r.next = name
		return nil
	}
	want := r.next
	if want == "" {
		want = fileAfter(r.file)
	}
	if r.heads > 0 && name != r.file && name != want {
		return engine.Doubted("after the log file %s the server gives %s: what is between them is missing", r.file, name)
	}
	r.file, r.next = name, ""
	return nil
}

// fileAfter names the log file that a server begins after one.
func fileAfter(name string) string {
	at := strings.LastIndexByte(name, '.') + 1
	n, err := strconv.ParseUint(name[at:], 10, 63)
	if err != nil {
		return ""
	}
	digits := strconv.FormatUint(n+1, 10)
	return name[:at] + strings.Repeat("0", max(0, len(name)-at-len(digits))) + digits
}

// started takes note of the head of a log file: one that was begun when the server was started says so.
func (r *logReader) started(e *replication.FormatDescriptionEvent) {
	if r.heads++; r.heads > 1 && e.CreateTimestamp != 0 && r.to != nil {
		r.to.Audit("the server was started again since, and may have run without its log for a while, or have lost what " +
			"its log has")
	}
}

// hadAll fails where the head of a log file says that the server had transactions before it of which the log does not
// tell.
func (r *logReader) hadAll(previous string) error {
	if r.heads < 2 || r.ids == nil {
		return nil
	}
	set, err := logclient.ParseMysqlGTIDSet(previous)
	if err != nil {
		return engine.Unusable("the log file %s does not say what came before it: %v", r.file, err)
	}
	if !r.ids.Contain(set) {
		return engine.Doubted("the log lacks transactions that the server had before the file %s", r.file)
	}
	return nil
}

// hadAllDomains is the same of MariaDB, whose ids count in each domain.
func (r *logReader) hadAllDomains(list []logclient.MariadbGTID) error {
	if r.heads < 2 || r.from.GTID == "" {
		return nil
	}
	from, err := logclient.ParseMariadbGTIDSet(r.from.GTID)
	if err != nil {
		return engine.Unusable("the server's transaction ids cannot be read: %v", err)
	}
	for _, g := range list {
		last := r.domains[g.DomainID]
		if was := from.(*logclient.MariadbGTIDSet).Sets[g.DomainID]; was != nil {
			last = max(last, was.SequenceNumber)
		}
		if g.SequenceNumber > last {
			return engine.Doubted("the log lacks transactions that the server had before the file %s: %d-%d-%d", r.file,
				g.DomainID, g.ServerID, g.SequenceNumber)
		}
	}
	return nil
}
