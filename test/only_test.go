package test

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestADroppedTableComesBack: into the live database, where nothing of that name is there; else beside
// it. What goes wrong in the middle leaves the live database as it was.
func TestADroppedTableComesBack(t *testing.T) {
	for _, p := range everyEngine(t) {
		t.Run(p.product, func(t *testing.T) {
			p.need(t)
			for _, database := range []string{"live", "live_restored", "live_restored_2"} {
				p.drop(database)
				defer p.drop(database)
			}
			if p.server != nil {
				p.run("", "CREATE DATABASE live")
			}
			p.run("live", "CREATE TABLE port (id int PRIMARY KEY, name varchar(9)); INSERT INTO port VALUES (1, 'Skerry'); "+
				"CREATE TABLE berth (id int PRIMARY KEY, port int REFERENCES port (id), length int); "+
				"CREATE UNIQUE INDEX by_length ON berth (length); INSERT INTO berth VALUES (1, 1, 80), (2, 1, 120)")
			dir := t.TempDir()
			run(t, dir, -1, "dump", "--from", p.url("live"), "--to", "keep", "--job", "j")
			name := "j/" + p.name("live")
			only := []string{"restore", name, "--from", "keep", "--to", p.url(""), "--only", "ber*"}
			p.run("live", "DROP TABLE berth; INSERT INTO port VALUES (2, 'Tern')")
			require.Contains(t, run(t, dir, 0, append(only, "--dry-run")...).stdout, "into the database that is there")
			o := run(t, dir, 0, only...)
			require.Contains(t, o.stderr, "into the database that is there")
			if p.product == "postgres" {
				require.Contains(t, o.stderr,
					"left out, since it needs other tables: the foreign key berth_port_fkey on public.berth")
			}
			require.Equal(t, "2", p.ask("live", "SELECT count(*) FROM berth"))
			require.Equal(t, "2", p.ask("live", "SELECT count(*) FROM port"), "what was written since stays")
			require.Error(t, p.try("live", "INSERT INTO berth VALUES (3, 1, 80)"), "its unique index is there too")

			for _, beside := range []string{"live_restored", "live_restored_2"} {
				o = run(t, dir, 0, only...)
				require.Contains(t, o.stderr, "the table", "named first")
				require.Contains(t, o.stderr, "restored beside it, and nothing in it was touched")
				require.Contains(t, o.stdout, p.name(beside))
				require.Equal(t, "2", p.ask(beside, "SELECT count(*) FROM berth"))
			}
			require.NotContains(t, p.databases(), "grainkeep")
			p.drop("live_restored_2")
			bare := append(only[:len(only)-1:len(only)-1], "port")
			require.Contains(t, run(t, dir, 0, bare...).stderr, "restored beside it", "also a table without an index")
			require.Equal(t, "1", p.ask("live_restored_2", "SELECT count(*) FROM port"))

			if p.server == nil {
				return
			}
			// Somebody's index has the name that one of the table's had.
			p.run("live", "DROP TABLE berth")
			before := p.databases()
			if p.product == "postgres" {
				p.run("live", "CREATE UNIQUE INDEX by_length ON port (name)")
				require.Contains(t, run(t, dir, 0, only...).stderr,
					"live has the unique index public.by_length already")
				require.Equal(t, "2", p.ask("live_restored_3", "SELECT count(*) FROM berth"))
				p.drop("live_restored_3")
			}
			o = run(t, dir, 1, append(only, "--as", "live")...)
			require.NotContains(t, o.stderr, "--replace", "a database is not replaced by one table")
			require.Equal(t, before, p.databases())
		})
	}
}
