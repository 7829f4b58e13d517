package testserver

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	sqldriver "github.com/go-sql-driver/mysql"
)

// MariaDB is a running private server. Its administrator logs in without a password.
type MariaDB struct {
	Folder string // data, log and socket
	Port   int
	as     *syscall.Credential
	cmd    *exec.Cmd
	args   []string
}

// StartMariaDB makes and starts a server below a folder. Settings are options of its
// command line. ErrAbsent says that there is none to start.
func StartMariaDB(parent string, settings ...string) (*MariaDB, error) {
	program := ""
	for _, name := range []string{"mariadbd", "/usr/sbin/mariadbd"} {
		if p, err := exec.LookPath(name); err == nil {
			program = p
		}
	}
	if program == "" {
		return nil, fmt.Errorf("%w: MariaDB", ErrAbsent)
	}
	as, err := unprivileged()
	if err != nil {
		return nil, err
	}
	folder, err := os.MkdirTemp(parent, "mdb-")
	if err != nil {
		return nil, err
	}
	m := &MariaDB{Folder: folder, as: as}
	if as != nil {
		if err := os.Chown(folder, int(as.Uid), int(as.Gid)); err != nil {
			return nil, err
		}
	}
	if m.Port, err = freePort(); err != nil {
		return nil, err
	}
	data := filepath.Join(folder, "data")
	install := m.command("mariadb-install-db", "--no-defaults", "--datadir="+data,
		"--auth-root-authentication-method=normal", "--skip-test-db")
	if out, err := install.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("mariadb-install-db: %w\n%s", err, out)
	}
	m.args = append([]string{program, "--no-defaults", "--datadir=" + data, "--socket=" + m.socket(),
		fmt.Sprint("--port=", m.Port), "--bind-address=127.0.0.1",
		"--pid-file=" + filepath.Join(folder, "pid"), "--log-error=" + filepath.Join(folder, "log"), "--log-bin=bin",
		"--server-id=1", "--binlog-format=row", "--sync-binlog=0",
		"--innodb-flush-log-at-trx-commit=0", "--innodb-buffer-pool-size=256M", "--innodb-log-file-size=128M",
		"--lc-messages-dir=/usr/share/mysql"}, settings...)
	if err := m.Start(); err != nil {
		return nil, err
	}
	db := m.open("root", "")
	defer db.Close()
	_, err = db.Exec(fmt.Sprintf("CREATE USER %s@'%%'; GRANT ALL ON *.* TO %s@'%%' WITH GRANT OPTION; DELETE FROM "+
		"mysql.global_priv WHERE user = ''; FLUSH PRIVILEGES", Admin, Admin))
	return m, err
}

func (m *MariaDB) socket() string { return filepath.Join(m.Folder, "sock") }

func (m *MariaDB) command(program string, args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.Dir = m.Folder
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: m.as}
	return cmd
}

// Start starts the server again after Stop, and waits until it answers.
func (m *MariaDB) Start() error {
	m.cmd = m.command(m.args[0], m.args[1:]...)
	if err := m.cmd.Start(); err != nil {
		return err
	}
	db := m.open("root", "")
	defer db.Close()
	for range 400 {
		if db.Ping() == nil {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	log, _ := os.ReadFile(filepath.Join(m.Folder, "log"))
	return fmt.Errorf("MariaDB does not answer\n%s", log)
}

// Stop stops the server: "fast" ends sessions, "immediate" is a crash.
func (m *MariaDB) Stop(mode string) error {
	signal := syscall.SIGTERM
	if mode == "immediate" {
		signal = syscall.SIGKILL
	}
	err := m.cmd.Process.Signal(signal)
	m.cmd.Wait()
	return err
}

// Close stops the server and removes its folder.
func (m *MariaDB) Close() error {
	return errors.Join(m.Stop("immediate"), os.RemoveAll(m.Folder))
}

// URL is the server's address for --from and --to.
func (m *MariaDB) URL(database string) string {
	return fmt.Sprintf("mysql://%s@127.0.0.1:%d/%s", Admin, m.Port, database)
}

// Client are the interactive client's words that reach the server as its administrator.
func (m *MariaDB) Client() []string {
	return []string{"mariadb", "--no-defaults", "--socket=" + m.socket(), "--user=" + Admin}
}

// Open gives a pool of connections as the administrator.
func (m *MariaDB) Open(database string) *sql.DB { return m.open(Admin, database) }

func (m *MariaDB) open(user, database string) *sql.DB {
	cfg := sqldriver.NewConfig()
	cfg.User, cfg.Net, cfg.Addr, cfg.DBName, cfg.MultiStatements, cfg.Timeout = user, "unix", m.socket(), database,
		true, 5*time.Second
	cfg.Logger = &sqldriver.NopLogger{}
	c, err := sqldriver.NewConnector(cfg)
	if err != nil {
		panic(err)
	}
	db := sql.OpenDB(c)
	db.SetMaxOpenConns(4)
	return db
}

// Script runs statements in a database, or in none.
func (m *MariaDB) Script(ctx context.Context, database, sql string) error {
	db := m.Open(database)
	defer db.Close()
	_, err := db.ExecContext(ctx, sql)
	return err
}

// Ask gives the rows of a query: values joined by "|", rows by a line feed.
func (m *MariaDB) Ask(ctx context.Context, database, query string) (string, error) {
	db := m.Open(database)
	defer db.Close()
	rows, err := db.QueryContext(ctx, query)
	if err != nil {
		return "", err
	}
	defer rows.Close()
	return joined(rows)
}

func joined(rows *sql.Rows) (string, error) {
	out, line := "", ""
	columns, err := rows.Columns()
	if err != nil {
		return "", err
	}
	values := make([]sql.NullString, len(columns))
	into := make([]any, len(columns))
	for i := range values {
		into[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return "", err
		}
		line = ""
		for i, v := range values {
			if i > 0 {
				line += "|"
			}
			if !v.Valid {
				v.String = "NULL"
			}
			line += v.String
		}
		out += line + "\n"
	}
	if out != "" {
		out = out[:len(out)-1]
	}
	return out, rows.Err()
}

// CloseSavedMariaDB stops a server that another process started and wrote down as JSON.
func CloseSavedMariaDB(data []byte) (folder string, err error) {
	var m MariaDB
	if err := json.Unmarshal(data, &m); err != nil {
		return "", err
	}
	text, err := os.ReadFile(filepath.Join(m.Folder, "pid"))
	if err != nil {
		return "", err
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil {
		return "", err
	}
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		return "", err
	}
	for range 100 { // its files are in use until it is gone
		if syscall.Kill(pid, 0) != nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	return m.Folder, os.RemoveAll(m.Folder)
}
