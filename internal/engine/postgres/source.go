// Package postgres is the engine for PostgreSQL servers, versions 12 to 18. It
// reads the catalogs itself and moves rows with COPY.
package postgres

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgconn/ctxwatch"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

func init() { engine.Register("postgres", driver{}) }

// defaultWait is the longest wait for a lock held by another session.
const defaultWait = 30 * time.Second

const (
	oldest = 120000
	newest = 190000 // the first version that this engine was not written for
)

type driver struct{}

// Open logs in to the server, to its maintenance database.
func (driver) Open(ctx context.Context, at engine.Location) (engine.Source, error) {
	if at.LockWait == 0 {
		at.LockWait = defaultWait
	}
	s := &source{at: at}
	home := at.Database
	if home == "" {
		home = "postgres"
	}
	var err error
	if s.home, err = s.connect(ctx, home); err != nil {
		if at.Database == "" && fault.HasCode(err, "database-absent") {
			s.home, err = s.connect(ctx, "template1")
		}
		if err != nil {
			return nil, err
		}
	}
	_, sealed := s.home.PgConn().Conn().(*tls.Conn)
	s.open = at.TLS == "" && !sealed
	s.version, err = serverVersion(ctx, s.home)
	if err == nil && (s.version < oldest || s.version >= newest) {
		err = fault.New("version-unsupported", nil, "the server at %s is PostgreSQL %s", s.where(),
			shortVersion(s.version)).
			Advise("grainkeep works with versions 12 to 18")
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

type source struct {
	at      engine.Location
	home    *pgx.Conn // in the maintenance database
	version int       // as server_version_num
	open    bool      // without TLS, which was tried and is not asked for
}

func (s *source) where() string {
	if s.at.Server == "" {
		return "the default server"
	}
	return s.at.Server
}

func serverVersion(ctx context.Context, c *pgx.Conn) (int, error) {
	var v string
	if err := c.QueryRow(ctx, "SELECT current_setting('server_version_num')").Scan(&v); err != nil {
		return 0, err
	}
	return strconv.Atoi(v)
}

func shortVersion(v int) string { return fmt.Sprintf("%d.%d", v/10000, v%10000) }

// connect logs in to a database and makes the session settings.
func (s *source) connect(ctx context.Context, database string) (*pgx.Conn, error) {
	cfg, err := s.config(database)
	if err != nil {
		return nil, err
	}
	c, err := pgx.ConnectConfig(ctx, cfg)
	if err != nil {
		return nil, s.explainLogin(ctx, database, err)
	}
	if _, err := c.Exec(ctx, settings+noTimeouts(c.PgConn().ParameterStatus("server_version"))); err != nil {
		c.Close(ctx)
		return nil, fmt.Errorf("session settings: %w", err)
	}
	return c, nil
}

func (s *source) config(database string) (*pgx.ConnConfig, error) {
	var dsn []string
	add := func(k, v string) {
		if v != "" {
			dsn = append(dsn, k+"='"+strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(v)+"'")
		}
	}
	host, port, err := net.SplitHostPort(s.at.Server)
	if err != nil || strings.HasPrefix(s.at.Server, "/") {
		host, port = s.at.Server, ""
		if folder, p, ok := strings.Cut(s.at.Server, ".s.PGSQL."); ok {
			host, port = filepath.Clean(folder), p
		}
	}
	add("host", host)
	add("port", port)
	add("user", s.at.User)
	add("dbname", database)
	add("application_name", "grainkeep")
	add("connect_timeout", "10")
	switch {
	case s.at.TLS == "off" || s.open:
		add("sslmode", "disable")
	case s.at.TLS == "on":
		add("sslmode", "require")
	case s.at.TLS == "verify":
		add("sslmode", "verify-full")
	}
	add("sslrootcert", s.at.CA)
	if err := checkPasswordFile(s.at.Secret == nil); err != nil {
		return nil, err
	}
	cfg, err := pgx.ParseConfig(strings.Join(dsn, " "))
	if err != nil {
		return nil, fault.Wrong("source-unclear", "the source %s cannot be understood: %v", s.where(), err)
	}
	if s.at.Secret != nil {
		secret, err := s.at.Secret()
		if err != nil {
			return nil, err
		}
		cfg.Password = secret.Reveal()
	}
	cfg.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	cfg.BuildContextWatcherHandler = func(c *pgconn.PgConn) ctxwatch.Handler {
		return &pgconn.CancelRequestContextWatcherHandler{Conn: c, DeadlineDelay: time.Second}
	}
	return cfg, nil
}

// checkPasswordFile refuses a password file that others can read, as the
// server's own client does.
func checkPasswordFile(used bool) error {
	path := os.Getenv("PGPASSFILE")
	if home, err := os.UserHomeDir(); path == "" && err == nil {
		path = filepath.Join(home, ".pgpass")
	}
	st, err := os.Stat(path)
	if err != nil || !used || st.Mode().Perm()&0o077 == 0 {
		return nil //nolint:nilerr // there is no password file
	}
	return fault.Wrong("secret-exposed", "others can read the password file %s", path).
		Advise("chmod 600 %s", engine.ShellQuote(path))
}

// lookedFor says where a password was looked for.
func (s *source) lookedFor() string {
	if s.at.Secret != nil {
		return "check the user and the configured secret"
	}
	path := os.Getenv("PGPASSFILE")
	if path == "" {
		path = "~/.pgpass"
	}
	if os.Getenv("PGPASSWORD") != "" {
		return "the password is that of PGPASSWORD: check it and the user"
	}
	return "a password was looked for in " + path +
		" (a line host:port:database:user:password), and no source of the " +
		"configuration gives a secret"
}

// explainLogin turns a failed log-in into what an administrator can act on.
func (s *source) explainLogin(ctx context.Context, database string, err error) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	var pg *pgconn.PgError
	if !errors.As(err, &pg) {
		var n net.Error
		if errors.As(err, &n) || strings.Contains(err.Error(), "dial") {
			return fault.New("source-unreachable", engine.RootCause(err), "cannot reach the server at %s", s.where()).
				Advise("check that it runs, and the address, the port and the firewall between")
		}
		return fault.New("login-failed", engine.RootCause(err), "cannot log in at %s", s.where())
	}
	switch pg.Code {
	case "28P01", "28000":
		return fault.New("login-refused", nil, "the server at %s refused the user %s: %s", s.where(), s.userName(),
			pg.Message).
			Advise("%s; 'grainkeep grants' prints the SQL that makes such a user", s.lookedFor())
	case "3D000":
		return fault.New("database-absent", nil, "there is no database %s at %s", database, s.where())
	case "42501":
		return fault.New("login-refused", nil, "the user %s may not connect to %s: %s", s.userName(), database,
			pg.Message).
			Advise("'grainkeep grants' prints the SQL that allows it")
	}
	return fault.New("login-failed", nil, "cannot log in to %s at %s: %s", database, s.where(), pg.Message)
}

func (s *source) userName() string {
	if s.at.User == "" {
		return "(the default one)"
	}
	return s.at.User
}

// Close logs out.
func (s *source) Close() error { return closeConn(s.home) }

func closeConn(c *pgx.Conn) error {
	if c == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	return c.Close(ctx)
}

func (s *source) Describe(ctx context.Context) (engine.Server, error) {
	d := engine.Server{Product: "PostgreSQL", Version: shortVersion(s.version), Ordered: true}
	err := s.home.QueryRow(ctx, `SELECT current_user::text, clock_timestamp(),
		(SELECT reset_val FROM pg_settings WHERE name = 'TimeZone')`).Scan(&d.User, &d.Clock, &d.Zone)
	if err != nil {
		return d, err
	}
	d.Wide = true
	log, err := s.logSetup(ctx, s.home)
	if err != nil {
		return d, err
	}
	d.Log, d.NoLog = log.words(), log.why(s.at.LogUnbounded)
	// Only a privileged user may know; without it the drive cannot be compared.
	var folder string
	if s.local() && s.home.QueryRow(ctx, "SELECT current_setting('data_directory')").Scan(&folder) == nil {
		d.Folder = folder
	}
	return d, nil
}

func (s *source) local() bool {
	host, _, _ := net.SplitHostPort(s.at.Server)
	return strings.HasPrefix(s.at.Server, "/") || host == "localhost" || host == "127.0.0.1" || host == "::1"
}

// system databases are left out unless a job names them literally.
func (s *source) Databases(ctx context.Context) ([]engine.Database, error) {
	rows, err := s.home.Query(ctx, `SELECT d.datname::text,
		CASE WHEN has_database_privilege(d.oid, 'CONNECT') OR pg_has_role('pg_read_all_stats', 'MEMBER')
			THEN pg_database_size(d.oid) ELSE -1 END,
		d.datname IN ('postgres', 'template0', 'template1') OR d.datname LIKE 'grainkeep\_drill\_%' OR d.datname LIKE 'grainkeep\_restore\_%',
		CASE WHEN NOT has_database_privilege(d.oid, 'CONNECT') THEN 'this user may not connect' ELSE '' END
		FROM pg_database d WHERE d.datallowconn ORDER BY 1`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (d engine.Database, err error) {
		err = r.Scan(&d.Name, &d.Bytes, &d.System, &d.Note)
		return d, err
	})
}

// Script implements engine.Scripter.
func (s *source) Script(ctx context.Context, database, sql string) error {
	if database == "" {
		_, err := s.home.PgConn().Exec(ctx, sql).ReadAll()
		return plain(ctx, s.home, err)
	}
	c, err := s.connect(ctx, database)
	if err != nil {
		return err
	}
	defer closeConn(c)
	_, err = c.PgConn().Exec(ctx, sql).ReadAll()
	return plain(ctx, c, err)
}
