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
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	sqldriver "github.com/go-sql-driver/mysql"
)

// MySQL is a running private server of MariaDB or MySQL. Its administrator logs in
// without a password.
type MySQL struct {
	Folder string // data, log and socket
	Port   int
	Maria  bool
	system
	client string
	cmd    *exec.Cmd
	args   []string
}

// MariaVariable names a folder with a system of its own, whose MariaDB is used;
// "11.8" is the one that scripts/servers set up.
const MariaVariable = "GRAINKEEP_MARIADB"

// StartMariaDB makes and starts a server below a folder. Settings are options of its
// command line. ErrAbsent says that there is none to start.
func StartMariaDB(parent string, settings ...string) (*MySQL, error) {
	root, err := os.Getenv(MariaVariable), error(nil)
	if root == "11.8" {
		root, err = other("mariadb")
	}
	if err != nil {
		return nil, err
	}
	const program = "/usr/sbin/mariadbd"
	if _, err := os.Stat(root + program); err != nil {
		return nil, fmt.Errorf("%w: MariaDB", ErrAbsent)
	}
	m := &MySQL{Maria: true, client: "/usr/bin/mariadb"}
	if err := m.prepare(parent, root); err != nil {
		return nil, err
	}
	at := func(name string) string { return m.seen(filepath.Join(m.Folder, name)) }
	install := m.command(m.Folder, "/usr/bin/mariadb-install-db", "--no-defaults", "--datadir="+at("data"), "--tmpdir="+at("tmp"),
		"--auth-root-authentication-method=normal", "--skip-test-db", "--force") // a system of its own knows no hosts
	if out, err := install.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("mariadb-install-db: %w\n%s", err, out)
	}
	m.args = append(append(m.arguments(program), "--log-bin=bin", "--innodb-log-file-size=128M",
		"--lc-messages-dir=/usr/share/mysql"), settings...)
	return m, m.first("DELETE FROM mysql.global_priv WHERE user = ''")
}

// StartMySQL makes and starts a server of MySQL, from the system that scripts/servers
// set up.
func StartMySQL(parent string, settings ...string) (*MySQL, error) {
	root, err := other("sid")
	if err != nil {
		return nil, err
	}
	m := &MySQL{client: "/usr/bin/mysql"}
	if err := m.prepare(parent, root); err != nil {
		return nil, err
	}
	m.args = append(append(m.arguments("/usr/sbin/mysqld"), "--secure-file-priv=NULL", "--mysqlx=OFF",
		"--information-schema-stats-expiry=0"), settings...)
	if err := m.initialise(); err != nil {
		return nil, err
	}
	return m, m.first("DO 0")
}

// pristine is new data in the folder of a server that has it beside its own: making it takes seconds, a copy does not.
var pristine struct {
	sync.Mutex
	folder string
}

// initialise makes the data of a new server of MySQL.
func (m *MySQL) initialise() error {
	pristine.Lock()
	defer pristine.Unlock()
	data := filepath.Join(m.Folder, "data")
	if _, err := os.Stat(pristine.folder); err == nil {
		return copyFolder(pristine.folder, data)
	}
	install := m.command(m.Folder, m.args[0], append(m.args[1:], "--initialize-insecure")...)
	if out, err := install.CombinedOutput(); err != nil {
		log, _ := os.ReadFile(filepath.Join(m.Folder, "log"))
		return fmt.Errorf("initialising MySQL: %w\n%s%s", err, out, log)
	}
	pristine.folder = filepath.Join(m.Folder, "new")
	if err := copyFolder(data, pristine.folder); err != nil {
		return err
	}
	return os.Remove(filepath.Join(pristine.folder, "auto.cnf")) // each server has a name of its own
}

func (m *MySQL) prepare(parent, root string) (err error) {
	if m.system, err = newSystem(root); err != nil {
		return err
	}
	if m.Folder, err = m.temp(parent, "mdb-"); err != nil {
		return err
	}
	// A folder of its own for what it writes meanwhile: a server that starts clears that, also of others.
	temp := filepath.Join(m.Folder, "tmp")
	if err := os.Mkdir(temp, 0o700); err != nil {
		return err
	}
	if err := m.own(temp); err != nil {
		return err
	}
	m.Port, err = freePort()
	return err
}

// arguments are what both products are started with.
func (m *MySQL) arguments(program string) []string {
	at := func(name string) string { return m.seen(filepath.Join(m.Folder, name)) }
	return []string{program, "--no-defaults", "--datadir=" + at("data"), "--socket=" + at("sock"),
		fmt.Sprint("--port=", m.Port), "--bind-address=127.0.0.1", "--pid-file=" + at("pid"), "--log-error=" +
			at("log"),
		"--server-id=1", "--binlog-format=row", "--sync-binlog=0", "--innodb-flush-log-at-trx-commit=0",
		"--innodb-buffer-pool-size=256M", "--tmpdir=" + at("tmp")}
}

// first starts a new server, and makes its administrator.
func (m *MySQL) first(statement string) error {
	if err := m.Start(); err != nil {
		return err
	}
	db := m.open("root", "")
	defer db.Close()
	_, err := db.Exec(fmt.Sprintf("CREATE USER %s@'%%'; GRANT ALL ON *.* TO %s@'%%' WITH GRANT OPTION; %s; "+
		"FLUSH PRIVILEGES", Admin, Admin, statement))
	return err
}

func (m *MySQL) socket() string { return filepath.Join(m.Folder, "sock") }

// Start starts the server again after Stop, and waits until it answers.
func (m *MySQL) Start() error {
	m.cmd = m.command(m.Folder, m.args[0], m.args[1:]...)
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
func (m *MySQL) Stop(mode string) error {
	signal := syscall.SIGTERM
	if mode == "immediate" {
		signal = syscall.SIGKILL
	}
	err := m.cmd.Process.Signal(signal)
	m.cmd.Wait()
	return err
}

// Close stops the server and removes its folder.
func (m *MySQL) Close() error {
	return errors.Join(m.Stop("immediate"), os.RemoveAll(m.Folder))
}

// URL is the server's address for --from and --to.
func (m *MySQL) URL(database string) string {
	return fmt.Sprintf("mysql://%s@127.0.0.1:%d/%s", Admin, m.Port, database)
}

// Inside is a path as the server and its client see it.
func (m *MySQL) Inside(path string) string { return m.seen(path) }

// Client are the interactive client's words that reach the server as its administrator.
func (m *MySQL) Client() []string {
	words := []string{m.client, "--no-defaults", "--socket=" + m.seen(m.socket()), "--user=" + Admin}
	if m.root != "" {
		words = append([]string{"chroot", m.root}, words...)
	}
	return words
}

// Open gives a pool of connections as the administrator.
func (m *MySQL) Open(database string) *sql.DB { return m.open(Admin, database) }

func (m *MySQL) open(user, database string) *sql.DB {
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
func (m *MySQL) Script(ctx context.Context, database, sql string) error {
	db := m.Open(database)
	defer db.Close()
	_, err := db.ExecContext(ctx, sql)
	return err
}

// Ask gives the rows of a query: values joined by "|", rows by a line feed.
func (m *MySQL) Ask(ctx context.Context, database, query string) (string, error) {
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

// CloseSavedMySQL stops a server that another process started and wrote down as JSON.
func CloseSavedMySQL(data []byte) (folder string, err error) {
	var m MySQL
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

// StartWith starts the server again after Stop, this once with more options.
func (m *MySQL) StartWith(options ...string) error {
	args := m.args
	defer func() { m.args = args }()
	m.args = slices.Concat(args, options)
	return m.Start()
}
