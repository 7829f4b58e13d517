package mysql

import (
	"context"
	"fmt"
	"net"
	"runtime"
	"strconv"
	"strings"
	"time"

	sqldriver "github.com/go-sql-driver/mysql"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

type source struct {
	at      engine.Location
	cfg     *sqldriver.Config
	home    *conn
	maria   bool
	version int // 101119 for 10.11.19
	shown   string
	pinned  *pin
	own     string   // settings of a session that only this product has
	strict  []string // settings that a restore has to turn off
	// logsKeys says that foreign keys act above the storage engine: what they do to rows is in the log.
	logsKeys bool
}

// oldest versions of either product that are supported.
const (
	oldestMaria = 100400
	oldestMySQL = 80000
)

// identify finds out which product and version it is.
func (s *source) identify(ctx context.Context) error {
	full, err := s.home.value(ctx, "SELECT version()")
	if err != nil {
		return err
	}
	s.maria = strings.Contains(full, "MariaDB")
	s.shown, _, _ = strings.Cut(full, "-")
	for _, part := range strings.SplitN(s.shown, ".", 3) {
		n, _ := strconv.Atoi(part)
		s.version = s.version*100 + n
	}
	if s.maria && s.version < oldestMaria || !s.maria && s.version < oldestMySQL {
		return fault.New("version-unsupported", nil, "the server at %s is %s %s", s.where(), s.product(), s.shown).
			Advise("MariaDB from 10.4 on and MySQL from 8.0 on can be dumped")
	}
	// The home connection was made before that was known.
	s.own = "SET max_statement_time = 0;\n"
	if !s.maria {
		if s.own, err = s.ownOfMySQL(ctx); err != nil {
			return err
		}
	}
	_, err = s.home.exec(ctx, s.own)
	return err
}

// ownOfMySQL gives the settings of a session that only MySQL has. What makes tables other
// than they were said to be is turned off where a restore needs it; not every user may.
func (s *source) ownOfMySQL(ctx context.Context) (string, error) {
	own := "SET max_execution_time = 0, information_schema_stats_expiry = 0;\n"
	for _, v := range []struct {
		since int
		name  string
	}{{80013, "sql_require_primary_key"}, {80030, "sql_generate_invisible_primary_key"}} {
		if s.version < v.since {
			continue
		}
		set, err := s.home.value(ctx, "SELECT @@"+v.name)
		if err != nil {
			return "", err
		}
		if set == "1" {
			s.strict = append(s.strict, v.name)
		}
	}
	if s.version >= 90600 {
		native, err := s.home.value(ctx, "SELECT @@innodb_native_foreign_keys")
		if err != nil {
			return "", err
		}
		s.logsKeys = native == "0"
	}
	if s.version >= 80030 {
		own += "SET show_gipk_in_create_table_and_information_schema = ON;\n"
	}
	return own, nil
}

// loosen turns off what would make tables other than they were said to be.
func (s *source) loosen(ctx context.Context, c *conn) error {
	for _, name := range s.strict {
		if _, err := c.exec(ctx, "SET "+name+" = OFF"); err != nil {
			return fault.New(engine.RightsMissing, err,
				"the server has %s on, and this user may not turn it off for its "+
					"session: tables would not come back as they were", name).
				Advise("GRANT SESSION_VARIABLES_ADMIN to it")
		}
	}
	return nil
}

func (s *source) product() string {
	if s.maria {
		return "MariaDB"
	}
	return "MySQL"
}

func (s *source) where() string {
	if s.at.Server == "" {
		return "localhost"
	}
	return s.at.Server
}

// Close logs out.
func (s *source) Close() error {
	s.pinned.release()
	return s.home.close()
}

// Describe reads the server's facts.
func (s *source) Describe(ctx context.Context) (engine.Server, error) {
	d := engine.Server{Product: s.product(), Version: s.shown, Wide: true, Ordered: true}
	rows, err := s.home.rows(ctx,
		"SELECT current_user(), utc_timestamp(6), IF(@@global.time_zone = 'SYSTEM', @@system_time_zone, "+
			"@@global.time_zone), @@datadir")
	if err != nil {
		return d, err
	}
	d.User, d.Zone = rows[0][0], rows[0][2]
	if d.Clock, err = time.Parse("2006-01-02 15:04:05.000000", rows[0][1]); err != nil {
		return d, err
	}
	if s.local() {
		d.Folder = rows[0][3]
	}
	if d.Log, d.NoLog, err = s.log(ctx); err != nil {
		return d, err
	}
	d.Blind, err = s.blind(ctx)
	return d, err
}

// blind says why a user may not see all databases.
func (s *source) blind(ctx context.Context) (string, error) {
	rows, err := s.home.rows(ctx, "SELECT privilege_type FROM information_schema.user_privileges WHERE "+mine+
		" AND privilege_type IN ('SHOW DATABASES', 'SELECT', 'SHOW VIEW', 'LOCK TABLES', 'TRIGGER', 'EVENT')")
	if err != nil || len(rows) > 0 {
		return "", err
	}
	return "this user may not see all databases of the server: those on which it has no right are missing without a " +
		"word " +
		"(GRANT SHOW DATABASES ON *.* would show them)", nil
}

// log says what the server's change log allows, and why it cannot be followed; empty: it can.
func (s *source) log(ctx context.Context) (text, why string, err error) {
	days := "@@binlog_expire_logs_seconds / 86400"
	if s.maria && s.version < 100601 {
		days = "@@expire_logs_days"
	}
	rows, err := s.home.rows(ctx,
		"SELECT @@log_bin, @@global.binlog_format, @@global.binlog_row_image, round("+days+", 1)")
	if err != nil {
		return "", "", err
	}
	on, format, image, kept := rows[0][0], rows[0][1], rows[0][2], rows[0][3]
	if on != "1" {
		return "off: changes could be found only by comparing", "the server writes none", nil
	}
	text = "on, format " + format + ", row image " + image + ", kept "
	if n, err := strconv.ParseFloat(kept, 64); err == nil && n > 0 {
		text += strconv.FormatFloat(n, 'f', -1, 64) + " days"
	} else {
		text += "until somebody removes it"
	}
	if format != "ROW" {
		return text, "it has statements in the place of rows: SET GLOBAL binlog_format = ROW, and in the server's " +
			"configuration", nil
	}
	rights, err := s.home.rows(ctx, "SELECT 1 FROM information_schema.user_privileges WHERE "+mine+
		" AND privilege_type IN ('REPLICATION SLAVE', 'SUPER')")
	if err == nil && len(rights) == 0 {
		return text, "this user may not read it: 'grainkeep grants --for changes' prints the right", nil
	}
	if err == nil {
		why, err = s.partial(ctx)
	}
	return text, why, err
}

func (s *source) local() bool {
	host, _, _ := net.SplitHostPort(s.cfg.Addr)
	return s.cfg.Net == "unix" || host == "localhost" || host == "127.0.0.1" || host == "::1"
}

// workers is how many connections read or load: all cores, half of them where the
// server works on the same ones.
func (s *source) workers() int {
	if s.at.Workers > 0 {
		return s.at.Workers
	}
	if s.local() {
		return max(1, runtime.NumCPU()/2)
	}
	return runtime.NumCPU()
}

// scratchNamed says of a schema s whether it has the name of a scratch database.
const scratchNamed = `(s.schema_name LIKE 'grainkeep\\_drill\\_%' OR s.schema_name LIKE 'grainkeep\\_restore\\_%')`

// systems are the databases that every server has.
var systems = []string{"mysql", "sys", "information_schema", "performance_schema"}

var systemDatabases = "'" + strings.Join(systems, "', '") + "'"

// Databases lists what this user can see.
func (s *source) Databases(ctx context.Context) ([]engine.Database, error) {
	rows, err := s.home.rows(ctx, `SELECT s.schema_name, coalesce(t.bytes, 0), s.schema_name IN
		(`+systemDatabases+`) OR `+scratchNamed+`
		FROM information_schema.schemata s LEFT JOIN (SELECT table_schema, sum(data_length + index_length) AS bytes
			FROM information_schema.tables GROUP BY table_schema) t
		ON t.table_schema = s.schema_name WHERE s.schema_name NOT IN ('information_schema', 'performance_schema')
			ORDER BY s.schema_name`)
	if err != nil {
		return nil, err
	}
	var list []engine.Database
	for _, r := range rows {
		bytes, _ := strconv.ParseInt(r[1], 10, 64)
		list = append(list, engine.Database{Name: r[0], Bytes: bytes, System: r[2] == "1"})
	}
	return list, nil
}

// holders names who keeps others waiting, for the advice of a lock that did not come.
func (s *source) holders(ctx context.Context) string {
	rows, err := s.home.rows(ctx, `SELECT id, user, host, time, left(replace(coalesce(info, command), '\n', ' '),
		60) FROM information_schema.processlist
		WHERE id <> connection_id() AND command NOT IN ('Daemon', 'Binlog Dump') AND user NOT IN ('system user',
			'event_scheduler')
		AND coalesce(state, '') NOT LIKE 'Waiting for%' AND (command <> 'Sleep' OR id IN (SELECT trx_mysql_thread_id
			FROM information_schema.innodb_trx)) ORDER BY time DESC LIMIT 3`)
	if err != nil || len(rows) == 0 {
		return "see who is busy with 'SHOW FULL PROCESSLIST', or give it more time with lock_wait"
	}
	var list []string
	for _, r := range rows {
		list = append(list, fmt.Sprintf("session %s of %s (%s s: %s)", r[0], r[1], r[3], r[4]))
	}
	return "it may be held by " + strings.Join(list, ", ") + "; end it, or give it more time with lock_wait"
}

// Script implements engine.Scripter.
func (s *source) Script(ctx context.Context, database, sql string) error {
	c, err := s.connect(ctx, database)
	if err != nil {
		return err
	}
	defer c.close()
	return (&session{c: c}).Exec(ctx, sql)
}
