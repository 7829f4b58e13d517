// Package mysql reads and writes MariaDB and MySQL over their own protocol.
package mysql

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	sqldriver "github.com/go-sql-driver/mysql"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

func init() { engine.Register("mysql", drv{}) }

// defaultWait is the longest wait for a lock that others hold.
const defaultWait = 30 * time.Second

type drv struct{}

// Open logs in.
func (drv) Open(ctx context.Context, at engine.Location) (engine.Source, error) {
	if at.LockWait == 0 {
		at.LockWait = defaultWait
	}
	s := &source{at: at}
	var err error
	if s.cfg, err = s.config(); err != nil {
		return nil, err
	}
	if s.home, err = s.connect(ctx, ""); err != nil {
		return nil, err
	}
	return s, s.identify(ctx)
}

// conn is one connection. Numbers come as int64, uint64 or float64, everything else
// as the bytes that the server sent, valid until the next row.
type conn struct{ c driver.Conn }

// close logs out.
func (c *conn) close() error {
	if c == nil || c.c == nil {
		return nil
	}
	return c.c.Close()
}

// exec runs statements, divided by semicolons, and gives the rows that the last changed.
func (c *conn) exec(ctx context.Context, sql string) (int64, error) {
	res, err := c.c.(driver.ExecerContext).ExecContext(ctx, sql, nil)
	if err != nil {
		return 0, plain(ctx, err)
	}
	return res.RowsAffected()
}

// each runs a query and calls f for each row.
func (c *conn) each(ctx context.Context, sql string, f func([]driver.Value) error) error {
	rows, err := c.c.(driver.QueryerContext).QueryContext(ctx, sql, nil)
	if err != nil {
		return plain(ctx, err)
	}
	defer rows.Close()
	row := make([]driver.Value, len(rows.Columns()))
	for {
		if err := rows.Next(row); err == io.EOF {
			return nil
		} else if err != nil {
			return plain(ctx, err)
		}
		if err := f(row); err != nil {
			return err
		}
	}
}

// rows gives all rows of a query as texts; a NULL is empty.
func (c *conn) rows(ctx context.Context, sql string) (list [][]string, err error) {
	err = c.each(ctx, sql, func(row []driver.Value) error {
		texts := make([]string, len(row))
		for i, v := range row {
			texts[i] = text(v)
		}
		list = append(list, texts)
		return nil
	})
	return list, err
}

// value gives the first value of a query's first row.
func (c *conn) value(ctx context.Context, sql string) (string, error) {
	rows, err := c.rows(ctx, sql)
	if err != nil || len(rows) == 0 {
		return "", err
	}
	return rows[0][0], nil
}

func text(v driver.Value) string {
	switch v := v.(type) {
	case nil:
		return ""
	case []byte:
		return string(v)
	}
	return fmt.Sprint(v)
}

// Codes of server errors that mean something of their own here.
const (
	codeLockWait    = 1205
	codeNoDatabase  = 1049
	codeNoGrants    = 1141
	codeNoTable     = 1146
	codeAccess      = 1045
	codeAccessDB    = 1044
	codePrivilege   = 1227
	codeTableAccess = 1142
	codePacket      = 1153
	codeDeadlock    = 1213
	codeTwoRows     = 1242 // how a foreign key's test says that rows have no parent
)

func hasCode(err error, codes ...uint16) bool {
	var m *sqldriver.MySQLError
	if !errors.As(err, &m) {
		return false
	}
	for _, c := range codes {
		if m.Number == c {
			return true
		}
	}
	return false
}

// ownTrouble are errors about the server itself: a deadlock, no memory, no disk, shutting down,
// too many connections, a file it cannot write.
func ownTrouble(n uint16) bool {
	switch n {
	case 1213, 1021, 1030, 1037, 1038, 1040, 1041, 1053, 1114, 1135, 1152, 1158, 1159, 1160, 1161, 1317, 1836, 1927,
		3169:
		return true
	}
	return false
}

// plain tells trouble with the connection or the server, and missing rights, from
// other errors.
func plain(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	var m *sqldriver.MySQLError
	if !errors.As(err, &m) {
		if errors.Is(err, sqldriver.ErrPktTooLarge) {
			return fault.New("packet-too-large", nil,
				"a statement or value is larger than the server's max_allowed_packet").
				Advise("raise it on the server, at most 1 GiB")
		}
		return fault.New(engine.Trouble, err,
			"the connection to the server was lost").Advise("look into the server's log")
	}
	switch {
	case ownTrouble(m.Number):
		return fault.New(engine.Trouble, m, "the server is in trouble").Advise("look into the server's log")
	case m.Number == codePrivilege || m.Number == codeTableAccess || m.Number == codeAccessDB || m.Number == 1370 ||
		m.Number == 1143 || m.Number == 1419:
		return fault.New(engine.RightsMissing, m,
			"this user lacks a right").Advise("'grainkeep grants' prints what is needed")
	case m.Number == codeTwoRows:
		return fault.New(engine.RuleBroken, m, "rows break it")
	case m.Number == codePacket:
		return fault.New("packet-too-large", m, "a statement is larger than the target's max_allowed_packet").
			Advise("raise it on the server, at most 1 GiB")
	}
	return m
}

func (s *source) config() (*sqldriver.Config, error) {
	cfg := sqldriver.NewConfig()
	cfg.User, cfg.Net, cfg.Addr = s.at.User, "tcp", s.at.Server
	cfg.Timeout, cfg.MultiStatements, cfg.MaxAllowedPacket = 10*time.Second, true, 1<<30-1
	cfg.Logger = sqldriver.Logger(slog.NewLogLogger(slog.DiscardHandler, slog.LevelError))
	cfg.CheckConnLiveness = false
	cfg.ClientFoundRows = true // a change that changes nothing touches its row all the same
	if strings.HasPrefix(s.at.Server, "/") {
		cfg.Net = "unix"
		if st, err := os.Stat(s.at.Server); err == nil && st.IsDir() {
			cfg.Addr = filepath.Join(s.at.Server, "mysqld.sock")
		}
	} else if _, _, err := net.SplitHostPort(s.at.Server); err != nil {
		host := s.at.Server
		if host == "" {
			host = "localhost"
		}
		cfg.Addr = net.JoinHostPort(host, "3306")
	}
	switch s.at.TLS {
	case "": // where the server offers it; what does not leave this machine nobody can listen to
		if cfg.Net == "tcp" && !loopback(cfg.Addr) {
			cfg.TLS, cfg.AllowFallbackToPlaintext = &tls.Config{InsecureSkipVerify: true}, true
		}
	case "on":
		cfg.TLS = &tls.Config{InsecureSkipVerify: true}
	case "verify":
		cfg.TLS = &tls.Config{}
		if s.at.CA != "" {
			pem, err := os.ReadFile(s.at.CA)
			if err != nil {
				return nil, fault.Wrong("ca-unreadable", "the file of certificates %s cannot be read", s.at.CA)
			}
			cfg.TLS.RootCAs = x509.NewCertPool()
			cfg.TLS.RootCAs.AppendCertsFromPEM(pem)
		}
	}
	if s.at.Secret == nil {
		return cfg, usualPassword(cfg)
	}
	secret, err := s.at.Secret()
	cfg.Passwd = secret.Reveal()
	return cfg, err
}

// loopback says whether an address is this machine's, and no wire's.
func loopback(addr string) bool {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return false
	}
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// usualPassword takes user and password from the clients' own file, ~/.my.cnf, section
// [client], where neither was given.
func usualPassword(cfg *sqldriver.Config) error {
	home, err := os.UserHomeDir()
	if err != nil {
		return nil //nolint:nilerr // there is no such file then
	}
	path := filepath.Join(home, ".my.cnf")
	f, err := os.Open(path)
	if err != nil {
		return nil //nolint:nilerr // there is none
	}
	defer f.Close()
	if st, err := f.Stat(); err == nil && st.Mode().Perm()&0o077 != 0 {
		return fault.Wrong("secret-exposed", "others can read the password file %s", path).Advise("chmod 600 %s",
			engine.ShellQuote(path))
	}
	return clientOptions(f, cfg)
}

// maxOptions bounds the clients' own file.
const maxOptions = 1 << 20 // bytes

// clientOptions reads user and password out of the section [client] of an option file.
func clientOptions(f io.Reader, cfg *sqldriver.Config) error {
	section := ""
	lines := bufio.NewScanner(io.LimitReader(f, maxOptions))
	for lines.Scan() {
		line := strings.TrimSpace(lines.Text())
		if strings.HasPrefix(line, "[") {
			section = line
		}
		key, value, ok := strings.Cut(line, "=")
		if !ok || section != "[client]" {
			continue
		}
		value = strings.Trim(strings.TrimSpace(value), `"'`)
		switch strings.TrimSpace(key) {
		case "password":
			cfg.Passwd = value
		case "user":
			if cfg.User == "" {
				cfg.User = value
			}
		}
	}
	return lines.Err()
}

// connect logs in to a database, or to none, and makes the session settings.
func (s *source) connect(ctx context.Context, database string) (*conn, error) {
	cfg := s.cfg.Clone()
	cfg.DBName = database
	connector, err := sqldriver.NewConnector(cfg)
	if err != nil {
		return nil, err
	}
	raw, err := connector.Connect(ctx)
	if err != nil {
		return nil, s.explainLogin(ctx, database, err)
	}
	c := &conn{raw}
	if _, err := c.exec(ctx, settings+patient+s.own+fmt.Sprintf("SET lock_wait_timeout = %d;\n", s.lockWait())); err != nil {
		c.close()
		return nil, fmt.Errorf("session settings: %w", err)
	}
	return c, nil
}

// lockWait is the longest wait for a lock of others, in whole seconds, as the server takes it.
func (s *source) lockWait() int { return max(1, int(s.at.LockWait.Seconds())) }

// lookedFor says where a password was looked for.
func (s *source) lookedFor() string {
	if s.at.Secret != nil {
		return "check the user and the configured secret"
	}
	return "a password was looked for in ~/.my.cnf (section [client], password = …), and no source of the " +
		"configuration gives a " +
		"secret"
}

// explainLogin turns a failed log-in into what an administrator can act on.
func (s *source) explainLogin(ctx context.Context, database string, err error) error {
	var m *sqldriver.MySQLError
	switch {
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case hasCode(err, codeNoDatabase):
		return fault.New("database-absent", nil, "there is no database %s at %s", database, s.where())
	case hasCode(err, codeAccess, codeAccessDB, 1698):
		return fault.New("login-refused", nil, "the server at %s refused the user %s", s.where(), s.userName()).
			Advise("%s; 'grainkeep grants' prints the SQL that makes such a user", s.lookedFor())
	case errors.As(err, &m):
		return fault.New("login-failed", m, "cannot log in at %s", s.where())
	}
	return fault.New("source-unreachable", engine.RootCause(err), "cannot reach the server at %s", s.where()).
		Advise("check that it runs, and the address, the port and the firewall between")
}

func (s *source) userName() string {
	if s.cfg.User == "" {
		return "(the default one)"
	}
	return s.cfg.User
}
