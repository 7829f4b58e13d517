// Package testserver starts private database servers in temporary folders, for
// tests, benchmarks and the lab. They never touch a standing server.
package testserver

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// Admin is the server's superuser.
const Admin = "harbourmaster"

// Postgres is a running private server. Everybody may log in to it without a
// password, except the user "pilot", over TCP only.
type Postgres struct {
	Folder string // data, log and socket
	Port   int
	bin    string
	system
}

// Variable names a folder of another PostgreSQL server's programs to use; "18" is the one
// that scripts/servers set up.
const Variable = "GRAINKEEP_POSTGRES"

// programs is where servers' programs lie on a Debian system.
const programs = "/usr/lib/postgresql/"

// FindPostgres gives the folder of the newest server's programs.
func FindPostgres() (string, error) {
	switch folder := os.Getenv(Variable); folder {
	case "":
	case "18":
		root, err := other("sid")
		return root + programs + "18/bin", err
	default:
		return folder, nil
	}
	found, _ := filepath.Glob(programs + "*/bin/postgres")
	if p, err := exec.LookPath("postgres"); err == nil {
		found = append(found, p)
	}
	if len(found) == 0 {
		return "", fmt.Errorf("%w: PostgreSQL", ErrAbsent)
	}
	sort.Strings(found)
	return filepath.Dir(found[len(found)-1]), nil
}

// locate finds the server's programs, on this machine or in a system of its own.
func (p *Postgres) locate() error {
	bin, err := FindPostgres()
	if err != nil {
		return err
	}
	root, _, _ := strings.Cut(bin, programs)
	if root == bin {
		root = ""
	}
	p.system, err = newSystem(root)
	p.bin = p.seen(bin)
	return err
}

// StartPostgres makes and starts a server below a folder. Settings are lines of
// its configuration.
func StartPostgres(parent string, settings ...string) (*Postgres, error) {
	p := &Postgres{}
	err := p.locate()
	if err != nil {
		return nil, err
	}
	if p.Folder, err = p.temp(parent, "pg-"); err != nil {
		return nil, err
	}
	if err := p.run("initdb", "-D", p.seen(p.data()), "-U", Admin, "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8",
		"--no-sync"); err != nil {
		return nil, err
	}
	hba := "local all all trust\nhost replication all 127.0.0.1/32 trust\n" +
		"host all pilot 127.0.0.1/32 scram-sha-256\nhost all all 127.0.0.1/32 trust\n"
	if err := os.WriteFile(filepath.Join(p.data(), "pg_hba.conf"), []byte(hba), 0o644); err != nil {
		return nil, err
	}
	if p.Port, err = freePort(); err != nil {
		return nil, err
	}
	lines := append([]string{"listen_addresses = '127.0.0.1'", fmt.Sprintf("port = %d", p.Port),
		"unix_socket_directories = '" + p.seen(p.Folder) + "'", "dynamic_shared_memory_type = mmap",
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

// StartStandby stops the server, copies its data, and starts it again together with a standby that follows it.
func (p *Postgres) StartStandby(parent string) (*Postgres, error) {
	q := &Postgres{bin: p.bin, system: p.system}
	var err error
	if q.Folder, err = q.temp(parent, "pg-"); err != nil {
		return nil, err
	}
	if err := p.Stop("fast"); err != nil {
		return nil, err
	}
	if err := copyFolder(p.data(), q.data()); err != nil {
		return nil, err
	}
	if q.Port, err = freePort(); err != nil {
		return nil, err
	}
	lines := fmt.Sprintf("port = %d\nunix_socket_directories = '%s'\nhot_standby_feedback = on\nprimary_conninfo = "+
		"'host=127.0.0.1 port=%d user=%s'\n", q.Port, q.seen(q.Folder), p.Port, Admin)
	for name, text := range map[string]string{"postgresql.auto.conf": lines, "standby.signal": ""} {
		if err := os.WriteFile(filepath.Join(q.data(), name), []byte(text), 0o644); err != nil {
			return nil, err
		}
	}
	return q, errors.Join(p.Start(), q.Start())
}

// MakeFolder makes a folder that the server owns, for a tablespace; its path is the server's.
func (p *Postgres) MakeFolder(name string) (string, error) {
	path := filepath.Join(p.Folder, name)
	err := os.Mkdir(path, 0o700)
	if err == nil {
		err = p.own(path)
	}
	return p.seen(path), err
}

func (p *Postgres) data() string { return filepath.Join(p.Folder, "data") }

func (p *Postgres) run(program string, args ...string) error {
	cmd := p.command(p.Folder, filepath.Join(p.bin, program), args...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w\n%s", program, err, out.String())
	}
	return nil
}

// Start starts the server again after Stop.
func (p *Postgres) Start() error {
	return p.run("pg_ctl", "-D", p.seen(p.data()), "-l", p.seen(filepath.Join(p.Folder, "log")), "-w", "-s", "start")
}

// Stop stops the server: "fast" ends sessions, "immediate" is a crash.
func (p *Postgres) Stop(mode string) error {
	return p.run("pg_ctl", "-D", p.seen(p.data()), "-m", mode, "-w", "-s", "stop")
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
	if err := p.locate(); err != nil {
		return "", err
	}
	return p.Folder, p.Close()
}
