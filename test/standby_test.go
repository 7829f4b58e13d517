package test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestStandby: a standby is restored, follows increment by increment across fulls, is made anew where it cannot go on, can
// be paused, and has its triggers and keys once it is released.
func TestStandby(t *testing.T) {
	t.Parallel()
	chainedServers(t, func(t *testing.T, name string, x chained) {
		for _, sql := range []string{
			"CREATE TABLE guest (id int PRIMARY KEY, name varchar(40), paid decimal(8,2))", "CREATE TABLE note (says varchar(60))",
			"CREATE TABLE booking (id int PRIMARY KEY, guest int, FOREIGN KEY (guest) REFERENCES guest (id) ON DELETE CASCADE)",
			"INSERT INTO guest VALUES (1, 'Inga', 1.50), (2, 'Tarn', 2), (3, 'Maren', NULL)", "INSERT INTO booking VALUES (10, 1), (11, 2), (12, 3)",
		} {
			x.sql("live", sql)
		}
		if name == "postgres" {
			x.sql("live", "CREATE SEQUENCE tickets; CREATE FUNCTION noted() RETURNS trigger LANGUAGE plpgsql AS $$BEGIN INSERT INTO public.note "+
				"VALUES (NEW.name); RETURN NEW; END$$; CREATE TRIGGER noted AFTER INSERT ON guest FOR EACH ROW EXECUTE FUNCTION noted()")
		} else {
			x.sql("live", "CREATE TRIGGER noted AFTER INSERT ON guest FOR EACH ROW INSERT INTO note VALUES (NEW.name)")
		}
		const section = "[standby.harbour]\ndump = \"nightly/live\"\nto = \"quay\"\nas = \"second\"\nwhen = \"each 15 min\"\nbehind = \"1 hour\"\n"
		if strings.HasSuffix(t.Name(), "/mariadb") {
			x.seal = sealedFor(t, x.dir)
		}
		x.configure(t, section)
		require.Contains(t, run(t, x.dir, 4, "standby").stdout, "absent")
		follow := func(code int) *outcome { t.Helper(); return run(t, x.dir, code, "standby", "follow", "harbour") }
		same := func() {
			t.Helper()
			for _, table := range []string{"guest", "booking", "note"} {
				ask := "SELECT * FROM " + table + " ORDER BY 1"
				require.Equal(t, x.sql("live", ask), x.sql("second", ask), table)
			}
		}
		dump := func(kind string, more ...string) {
			t.Helper()
			run(t, x.dir, -1, append([]string{"dump", "nightly", "--kind", kind}, more...)...)
		}
		dump("full", "--new-baseline")
		require.Contains(t, follow(-1).stderr, "held back until it is released")
		same()
		require.Contains(t, follow(0).stderr, "nothing is newer")
		if name == "postgres" {
			require.ErrorContains(t, x.refused("second", "INSERT INTO note VALUES ('x')"), "read-only")
			require.Equal(t, "0", x.sql("second", "SELECT count(*) FROM pg_trigger WHERE NOT tgisinternal"))
		}
		random := rand.New(rand.NewPCG(3, 4))
		change := func() {
			n := random.IntN(500) + 100
			for _, sql := range []string{fmt.Sprintf("INSERT INTO guest VALUES (%d, 'N''%d', %d.25)", n, n, n), fmt.Sprintf("INSERT INTO booking VALUES (%d, %d)", n, n),
				"UPDATE guest SET paid = paid + 1 WHERE id > 1", "DELETE FROM guest WHERE id = (SELECT * FROM (SELECT max(id) FROM guest WHERE id > 3) x) - 1"} {
				x.sql("live", sql)
			}
			if name == "postgres" {
				x.sql("live", "SELECT nextval('tickets')")
			}
		}
		for range 3 {
			change()
			dump("incremental")
		}
		require.Regexp(t, `harbour +quay/second .* 3 dumps, \d+ transactions +following`, run(t, x.dir, 0, "standby").stdout)
		// For the server, one who was killed can still be at it: he is waited for.
		left := make(chan error)
		hold, held := "BEGIN READ WRITE; SELECT dump FROM grainkeep_standby.mark FOR UPDATE; SELECT pg_sleep(2); COMMIT",
			"SELECT count(*) FROM pg_locks WHERE relation = 'grainkeep_standby.mark'::regclass AND mode = 'RowShareLock'"
		if name != "postgres" {
			const lock = "left(concat('grainkeep standby ', sha2('second', 256)), 64)"
			hold, held = "SELECT get_lock("+lock+", 0), sleep(2)", "SELECT is_used_lock("+lock+") IS NOT NULL"
		}
		go func() { left <- x.refused("second", hold) }()
		require.Eventually(t, func() bool { return x.sql("second", held) == "1" }, 2*time.Second, 10*time.Millisecond)
		require.Contains(t, follow(0).stderr, "3 dumps put upon it")
		require.NoError(t, <-left)
		same()
		if name == "postgres" {
			require.Equal(t, "3", x.sql("second", "SELECT last_value FROM tickets"))
		}

		change()
		dump("full", "--new-baseline") // the old chain is closed, and the standby goes over
		change()
		dump("incremental")
		said := follow(0).stderr
		require.NotContains(t, said, "made anew")
		same()

		x.sql("live", "ALTER TABLE guest ADD COLUMN seen int")
		change2 := "UPDATE guest SET seen = 5"
		x.sql("live", change2)
		dump("incremental")
		require.Contains(t, follow(3).stderr, "is made anew")
		same()

		run(t, x.dir, 0, "standby", "pause", "harbour")
		require.Contains(t, follow(2).stderr, "paused since")
		require.Contains(t, run(t, x.dir, 0, "standby").stdout, "paused")
		run(t, x.dir, 0, "standby", "resume", "harbour")
		x.configure(t, strings.Replace(section, "1 hour", "1 s", 1))
		time.Sleep(1100 * time.Millisecond)
		require.Contains(t, follow(4).stderr, " are allowed")
		x.configure(t, section+"until = \"2026-01-31\"\n")
		require.Contains(t, follow(3).stderr, "until 2026-01-31")

		x.configure(t, section)
		run(t, x.dir, -1, "standby", "release", "harbour")
		x.sql("second", "INSERT INTO guest VALUES (9999, 'released', 1, 1)")
		require.Equal(t, "1", x.sql("second", "SELECT count(*) FROM note WHERE says = 'released'"), "the trigger acts")
		require.ErrorContains(t, x.refused("second", "INSERT INTO booking VALUES (9999, 12345)"), "foreign key")
		require.Contains(t, run(t, x.dir, 0, "standby").stdout, "released")
		require.Contains(t, run(t, x.dir, 1, "standby", "follow", "harbour").stderr, "second")
	}, "mysql")
}

// TestStandbyKilled: whoever is killed while a standby follows, the program or the server, nothing is half there, and
// nothing is applied twice: the next try goes on.
func TestStandbyKilled(t *testing.T) {
	t.Parallel()
	chainedServers(t, func(t *testing.T, name string, x chained) {
		x.sql("live", "CREATE TABLE ledger (id int PRIMARY KEY, paid int)")
		x.sql("live", "CREATE TABLE seen (paid int)")
		x.configure(t, "[standby.harbour]\ndump = \"nightly/live\"\nto = \"quay\"\nas = \"second\"\n")
		run(t, x.dir, -1, "dump", "nightly", "--kind", "full", "--new-baseline")
		random := rand.New(rand.NewPCG(11, 12))
		for round := range 12 {
			from := round * 2000
			var rows []string
			for i := range 2000 {
				rows = append(rows, fmt.Sprintf("(%d, %d)", from+i, i))
			}
			x.sql("live", "INSERT INTO ledger VALUES "+strings.Join(rows, ", "))
			x.sql("live", "UPDATE ledger SET paid = paid + 1")
			x.sql("live", fmt.Sprintf("INSERT INTO seen VALUES (%d)", round))
			run(t, x.dir, -1, "dump", "nightly", "--kind", "incremental")
			cmd, _, wait := command(x.dir, "standby", "follow", "harbour")
			require.NoError(t, cmd.Start())
			time.Sleep(time.Duration(20+random.IntN(400)) * time.Millisecond)
			if round%4 == 3 {
				x.crash()
			} else {
				_ = cmd.Process.Kill() // it may have ended
			}
			wait()
			if round%3 == 2 {
				run(t, x.dir, -1, "standby", "follow", "harbour")
				ask := "SELECT count(*), sum(id), sum(paid), (SELECT count(*) FROM seen), (SELECT sum(paid) FROM seen) FROM ledger"
				require.Equal(t, x.sql("live", ask), x.sql("second", ask), "round %d", round)
			}
		}
	})
}
