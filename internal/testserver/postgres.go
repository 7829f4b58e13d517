// Package testserver starts private database servers in temporary folders, for
// tests, benchmarks and the lab. They never touch a standing server.
package testserver

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Admin is the server's superuser.
const Admin = "harbourmaster"

// ErrAbsent says that this machine has no server to start.
var ErrAbsent = errors.New("no PostgreSQL server is installed here")

// Postgres is a running private server. Everybody may log in to it without a
// password, except the user "pilot", over TCP only.
type Postgres struct {
	Folder string // data, log and socket
	Port   int
	bin    string
	as     *syscall.Credential
}

// Variable names a folder of another PostgreSQL server's programs to use, to try
// other versions by hand.
const Variable = "GRAINKEEP_POSTGRES"

// FindPostgres gives the folder of the newest server's programs.
func FindPostgres() (string, error) {
	if folder := os.Getenv(Variable); folder != "" {
		return folder, nil
	}
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if p, err := exec.LookPath("postgres"); err == nil {
		found = append(found, p)
	}
	if len(found) == 0 {
		return "", ErrAbsent
	}
	sort.Strings(found)
	return filepath.Dir(found[len(found)-1]), nil
}

// unprivileged is the user that servers run as: they refuse root.
func unprivileged() (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	for _, name := range []string{"postgres", "mysql", "nobody"} {
		if u, err := user.Lookup(name); err == nil {
			uid, _ := strconv.Atoi(u.Uid)
			gid, _ := strconv.Atoi(u.Gid)
			return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
		}
	}
	return nil, errors.New("there is no unprivileged user to run a server as")
}

// StartPostgres makes and starts a server below a folder. Settings are lines of
// its configuration.
func StartPostgres(parent string, settings ...string) (*Postgres, error) {
	bin, err := FindPostgres()
	if err != nil {
		return nil, err
	}
	as, err := unprivileged()
	if err != nil {
		return nil, err
	}
	folder, err := os.MkdirTemp(parent, "pg-")
	if err != nil {
		return nil, err
	}
	p := &Postgres{Folder: folder, bin: bin, as: as}
	if as != nil {
		if err := os.Chown(folder, int(as.Uid), int(as.Gid)); err != nil {
			return nil, err
		}
	}
	if err := p.run("initdb", "-D", p.data(), "-U", Admin, "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8",
		"--no-sync"); err != nil {
		return nil, err
	}
	hba := "local all all trust\nhost all pilot 127.0.0.1/32 scram-sha-256\nhost all all 127.0.0.1/32 trust\n"
	if err := os.WriteFile(filepath.Join(p.data(), "pg_hba.conf"), []byte(hba), 0o644); err != nil {
		return nil, err
	}
	if p.Port, err = freePort(); err != nil {
		return nil, err
	}
	lines := append([]string{"listen_addresses = '127.0.0.1'", fmt.Sprintf("port = %d", p.Port),
		"unix_socket_directories = '" + folder + "'",
		"fsync = off", "max_connections = 60", "shared_buffers = 128MB", "max_wal_size = 4GB",
		"log_min_messages = warning"}, settings...)
	f, err := os.OpenFile(filepath.Join(p.data(), "postgresql.conf"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return nil, err
	}
	for _, l := range lines {
		fmt.Fprintln(f, l)
	}
	if err := f.Close(); err != nil {
		return nil, err
	}
	return p, p.Start()
}

// MakeFolder makes a folder that the server owns, for a tablespace.
func (p *Postgres) MakeFolder(name string) (string, error) {
	path := filepath.Join(p.Folder, name)
	if err := os.Mkdir(path, 0o700); err != nil || p.as == nil {
		return path, err
	}
	return path, os.Chown(path, int(p.as.Uid), int(p.as.Gid))
}

func (p *Postgres) data() string { return filepath.Join(p.Folder, "data") }

func (p *Postgres) run(program string, args ...string) error {
	cmd := exec.Command(filepath.Join(p.bin, program), args...)
	cmd.Dir = p.Folder
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: p.as}
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w\n%s", program, err, out.String())
	}
	return nil
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// Start starts the server again after Stop.
func (p *Postgres) Start() error {
	return p.run("pg_ctl", "-D", p.data(), "-l", filepath.Join(p.Folder, "log"), "-w", "-s", "start")
}

// Stop stops the server: "fast" ends sessions, "immediate" is a crash.
func (p *Postgres) Stop(mode string) error {
	return p.run("pg_ctl", "-D", p.data(), "-m", mode, "-w", "-s", "stop")
}

// Close stops the server and removes its folder.
func (p *Postgres) Close() error {
	err := p.Stop("immediate")
	return errors.Join(err, os.RemoveAll(p.Folder))
}

// URL is the server's address for --from and --to.
func (p *Postgres) URL(database string) string {
	return fmt.Sprintf("postgres://%s@127.0.0.1:%d/%s", Admin, p.Port, database)
}

// Config is a log-in as the superuser.
func (p *Postgres) Config(database string) *pgx.ConnConfig {
	cfg, err := pgx.ParseConfig(fmt.Sprintf("host=%s port=%d user=%s sslmode=disable", p.Folder, p.Port, Admin))
	if err != nil {
		panic(err)
	}
	cfg.Database = database
	cfg.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	return cfg
}

// Connect logs in as the superuser.
func (p *Postgres) Connect(ctx context.Context, database string) (*pgx.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	return pgx.ConnectConfig(ctx, p.Config(database))
}

// Script runs statements in a database, or in the maintenance database.
func (p *Postgres) Script(ctx context.Context, database, sql string) error {
	if database == "" {
		database = "postgres"
	}
	c, err := p.Connect(ctx, database)
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	_, err = c.PgConn().Exec(ctx, sql).ReadAll()
	return err
}

// CloseSaved stops a server that another process started and wrote down as JSON.
func CloseSaved(data []byte) (folder string, err error) {
	var p Postgres
	if err := json.Unmarshal(data, &p); err != nil {
		return "", err
	}
	if p.bin, err = FindPostgres(); err != nil {
		return "", err
	}
	if p.as, err = unprivileged(); err != nil {
		return "", err
	}
	return p.Folder, p.Close()
}
