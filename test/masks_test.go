package test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// chained is a server with a database "live", of which a job takes fulls and increments from the server's log.
type chained struct {
	dir    string
	source string   // the lines of its section in a configuration
	seal   []string // whom its dumps are sealed for; the key office.key opens them
	sql    func(database, sql string) string

	refused func(database, sql string) error // why the server refuses a statement
	crash   func()                           // the server dies, and starts again
}

// chainedServers start servers whose logs can be followed, each with a configuration that more is added to.
func chainedServers(t *testing.T, each func(t *testing.T, name string, x chained), more ...string) {
	needServer(t)
	for _, product := range append([]string{"postgres", "mariadb"}, more...) {
		t.Run(product, func(t *testing.T) {
			t.Parallel()
			name := map[bool]string{true: "postgres", false: "mysql"}[product == "postgres"]
			x := chained{dir: t.TempDir()}
			if name == "postgres" {
				s, err := testserver.StartPostgres(ownFolder(t), "wal_level = logical", "max_slot_wal_keep_size = '1GB'")
				require.NoError(t, err)
				t.Cleanup(func() { s.Close() })
				x.source = fmt.Sprintf("engine = \"postgres\"\nserver = \"127.0.0.1:%d\"\nuser = %q\n", s.Port, testserver.Admin)
				x.sql = func(database, sql string) string { return strings.TrimSpace(query(t, s, database, sql)) }
				x.refused = func(database, sql string) error { return s.Script(context.Background(), database, sql) }
				x.crash = func() {
					_ = s.Stop("immediate") // which never ends cleanly
					require.NoError(t, s.Start())
				}
				x.sql("postgres", "CREATE DATABASE live")
			} else {
				start := func() (*testserver.MySQL, error) { return testserver.StartMariaDB(ownFolder(t), "--binlog-format=ROW") }
				if product == "mysql" {
					start = func() (*testserver.MySQL, error) { return testserver.StartMySQL(ownFolder(t)) }
				}
				m, err := start()
				if product == "mysql" && errors.Is(err, testserver.ErrAbsent) {
					t.Skip(err)
				}
				require.NoError(t, err)
				t.Cleanup(func() { m.Close() })
				x.source = fmt.Sprintf("engine = \"mysql\"\nserver = \"127.0.0.1:%d\"\nuser = %q\n", m.Port, testserver.Admin)
				x.sql = func(database, sql string) string { return strings.TrimSpace(queryMaria(t, m, database, sql)) }
				x.refused = func(database, sql string) error { return m.Script(context.Background(), database, sql) }
				x.crash = func() {
					_ = m.Stop("immediate")
					require.NoError(t, m.Start())
				}
				x.sql("", "CREATE DATABASE live")
			}
			each(t, name, x)
		})
	}
}

// configure writes the configuration, with more lines, and makes the keep.
func (x chained) configure(t *testing.T, more string) {
	t.Helper()
	keys, seal := "", ""
	if len(x.seal) > 0 {
		keys, seal = "keys = [\"office.key\"]\n", fmt.Sprintf("seal = [%q, %q]\n", x.seal[1], x.seal[3])
	}
	require.NoError(t, os.WriteFile(filepath.Join(x.dir, "grainkeep.toml"), []byte(keys+"[journal]\nfolder = \"state\"\n[source.quay]\n"+
		x.source+"[keep.barn]\nfolder = \"barn\"\n"+seal+"[job.nightly]\nsource = \"quay\"\ndatabases = [\"live\"]\nkeep = \"barn\"\ndrill_on = "+
		"\"quay\"\nfull = \"02:30 on sunday\"\nincremental = \"each 15 min\"\naccept = [\"same-file-system\"]\n"+more), 0o600))
	run(t, x.dir, 0, "keep", "create", "barn")
}

// TestMasks: a test database that is made of a chain holds no clear value, its masked columns still join, and what looks
// as if it needed a mask is named.
func TestMasks(t *testing.T) {
	t.Parallel()
	chainedServers(t, func(t *testing.T, name string, x chained) {
		for _, sql := range []string{
			"CREATE TABLE guest (id int PRIMARY KEY, mail varchar(80) UNIQUE, name varchar(40) NOT NULL, born date, home varchar(80))",
			"CREATE TABLE booking (id int PRIMARY KEY, guest_mail varchar(80), paid decimal(8,2), FOREIGN KEY (guest_mail) REFERENCES " +
				"guest (mail) ON UPDATE CASCADE)",
			"INSERT INTO guest VALUES (1, 'inga@ternskerry.example', 'Inga Skerry', '1984-02-29', '3 Harbour Street'), " +
				"(2, 'tarn@ternskerry.example', 'Tarn O''Fell', NULL, NULL)",
			"INSERT INTO booking VALUES (10, 'inga@ternskerry.example', 12.50), (11, 'tarn@ternskerry.example', 7)",
		} {
			x.sql("live", sql)
		}
		require.NoError(t, os.WriteFile(filepath.Join(x.dir, "masks.key"), []byte("of the tests, and long enough\n"), 0o600))
		const refresh = "[refresh.school]\ndump = \"nightly/live\"\nto = \"quay\"\nas = \"school\"\nunproven = true\nmask_key = " +
			"\"file:masks.key\"\n[[refresh.school.before]]\nshell = \"echo before >> steps\"\n[[refresh.school.after]]\nshell = " +
			"\"echo after $GRAINKEEP_RESULT >> steps\"\n"
		const masks = "[refresh.school.mask]\n\"*mail\" = \"made-up\"\nguest.name = \"hash\"\nguest.born = {fixed = \"2000-01-01\"}\n"
		x.configure(t, refresh+masks)
		run(t, x.dir, -1, "dump", "nightly", "--kind", "full", "--new-baseline")
		x.sql("live", "UPDATE guest SET mail = 'inga@skerry.example', name = 'Inga Fell' WHERE id = 1")
		x.sql("live", "INSERT INTO guest VALUES (3, 'maren@ternskerry.example', 'Maren', NULL, NULL)")
		x.sql("live", "INSERT INTO booking VALUES (12, 'maren@ternskerry.example', 1)")
		run(t, x.dir, -1, "dump", "nightly", "--kind", "incremental")

		said := run(t, x.dir, 3, "refresh", "school").stderr
		require.Contains(t, said, "masked 4 columns")
		require.Contains(t, said, "guest.home")
		require.Contains(t, said, "has values like an address, and no mask means it")
		require.Equal(t, "3", x.sql("school", "SELECT count(*) FROM booking b JOIN guest g ON g.mail = b.guest_mail"))
		require.Equal(t, "0", x.sql("school", "SELECT count(*) FROM guest WHERE mail LIKE '%skerry%' OR mail NOT LIKE '%.invalid' OR "+
			"name LIKE '%n%' OR born <> '2000-01-01'"))
		require.Equal(t, "20.50", x.sql("school", "SELECT sum(paid) FROM booking"))
		steps, err := os.ReadFile(filepath.Join(x.dir, "steps"))
		require.NoError(t, err)
		require.Equal(t, "before\nafter good\n", string(steps))
		before := x.sql("school", "SELECT mail FROM guest ORDER BY id")
		x.configure(t, refresh+masks+"\"guest.home\" = \"clear\"\n")
		run(t, x.dir, 0, "refresh", "school")
		require.Equal(t, before, x.sql("school", "SELECT mail FROM guest ORDER BY id"), "equal values stay equal from one refresh to the next")

		x.configure(t, refresh+masks+"\"guest.home\" = \"clear\"\n\"guest.id\" = \"shuffle\"\n")
		require.Contains(t, run(t, x.dir, 2, "refresh", "school").stderr, "single changes of its rows")
		x.configure(t, refresh+masks+"\"gest.home\" = \"clear\"\n")
		require.Contains(t, run(t, x.dir, 2, "refresh", "school").stderr, `the mask "gest.home" matches no column`)
		require.Equal(t, before, x.sql("school", "SELECT mail FROM guest ORDER BY id"), "the one before is as it was")
	}, "mysql")
}
