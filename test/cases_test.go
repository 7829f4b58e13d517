package test

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/demo"
	"grainkeep/internal/testserver"
)

// privateServer is what both servers for tests can do.
type privateServer interface {
	Start() error
	Stop(mode string) error
	URL(database string) string
	Script(ctx context.Context, database, sql string) error
}

// place is where a test of every engine happens: a private server, or a folder of
// SQLite files.
type place struct {
	t       *testing.T
	engine  string
	product string
	server  privateServer // nil for files
	folder  string        // of the files
	ask     func(database, sql string) string
	lock    func(database, table string) (release func()) // keeps everybody else off a table
	waits   string                                        // counts those who wait for a lock
	absent  error                                         // why there is no server
}

// need skips where the place's server cannot be had; scripts/test fails on such a skip.
func (p *place) need(t *testing.T) {
	t.Helper()
	if p.absent != nil {
		t.Skipf("no %s: %v", p.product, p.absent)
	}
}

// url is what --from and --to take; without a database, the whole place.
func (p *place) url(database string) string {
	switch {
	case p.server != nil:
		return p.server.URL(database)
	case database == "":
		return p.folder
	}
	return filepath.Join(p.folder, p.name(database))
}

// at is a server's address in a configuration.
func (p *place) at() string {
	u, err := url.Parse(p.server.URL(""))
	require.NoError(p.t, err)
	return u.Host
}

// name is a database's name as dumps have it.
func (p *place) name(database string) string {
	if p.server == nil {
		return database + ".db"
	}
	return database
}

// run runs statements in a database; in none, where its name is empty.
func (p *place) run(database, sql string) {
	p.t.Helper()
	if p.server == nil {
		db, err := demo.OpenSQLite(filepath.Join(p.folder, p.name(database)))
		require.NoError(p.t, err)
		defer db.Close()
		_, err = db.Exec("PRAGMA busy_timeout = 10000; " + sql)
		require.NoError(p.t, err, "%.200s", sql)
		return
	}
	require.NoError(p.t, p.server.Script(context.Background(), database, sql), "%.200s", sql)
}

// try runs statements that may fail.
func (p *place) try(database, sql string) error {
	if p.server != nil {
		return p.server.Script(context.Background(), database, sql)
	}
	db, err := demo.OpenSQLite(filepath.Join(p.folder, p.name(database)))
	require.NoError(p.t, err)
	defer db.Close()
	_, err = db.Exec(sql)
	return err
}

// scratch are the words that say where to drill.
func (p *place) scratch() []string {
	if p.server == nil {
		return nil
	}
	return []string{"--to", p.url("")}
}

// databases lists all that there are.
func (p *place) databases() string {
	p.t.Helper()
	switch p.engine {
	case "postgres":
		return p.ask("", "SELECT string_agg(datname, ' ') FROM pg_database")
	case "mysql":
		return p.ask("", "SELECT group_concat(schema_name SEPARATOR ' ') FROM information_schema.schemata")
	}
	all := ""
	entries, err := os.ReadDir(p.folder)
	require.NoError(p.t, err)
	for _, e := range entries {
		all += e.Name() + " "
	}
	return all
}

// drop removes a database, if it is there.
func (p *place) drop(database string) {
	p.t.Helper()
	switch p.engine {
	case "postgres":
		p.run("", "DROP DATABASE IF EXISTS "+database+" WITH (FORCE)")
	case "mysql":
		p.run("", "SET foreign_key_checks = 0; DROP DATABASE IF EXISTS "+database)
	default:
		found, _ := filepath.Glob(filepath.Join(p.folder, p.name(database)+"*"))
		for _, f := range found {
			require.NoError(p.t, os.Remove(f))
		}
	}
}

// everyServer gives the shared servers. One that cannot be had skips the test.
func everyServer(t *testing.T) []*place {
	t.Helper()
	list := []*place{onPostgres(t, needServer(t)), onMariaDB(t, needMariaDB(t))}
	if noMySQL == nil { // tests of every engine say that it is missing
		list = append(list, onMySQL(t))
	}
	return list
}

func onPostgres(t *testing.T, s *testserver.Postgres) *place {
	return &place{t: t, engine: "postgres", product: "postgres", server: s, ask: func(database, sql string) string {
		if database == "" {
			database = "postgres"
		}
		return query(t, s, database, sql)
	}, lock: func(database, table string) func() {
		c, err := s.Connect(context.Background(), database)
		require.NoError(t, err)
		ask(t, c, "BEGIN; LOCK TABLE "+table+" IN ACCESS EXCLUSIVE MODE")
		return func() { require.NoError(t, c.Close(context.Background())) }
	}, waits: "SELECT count(*) FROM pg_locks WHERE NOT granted"}
}

func onMariaDB(t *testing.T, m *testserver.MySQL) *place {
	return &place{t: t, engine: "mysql", product: "mariadb", server: m, ask: func(database, sql string) string {
		return queryMaria(t, m, database, sql)
	},
		lock: func(database, table string) func() {
			db := m.Open(database)
			c, err := db.Conn(context.Background())
			require.NoError(t, err)
			_, err = c.ExecContext(context.Background(), "LOCK TABLES "+table+" WRITE")
			require.NoError(t, err)
			return func() {
				c.Close()
				require.NoError(t, db.Close())
			}
		}, waits: "SELECT count(*) FROM information_schema.processlist WHERE state = 'Waiting for table metadata lock'"}
}

func onMySQL(t *testing.T) *place {
	p := onMariaDB(t, mysql)
	p.product = "mysql"
	return p
}

// everyEngine gives the shared servers, also those that cannot be had (each test asks
// need), and a folder of files.
func everyEngine(t *testing.T) []*place {
	t.Helper()
	files := &place{t: t, engine: "sqlite", product: "sqlite", folder: t.TempDir()}
	files.ask = func(database, sql string) string {
		out := sh(t, files.folder, "sqlite3 "+files.name(database)+" \"$SQL\"", "SQL="+sql)
		return out[:max(0, len(out)-1)]
	}
	require.NoError(t, demo.LoadSQLite(context.Background(), files.folder, 1))
	servers := []*place{{t: t, product: "postgres", absent: absent}, {t: t, product: "mariadb", absent: noMaria},
		{t: t, product: "mysql", absent: noMySQL}}
	if absent == nil {
		servers[0] = onPostgres(t, server)
	}
	if noMaria == nil {
		servers[1] = onMariaDB(t, maria)
	}
	if noMySQL == nil {
		servers[2] = onMySQL(t)
	}
	return append(servers, files)
}

// TestTablesAndRowsThatAreLeftOut: what a job leaves out is not there, nothing that
// needs it is, and everybody is told.
func TestTablesAndRowsThatAreLeftOut(t *testing.T) {
	for _, p := range everyEngine(t) {
		t.Run(p.product, func(t *testing.T) {
			p.need(t)
			dir := t.TempDir()
			at := "path = " + strconv.Quote(p.folder)
			if p.server != nil {
				at = fmt.Sprintf("server = %q\nuser = %q", p.at(), testserver.Admin)
			}
			config := fmt.Sprintf("[source.s]\nengine = %q\n%s\n[keep.k]\nfolder = \"keep\"\n[job.j]\nsource = "+
				"\"s\"\nkeep = \"k\"\nserver = false\ndatabases = [%q]\nhold_writers = true\nskip_tables = "+
				"[\"post*\", \"nothing_*\"]\n[[job.j.rows]]\ntable = \"booking\"\ncondition = \"id <= 100\"\n",
				p.engine, at, p.name("bookings"))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte(config), 0o600))
			run(t, dir, 0, "keep", "create", "k")
			o := run(t, dir, 3, "dump", "j")
			require.Contains(t, o.stderr, `the entry "nothing_*" of skip_tables matches no table`)
			path := lines(o.stdout)[0]
			shown := run(t, dir, 0, "show", "j").stdout
			require.Regexp(t, "left out +by the job: .*table .*posting.*view .*balance", shown)
			require.Regexp(t, "in part +.*booking.*: only rows where id <= 100", shown)
			readme, err := os.ReadFile(filepath.Join(path, "README.txt"))
			require.NoError(t, err)
			require.Contains(t, string(readme), "it has only the rows where id <= 100")
			run(t, dir, 0, "drill", path, "--to", p.url(""))
			p.drop("narrow")
			defer p.drop("narrow")
			run(t, dir, 0, "restore", path, "--to", p.url(""), "--as", p.name("narrow"))
			require.Equal(t, "100", p.ask("narrow", "SELECT count(*) FROM booking"))
			require.Equal(t, "1800", p.ask("narrow", "SELECT count(*) FROM sailing_load"))
			if p.server != nil {
				require.Equal(t, "0", p.ask("narrow",
					"SELECT count(*) FROM information_schema.tables WHERE table_name IN ('posting', 'balance') "+
						"AND 'narrow' IN (table_schema, table_catalog)"))
			}
		})
	}
}
