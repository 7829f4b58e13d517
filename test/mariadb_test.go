package test

import (
	"context"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// needMariaDB skips where no server can be had; scripts/test fails on such a skip.
func needMariaDB(t *testing.T) *testserver.MySQL {
	t.Helper()
	if noMaria != nil {
		t.Skip("no MariaDB: ", noMaria)
	}
	return maria
}

func queryMaria(t *testing.T, m *testserver.MySQL, database, sql string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	out, err := m.Ask(ctx, database, sql)
	require.NoError(t, err, "%.300s", sql)
	return out
}

// namedLike lists the databases whose names are like one of some patterns.
func namedLike(t *testing.T, m *testserver.MySQL, patterns ...string) []string {
	t.Helper()
	return strings.Fields(queryMaria(t, m, "",
		"SELECT schema_name FROM information_schema.schemata WHERE schema_name LIKE '"+strings.Join(patterns,
			"' OR schema_name LIKE '")+"'"))
}

// script runs a script in the interactive client.
func script(t *testing.T, m *testserver.MySQL, database, sql string) {
	t.Helper()
	words := append(m.Client(), "--default-character-set=utf8mb4", database)
	cmd := exec.Command(words[0], words[1:]...)
	cmd.Stdin = strings.NewReader(sql)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
}

func freshMaria(t *testing.T, m *testserver.MySQL, names ...string) {
	t.Helper()
	drop := func() {
		for _, n := range names {
			queryMaria(t, m, "", "SET foreign_key_checks = 0; DROP DATABASE IF EXISTS `"+strings.ReplaceAll(n, "`",
				"``")+"`")
		}
	}
	drop()
	t.Cleanup(drop)
	queryMaria(t, m, "", "CREATE DATABASE `"+strings.ReplaceAll(names[0], "`",
		"``")+"` CHARACTER SET utf8mb4 COLLATE utf8mb4_swedish_ci")
}

// factsMaria reads what a database is and holds, by queries of the test's own on the
// server's information tables and on all rows.
func factsMaria(t *testing.T, m *testserver.MySQL, database string, more ...string) []string {
	t.Helper()
	facts := ""
	for _, name := range append(more, "facts-mariadb.sql") {
		text, err := os.ReadFile("testdata/" + name)
		require.NoError(t, err)
		facts += string(text)
	}
	var out []string
	if !m.Maria { // its information tables are not quite the same
		facts = strings.NewReplacer("ignored FROM", "is_visible, expression FROM", ", algorithm FROM", " FROM",
			"'check', table_name,", "'check',",
			// it keeps the semicolon that ended a statement
			"action_statement,", "trim(TRAILING ';' FROM action_statement),",
			"routine_definition,", "trim(TRAILING ';' FROM routine_definition),",
			"event_definition,", "trim(TRAILING ';' FROM event_definition),").Replace(facts)
	}
	for line := range strings.Lines(strings.ReplaceAll(facts, "@@DATABASE@@", database)) {
		if !strings.HasPrefix(line, "--") && strings.TrimSpace(line) != "" {
			out = append(out, strings.Split(queryMaria(t, m, database, line), "\n")...)
		}
	}
	// The server's own checksum of tables is not to be relied on where columns are generated.
	text, err := os.ReadFile("testdata/rows-mariadb.sql")
	require.NoError(t, err)
	sums := queryMaria(t, m, database, string(text))
	for _, line := range strings.Split(sums, "\n") {
		sql, err := hex.DecodeString(line)
		require.NoError(t, err)
		out = append(out, queryMaria(t, m, database, string(sql)))
	}
	require.Greater(t, len(out), 10)
	return out
}

func TestMariaDBComesBackExactly(t *testing.T) {
	m := needMariaDB(t)
	freshMaria(t, m, "whole", "whole_again", "whole_restored", "whole_moved")
	text, err := os.ReadFile("testdata/whole-mariadb.sql")
	require.NoError(t, err)
	script(t, m, "whole", string(text))
	facts := func(database string) []string { return factsMaria(t, m, database, "whole-facts-mariadb.sql") }
	want := facts("whole")
	dir := t.TempDir()
	path, o := comesBackMaria(t, m, dir, "whole", facts)
	require.Contains(t, o.stderr,
		"these tables have no transactions and are read as they are when it is their turn: crash_safe (Aria), "+
			"old_style (MyISAM), quick (MEMORY)")

	// Where the server takes no rows in bulk, INSERTs bring the same.
	queryMaria(t, m, "", "SET GLOBAL local_infile = 0")
	defer queryMaria(t, m, "", "SET GLOBAL local_infile = 1")
	require.Contains(t, run(t, dir, 0, "drill", path, "--to", m.URL("")).stdout, "proven")
	queryMaria(t, m, "", "SET GLOBAL local_infile = 1")

	// An old database is moved aside whole, with its triggers, and the new one comes in its place.
	run(t, dir, 0, "restore", path, "--to", m.URL(""), "--as", "whole_again")
	o = run(t, dir, 0, "restore", path, "--to", m.URL(""), "--as", "whole_again", "--replace")
	_, aside, ok := strings.Cut(strings.TrimSpace(o.stderr), "is now called ")
	require.True(t, ok, o.stderr)
	sameLines(t, want, facts(aside))
	sameLines(t, want, facts("whole_again"))
	queryMaria(t, m, "", "SET foreign_key_checks = 0; DROP DATABASE "+aside)
	require.Empty(t, namedLike(t, m, "grainkeep%"))
}

// comesBackMaria dumps a database, drills the dump, and restores it in both ways.
func comesBackMaria(t *testing.T, m *testserver.MySQL, dir, database string,
	facts func(string) []string) (path string, o *outcome) {
	t.Helper()
	want := facts(database)
	o = run(t, dir, -1, "dump", "--from", m.URL(database), "--to", "keep")
	path = lines(o.stdout)[0]
	require.Contains(t, run(t, dir, 0, "drill", path, "--to", m.URL("")).stdout, "proven")
	restored, hand := database+"_again", database+"_restored"
	run(t, dir, 0, "restore", path, "--to", m.URL(""), "--as", restored)
	sameLines(t, want, facts(restored))
	again := lines(run(t, dir, -1, "dump", "--from", m.URL(restored), "--to", "keep").stdout)[0]
	require.Equal(t, tablesOf(t, dir, path), tablesOf(t, dir, again))
	client := strings.Join(m.Client(), " ") + " "
	byHand(t, path, strings.NewReplacer("client='mariadb ", "client='"+client, "client='mysql ", "client='"+client))
	sameLines(t, want, facts(hand))
	for _, d := range []string{restored, hand} {
		queryMaria(t, m, "", "SET foreign_key_checks = 0; DROP DATABASE "+d)
	}
	return path, o
}

// TestOutsideMaterial: the smallest SQL of each of what material of others taught comes back,
// as one database, from both products.
func TestOutsideMaterial(t *testing.T) {
	text, err := os.ReadFile("testdata/outside-mysql.sql")
	require.NoError(t, err)
	for _, p := range everyServer(t)[1:] {
		t.Run(p.product, func(t *testing.T) {
			m := p.server.(*testserver.MySQL)
			freshMaria(t, m, "outside", "outside_again", "outside_restored")
			sql := ""
			for line := range strings.Lines(string(text)) {
				if _, only, ok := strings.Cut(line, "; -- "); !ok || strings.TrimSpace(only) == p.product {
					sql += line
				}
			}
			script(t, m, "outside", sql)
			comesBackMaria(t, m, t.TempDir(), "outside", func(database string) []string {
				return factsMaria(t, m, database)
			})
		})
	}
}

// TestMariaDBReplaceThatIsKilled: the server cannot rename a database, so a database comes
// into its place in many steps. Whoever is killed among them leaves what the next run
// finishes; who fails before any table has moved leaves the old database as it was.
func TestMariaDBReplaceThatIsKilled(t *testing.T) {
	m := needMariaDB(t)
	const made = `CREATE SEQUENCE berth START 5; CREATE TABLE mooring (id int PRIMARY KEY DEFAULT nextval(berth),
		ship varchar(20)); INSERT INTO mooring (ship) VALUES ('Aurelia'), ('Bryony');
		CREATE TABLE log (n int); CREATE FUNCTION twice(n int) RETURNS int DETERMINISTIC RETURN n * 2; CREATE
			PROCEDURE tidy() DELETE FROM log; CREATE VIEW doubled AS SELECT twice(id) AS t, ship FROM mooring;
			CREATE VIEW upon AS SELECT * FROM doubled;
		CREATE TRIGGER logged AFTER INSERT ON mooring FOR EACH ROW INSERT INTO log VALUES (NEW.id); CREATE TRIGGER
			later AFTER INSERT ON mooring FOR EACH ROW SET @x = 1; CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY
			DISABLE DO CALL tidy()`
	old := func() {
		for _, d := range namedLike(t, m, "killed%") {
			queryMaria(t, m, "", "DROP DATABASE "+d)
		}
		queryMaria(t, m, "", "CREATE DATABASE killed")
		script(t, m, "killed", made)
	}
	old()
	defer freshMaria(t, m, "killed")
	dir := t.TempDir()
	want := factsMaria(t, m, "killed")
	path := lines(run(t, dir, -1, "dump", "--from", m.URL("killed"), "--to", "keep").stdout)[0]
	replace := []string{"restore", path, "--to", m.URL(""), "--as", "killed", "--replace"}

	queryMaria(t, m, "",
		"CREATE OR REPLACE USER mover; GRANT SET USER, SUPER ON *.* TO mover; GRANT SELECT ON mysql.* TO mover; "+
			"GRANT ALL ON `grainkeep\\_%`.* TO mover; GRANT ALL ON `killed\\_%`.* TO mover; GRANT SELECT, TRIGGER, "+
			"SHOW VIEW, EXECUTE, EVENT ON killed.* TO mover")
	o := run(t, dir, 1, "restore", path, "--to", strings.Replace(m.URL(""), testserver.Admin, "mover", 1), "--as",
		"killed", "--replace")
	require.Contains(t, o.stderr, "moving the old database aside")
	require.Contains(t, o.stderr, "ALTER command denied")
	sameLines(t, want, factsMaria(t, m, "killed"))
	require.Empty(t, namedLike(t, m, "grainkeep%", `killed\_%`))

	// Killed as the server is asked for the n-th step, counted from the first one, until
	// no step is left.
	w := newWire(t, m)
	finished, steps := 0, 0
	for n, over := 1, false; !over; n += 3 {
		old()
		queryMaria(t, m, "killed", "INSERT INTO mooring VALUES (99, 'the old one')")
		wantOld := factsMaria(t, m, "killed")
		cmd, _, wait := command(dir, "restore", path, "--to", w.url(m.URL("")), "--as", "killed", "--replace")
		mover, step := 0, 0
		w.hear(func(connection int, query string) {
			if mover == 0 && strings.HasPrefix(query, "CREATE DATABASE `killed_before") {
				mover = connection
			}
			if connection == mover {
				if step++; step == n {
					cmd.Process.Kill()
				}
			}
		})
		require.NoError(t, cmd.Start())
		over = wait().code != -1
		w.hear(nil)
		steps = max(steps, step)
		quiet(t, onMariaDB(t, m))
		cmd, _, wait = command(dir, "drill", path, "--to", w.url(m.URL("")))
		require.NoError(t, cmd.Start())
		o := wait()
		require.Contains(t, []int{0, 3}, o.code, o.stderr)
		if strings.Contains(o.stderr, "finished a restore that was killed: the database killed is in its place now") {
			finished++
		}
		aside := strings.Join(namedLike(t, m, `killed\_before%`), " ")
		sameLines(t, want, factsMaria(t, m, "killed"))
		sameLines(t, wantOld, factsMaria(t, m, aside))
		require.Empty(t, namedLike(t, m, "grainkeep%"))
	}
	require.Greater(t, steps, 40, "two moves, begun and gone through")
	require.Equal(t, (steps+2)/3, finished)
	require.Greater(t, finished, 4)

	// What cannot be made any more in the old database is not lost either.
	old()
	script(t, m, "killed", "CREATE FUNCTION gone() RETURNS int DETERMINISTIC RETURN 1; CREATE VIEW broken AS "+
		"SELECT gone() AS n; DROP FUNCTION gone")
	require.Regexp(t,
		"warning: the broken views `broken` could not be made again in the database killed_before_[^:]*: .*; its SQL is "+
			"in the table grainkeep_moving there", run(t, dir, 3, replace...).stderr)
	sameLines(t, want, factsMaria(t, m, "killed"))
	aside := strings.Join(namedLike(t, m, `killed\_before%`), " ")
	require.Equal(t, "1", queryMaria(t, m, aside,
		"SELECT count(*) FROM grainkeep_moving WHERE what = 'broken views `broken`' AND `sql` LIKE '%CREATE%'"))
}

// TestMariaDBRenamesUnderTheDump: a table that is swapped for another in the middle of
// a dump is read as it was, or the dump fails.
func TestMariaDBRenamesUnderTheDump(t *testing.T) {
	m := needMariaDB(t)
	freshMaria(t, m, "swap", "swap2")
	queryMaria(t, m, "swap",
		"CREATE TABLE t AS SELECT seq AS id FROM seq_1_to_1000; CREATE TABLE u AS SELECT seq AS id FROM "+
			"seq_1_to_400; CREATE TABLE w AS SELECT * FROM u")
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan int)
	go func() {
		db := m.Open("swap")
		defer db.Close()
		n := 0
		for ; ctx.Err() == nil; n++ {
			for _, sql := range []string{"RENAME TABLE t TO x, u TO t, x TO u", "RENAME TABLE t TO x, u TO t, x TO u",
				"ALTER TABLE t ADD c int", "ALTER TABLE t DROP c", "TRUNCATE w",
				"INSERT INTO w SELECT seq FROM seq_1_to_400"} {
				db.Exec("SET STATEMENT lock_wait_timeout = 1 FOR " + sql)
				time.Sleep(20 * time.Millisecond)
			}
		}
		done <- n
	}()
	dir := t.TempDir()
	for i := range 10 {
		cmd, _, wait := command(dir, "dump", "--from", m.URL("swap"), "--to", "keep", "--job", fmt.Sprint("j", i))
		require.NoError(t, cmd.Start())
		if o := wait(); o.code == 1 {
			require.Regexp(t,
				"swap was not dumped: .*(definition|dropped|changed)|could not be pinned|are being made, renamed "+
					"or dropped", o.stderr)
			continue
		}
		run(t, dir, 0, "restore", fmt.Sprintf("j%d/swap", i), "--from", "keep", "--to", m.URL(""), "--as", "swap2")
		got := queryMaria(t, m, "swap2", "SELECT count(*) FROM t")
		require.Contains(t, []string{"1000", "400"}, got)
		queryMaria(t, m, "", "DROP DATABASE swap2")
	}
	stop()
	require.Greater(t, <-done, 3)
}

// TestMariaDBRulesThatTheDataBreaks: orphans come back, and what drills leave alone.
func TestMariaDBRulesThatTheDataBreaks(t *testing.T) {
	m := needMariaDB(t)
	freshMaria(t, m, "leaky", "leaky2", "live")
	queryMaria(t, m, "",
		"CREATE DATABASE live; CREATE TABLE live.berth (id int PRIMARY KEY); INSERT INTO live.berth VALUES (1)")
	queryMaria(t, m, "leaky", `CREATE TABLE p (id int PRIMARY KEY); CREATE TABLE c (p int, CONSTRAINT orphans
		FOREIGN KEY (p) REFERENCES p (id)); SET foreign_key_checks = 0; INSERT INTO c VALUES (99), (NULL); SET
		foreign_key_checks = 1;
		CREATE TABLE away (b int, CONSTRAINT abroad FOREIGN KEY (b) REFERENCES live.berth (id)); INSERT INTO away
			VALUES (1); CREATE VIEW abroad AS SELECT p.id FROM p JOIN live.berth; CREATE PROCEDURE home()
			SELECT * FROM leaky.p; CREATE EVENT e ON SCHEDULE EVERY 1
			SECOND DO DELETE FROM live.berth`)
	dir := t.TempDir()
	run(t, dir, -1, "dump", "--from", m.URL("leaky"), "--to", "keep")
	o := run(t, dir, 3, "drill", "adhoc", "--from", "keep", "--to", m.URL(""))
	require.Contains(t, o.stdout, "proven")
	require.Contains(t, o.stderr, "the data breaks the foreign key `c`.`orphans`")
	require.Equal(t, "1", queryMaria(t, m, "live", "SELECT count(*) FROM berth"))
	queryMaria(t, m, "leaky", "DROP EVENT e")
	o = run(t, dir, 3, "restore", "adhoc", "--from", "keep", "--to", m.URL(""), "--as", "leaky2")
	require.Contains(t, o.stderr, "it was added without testing the rows")
	require.Contains(t, o.stderr, "these still name the old database: the procedure `home`")
	require.Contains(t, queryMaria(t, m, "", "SELECT view_definition FROM information_schema.views WHERE table_schema = "+
		"'leaky2'"), "from (`leaky2`.`p` join `live`.`berth`)", "the server names all once a view touches another database")
	require.Equal(t, "1|2", queryMaria(t, m, "leaky2", "SELECT (SELECT count(*) FROM away), (SELECT count(*) FROM c)"))
	queryMaria(t, m, "leaky2", "DROP EVENT e")
	require.Equal(t, "abroad|orphans", queryMaria(t, m, "",
		"SELECT group_concat(constraint_name ORDER BY 1 SEPARATOR '|') FROM "+
			"information_schema.referential_constraints WHERE constraint_schema = 'leaky2'"))
}

// TestMariaDBOneMoment: every database of a run, read by several readers, is of one
// moment, and its position in the log is that moment's.
func TestMariaDBOneMoment(t *testing.T) {
	m := needMariaDB(t)
	freshMaria(t, m, "left_hand", "left_back")
	freshMaria(t, m, "right_hand", "right_back")
	for _, d := range []string{"left_hand", "right_hand"} {
		queryMaria(t, m, d,
			"CREATE TABLE n (id int PRIMARY KEY, v bigint); INSERT INTO n VALUES (1, 0); CREATE TABLE old (v "+
				"bigint) ENGINE=MyISAM; INSERT INTO old VALUES (0)")
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	done := make(chan error, 1)
	go func() {
		db := m.Open("")
		defer db.Close()
		var err error
		for ctx.Err() == nil && err == nil {
			_, err = db.Exec("START TRANSACTION; UPDATE left_hand.n SET v = v + 1; UPDATE right_hand.n SET v = v " +
				"+ 1; COMMIT; UPDATE left_hand.old SET v = v + 1; UPDATE right_hand.old SET v = v + 1")
		}
		done <- err
	}()
	dir := t.TempDir()
	require.Contains(t, run(t, dir, 3, "survey", "--from", m.URL("left_hand")).stdout,
		"log     on, format ROW, row image FULL, kept until somebody removes it")
	config := fmt.Sprintf("[source.s]\nengine = \"mysql\"\nserver = \"127.0.0.1:%d\"\nuser = %q\n[keep.k]\nfolder "+
		"= \"keep\"\n[job.j]\nsource = \"s\"\nkeep = \"k\"\ndatabases = [\"*_hand\"]\nworkers = 3\nserver = "+
		"false\nhold_writers = true\n", m.Port, testserver.Admin)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte(config), 0o600))
	run(t, dir, 0, "keep", "create", "k")
	for range 5 {
		require.NotContains(t, run(t, dir, -1, "dump", "j").stderr, "no transactions",
			"hold_writers keeps writers out of those")
		v, old := "", []string{}
		for _, d := range []string{"left", "right"} {
			run(t, dir, 0, "restore", "j/"+d+"_hand", "--as", d+"_back", "--to", "s")
			v += queryMaria(t, m, d+"_back", "SELECT v FROM n") + " "
			old = append(old, queryMaria(t, m, d+"_back", "SELECT v FROM old"))
			queryMaria(t, m, "", "DROP DATABASE "+d+"_back")
		}
		at := result(t, dir, 0, "show",
			"j/left_hand")["result"].([]any)[0].(map[string]any)["manifest"].(map[string]any)["to"].(map[string]any)
		words := strings.Fields(v)
		require.Equal(t, words[0], words[1])
		left, err := strconv.Atoi(old[0])
		require.NoError(t, err)
		right, err := strconv.Atoi(old[1])
		require.NoError(t, err)
		require.InDelta(t, left, right, 1, "one writer, one statement apart")
		// The log's rows up to that position are the value's.
		gtid := strings.Split(at["gtid"].(string), "-")
		require.Equal(t, gtid[2], queryMaria(t, m, "",
			fmt.Sprintf("SELECT substring_index(binlog_gtid_pos('%s', %.0f), '-', -1)", at["file"], at["offset"])))
	}
	stop()
	require.NoError(t, <-done)
}

// TestMariaDBWordsOfNobody: comments, defaults and names that look like a definition cost no
// value. (Seen: the first column was taken for a generated one, and the drill said "proven".)
func TestMariaDBWordsOfNobody(t *testing.T) {
	m := needMariaDB(t)
	freshMaria(t, m, "lookalike", "lookalike2")
	queryMaria(t, m, "lookalike", "CREATE TABLE t (v varchar(10) COMMENT 'was GENERATED ALWAYS AS (x)', w int "+
		"DEFAULT 3 COMMENT ' GENERATED ALWAYS AS ROW START', `a``` varchar(30) DEFAULT 'nextval(`lookalike`.s', c "+
		"varchar(9) CHARACTER SET latin1 COMMENT 'x AUTO_INCREMENT CHARACTER SET utf16') COMMENT='t WITH SYSTEM "+
		"VERSIONING DEFAULT CHARSET=utf32'; CREATE TABLE `odd(\n `` x` (i int COMMENT '(\n'); INSERT INTO t VALUES "+
		"('one', 1, 'x', 'ä'), ('two', NULL, DEFAULT, NULL); INSERT INTO `odd(\n `` x` VALUES (7)")
	dir := t.TempDir()
	run(t, dir, -1, "dump", "--from", m.URL("lookalike"), "--to", "keep")
	run(t, dir, 0, "drill", "adhoc/lookalike", "--from", "keep", "--to", m.URL(""))
	run(t, dir, 0, "restore", "adhoc/lookalike", "--from", "keep", "--to", m.URL(""), "--as", "lookalike2")
	const rows = "SELECT *, hex(c) FROM t ORDER BY v"
	require.Equal(t, "one|1|x|ä|E4\ntwo|NULL|nextval(`lookalike`.s|NULL|NULL", queryMaria(t, m, "lookalike2", rows))
	require.Equal(t, "7", queryMaria(t, m, "lookalike2", "SELECT i FROM `odd(\n `` x`"))
	require.Equal(t, "'nextval(`lookalike`.s'", queryMaria(t, m, "lookalike2", "SELECT column_default FROM "+
		"information_schema.columns WHERE table_schema = database() AND column_name = 'a`'"))
	require.Equal(t, "0", queryMaria(t, m, "lookalike2", "SELECT count(*) FROM information_schema.columns "+
		"WHERE table_schema = database() AND (is_generated <> 'NEVER' OR extra <> '')"))
}

// TestMariaDBLeastRights makes the users that grants prints, and works as them.
func TestMariaDBLeastRights(t *testing.T) {
	m := needMariaDB(t)
	freshMaria(t, m, "small", "small2")
	queryMaria(t, m, "small",
		"CREATE TABLE a AS SELECT 1 AS x; CREATE VIEW v AS SELECT * FROM a; CREATE TRIGGER tr BEFORE INSERT ON a "+
			"FOR EACH ROW SET NEW.x = 1; CREATE EVENT e ON SCHEDULE EVERY 1 YEAR DO SELECT 1; CREATE PROCEDURE p() "+
			"SELECT 1")
	dir := t.TempDir()
	for user, purpose := range map[string]string{"pilot": "changes", "tester": "drill", "loader": "restore"} {
		queryMaria(t, m, "", "DROP USER IF EXISTS "+user+"@localhost")
		sql := run(t, dir, 0, "grants", "--for", purpose, "--from", fmt.Sprintf("mysql://%s@127.0.0.1:%d/%s", user,
			m.Port, map[bool]string{true: "small2", false: "small"}[purpose == "restore"])).stdout
		script(t, m, "mysql", strings.ReplaceAll(sql, "'…'", "'hunter2'"))
		defer queryMaria(t, m, "", "DROP USER "+user+"@localhost")
	}
	url := func(user, database string) string {
		return fmt.Sprintf("mysql://%s@127.0.0.1:%d/%s", user, m.Port, database)
	}
	require.Contains(t, run(t, dir, 1, "dump", "--from", url("pilot", "small"), "--to", "keep").stderr,
		"refused the user pilot")
	file := filepath.Join(dir, ".my.cnf")
	require.NoError(t, os.WriteFile(file, []byte("[client]\npassword = \"hunter2\"\n"), 0o644))
	require.Contains(t, run(t, dir, 2, "dump", "--from", url("pilot", "small"), "--to", "keep").stderr,
		"others can read the password file")
	require.NoError(t, os.Chmod(file, 0o600))
	run(t, dir, -1, "dump", "--from", url("pilot", "small"), "--to", "keep", "--adopt")
	// Who may not make a trigger while the server logs cannot test; that is no proof.
	drill := []string{"drill", "adhoc/small", "--from", "keep", "--to", url("tester", "")}
	require.Contains(t, run(t, dir, 1, drill...).stderr, "log_bin_trust_function_creators")
	queryMaria(t, m, "", "SET GLOBAL log_bin_trust_function_creators = 1")
	defer queryMaria(t, m, "", "SET GLOBAL log_bin_trust_function_creators = 0")
	o := run(t, dir, 0, drill...)
	require.Contains(t, o.stdout, "proven")
	require.NotContains(t, o.stderr, "could do more", "grants --for drill gives no more than a drill needs")
	queryMaria(t, m, "", "GRANT SELECT ON small.* TO tester@localhost")
	require.Contains(t, run(t, dir, 0, drill...).stderr,
		"could do more than touch scratch databases: SELECT on `small`.*")
	queryMaria(t, m, "", "REVOKE SELECT ON small.* FROM tester@localhost")
	require.Contains(t, run(t, dir, 1, "restore", "adhoc/small", "--from", "keep", "--to", url("tester", ""), "--as",
		"small2").stderr, "grainkeep grants")
	for _, more := range []string{"", "--replace"} {
		run(t, dir, 0, strings.Fields("restore adhoc/small --from keep --as small2 --to "+url("loader",
			"")+" "+more)...)
	}
	sameLines(t, factsMaria(t, m, "small"), factsMaria(t, m, "small2"))
	run(t, dir, 0,
		strings.Fields("restore adhoc/small --from keep --as small2 --replace --owners mine --to "+url("loader",
			""))...)
	require.Equal(t, "loader@localhost", queryMaria(t, m, "small2",
		"SELECT DISTINCT definer FROM (SELECT definer FROM information_schema.views WHERE table_schema = "+
			"database() UNION ALL SELECT definer FROM information_schema.triggers WHERE trigger_schema = database() "+
			"UNION ALL SELECT definer FROM information_schema.events WHERE event_schema = database() UNION ALL SELECT "+
			"definer FROM information_schema.routines WHERE routine_schema = database()) d"))
	require.Contains(t, run(t, dir, 1, "restore", "adhoc/small", "--from", "keep", "--as", "small3", "--to",
		url("loader", "")).stderr, "grainkeep grants")
	require.Empty(t, sh(t, dir, "grep -r hunter2 keep || true"))

	require.NoError(t, os.Remove(file))
	// Users come back without their passwords, and locked.
	queryMaria(t, m, "",
		"CREATE OR REPLACE ROLE crew; CREATE OR REPLACE USER deckhand@localhost IDENTIFIED BY 'secret'; GRANT "+
			"SELECT ON small.* TO crew; GRANT crew TO deckhand@localhost")
	defer queryMaria(t, m, "", "DROP USER IF EXISTS deckhand@localhost; DROP ROLE IF EXISTS crew")
	queryMaria(t, m, "", "GRANT SELECT ON small.* TO PUBLIC")
	run(t, dir, -1, "dump", "--from", m.URL(""), "--to", "keep", "--job", "all")
	queryMaria(t, m, "", "REVOKE SELECT ON small.* FROM PUBLIC")
	require.Empty(t, sh(t, dir, "zstd -dcq keep/all/+server/*/*.zst | grep -E \"'\\*[0-9A-F]{40}'\" || true"))
	queryMaria(t, m, "", "DROP USER deckhand@localhost; DROP ROLE crew")
	o = run(t, dir, 3, "restore", "all/+server", "--from", "keep", "--to", m.URL(""))
	require.Contains(t, o.stderr, "is left out: Error 1698", "root's right to be a proxy is not this user's to give")
	require.Contains(t, o.stderr, "ALTER USER `deckhand`@`localhost` IDENTIFIED BY")
	require.Contains(t, queryMaria(t, m, "", "SHOW GRANTS FOR deckhand@localhost"),
		"GRANT `crew` TO `deckhand`@`localhost`")
	require.Contains(t, queryMaria(t, m, "", "SHOW CREATE USER deckhand@localhost"), "ACCOUNT LOCK")
	require.Contains(t, queryMaria(t, m, "", "SHOW GRANTS FOR PUBLIC"), "GRANT SELECT ON `small`.* TO PUBLIC")
	queryMaria(t, m, "", "REVOKE SELECT ON small.* FROM PUBLIC")
}

// TestMySQLUsers come back locked, with all that was said of them, and with their roles.
func TestMySQLUsers(t *testing.T) {
	if noMySQL != nil {
		t.Skip("no MySQL: ", noMySQL)
	}
	m := mysql
	drop := func() { queryMaria(t, m, "", "DROP USER IF EXISTS deckhand; DROP ROLE IF EXISTS crew") }
	drop()
	defer drop()
	queryMaria(t, m, "", "CREATE ROLE crew; GRANT SELECT ON cargo.* TO crew; CREATE USER deckhand IDENTIFIED BY 'secret' COMMENT "+
		"'it''s'; GRANT crew TO deckhand; ALTER USER deckhand DEFAULT ROLE crew; GRANT DELETE ON roster.* TO deckhand")
	dir := t.TempDir()
	run(t, dir, -1, "dump", "--from", m.URL(""), "--to", "keep", "--job", "all")
	drop()
	run(t, dir, -1, "restore", "all/+server", "--from", "keep", "--to", m.URL(""))
	require.Contains(t, queryMaria(t, m, "", "SHOW GRANTS FOR deckhand"),
		"GRANT DELETE ON `roster`.* TO `deckhand`@`%`")
	said := queryMaria(t, m, "", "SHOW CREATE USER deckhand")
	require.Contains(t, said, "DEFAULT ROLE `crew`@`%`")
	require.Contains(t, said, "ACCOUNT LOCK")
	require.Contains(t, said, `it\'s`)
	require.NotContains(t, said, "caching_sha2_password' AS", "no password")
}

// TestDemoOnServers goes through the whole work on a server, and leaves nothing there.
func TestDemoOnServers(t *testing.T) {
	for _, c := range everyServer(t) {
		t.Run(c.engine, func(t *testing.T) {
			dir := t.TempDir()
			o := run(t, dir, 0, "demo", "--on", c.url(""))
			require.Contains(t, o.stdout, "── 9. What damage looks like")
			found := strings.Contains(o.stdout, "The server's log told it")
			require.Equal(t, c.engine != "postgres" || c.ask("", "SHOW wal_level") == "logical", found)
			require.Regexp(t, "restored (11,262 rows in 1 table|33,774 rows in 3 tables), ", o.stdout, "as they were before the "+
				"mistake; foreign keys tie two more to it where they act")
			require.Equal(t, 5, strings.Count(o.stdout, "\nproven  nightly/ternskerry_")+strings.Count(o.stdout,
				"\nfailed  nightly/ternskerry_"))
			require.Contains(t, o.stdout, "41,816 rows in 8 tables")
			require.NotContains(t, c.databases(), "ternskerry")
			c.run("", "CREATE DATABASE ternskerry_cargo")
			defer c.run("", "DROP DATABASE ternskerry_cargo")
			require.Contains(t, run(t, dir, 1, "demo", "other", "--on", c.url("")).stderr,
				"has a database ternskerry_cargo already")
			require.Contains(t, c.databases(), "ternskerry_cargo", "what is not the demo's stays")
		})
	}
}

// TestMariaDBReadersShareATable: a large table is read in ranges of its key by several
// readers; together they are the whole, whatever the keys.
func TestMariaDBReadersShareATable(t *testing.T) {
	m := needMariaDB(t)
	freshMaria(t, m, "shared", "shared2")
	queryMaria(t, m, "shared",
		"CREATE TABLE t (id bigint PRIMARY KEY, v varchar(700)) CHARACTER SET ascii; INSERT INTO t SELECT "+
			"cast(seq AS signed) * 7 - 200000, repeat('x', 600) FROM seq_1_to_70000; INSERT INTO t VALUES (-90000000, "+
			"'least'), (9000000, 'most'); CREATE TABLE far LIKE t; INSERT INTO far SELECT * FROM t; INSERT INTO far "+
			"VALUES (-9223372036854775808, 'least'), (9223372036854775807, 'most'); ANALYZE TABLE t, far")
	dir := t.TempDir()
	config := fmt.Sprintf("[source.s]\nengine = \"mysql\"\nserver = \"127.0.0.1:%d\"\nuser = %q\n[keep.k]\nfolder "+
		"= \"keep\"\n[job.j]\nsource = \"s\"\nkeep = \"k\"\ndatabases = [\"shared\"]\nworkers = 3\nserver = "+
		"false\nlock_wait = \"2 s\"\n", m.Port, testserver.Admin)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte(config), 0o600))
	run(t, dir, 0, "keep", "create", "k")
	path := lines(run(t, dir, -1, "dump", "j").stdout)[0]
	parts, err := filepath.Glob(filepath.Join(path, "20-data/t/part-*"))
	require.NoError(t, err)
	require.Len(t, parts, 3)
	run(t, dir, 0, "restore", path, "--to", "s", "--as", "shared2")
	for _, table := range []string{"t", "far"} {
		require.Equal(t, queryMaria(t, m, "shared", "CHECKSUM TABLE "+table)[len("shared"):], queryMaria(t, m,
			"shared2", "CHECKSUM TABLE "+table)[len("shared2"):])
	}

	// Commits are stopped for an instant only, and a statement that keeps that away is named.
	busy := make(chan error, 1)
	go func() {
		_, err := m.Ask(context.Background(), "shared", "UPDATE t SET v = concat(v, sleep(8)) WHERE id = 9000000")
		busy <- err
	}()
	require.Eventually(t, func() bool {
		return queryMaria(t, m, "",
			"SELECT count(*) FROM information_schema.processlist WHERE info LIKE 'UPDATE t SET v = concat%'") == "1"
	}, patience, tick)
	o := run(t, dir, 1, "dump", "j")
	require.Contains(t, o.stderr, "could not be pinned within 2.0 s: others hold a lock")
	require.Regexp(t, `it may be held by session \d+ of `+testserver.Admin+` \(\d+ s: UPDATE t SET v = concat`,
		o.stderr)
	require.NoError(t, <-busy)
	run(t, dir, -1, "dump", "j")
}

// TestMariaDBSettingsOfTheServer: what an administrator set for everybody does not
// change what is dumped, or how it comes back.
func TestMariaDBSettingsOfTheServer(t *testing.T) {
	m := needMariaDB(t)
	dir := t.TempDir()
	path := lines(run(t, dir, -1, "dump", "--from", m.URL("roster"), "--to", "keep").stdout)[0]
	queryMaria(t, m, "",
		"SET GLOBAL sql_select_limit = 7, GLOBAL sql_mode = 'ANSI_QUOTES,NO_BACKSLASH_ESCAPES', GLOBAL time_zone "+
			"= '+05:30', GLOBAL max_statement_time = 0.5, GLOBAL collation_connection = 'latin1_swedish_ci'")
	defer queryMaria(t, m, "",
		"SET STATEMENT max_statement_time = 0 FOR SET GLOBAL sql_select_limit = 18446744073709551615, GLOBAL "+
			"sql_mode = DEFAULT, GLOBAL time_zone = 'SYSTEM', GLOBAL max_statement_time = 0, GLOBAL "+
			"collation_connection = 'utf8mb4_general_ci'")
	again := lines(run(t, dir, -1, "dump", "--from", m.URL("roster"), "--to", "keep").stdout)[0]
	require.Equal(t, tablesOf(t, dir, path), tablesOf(t, dir, again))
	run(t, dir, 0, "drill", again, "--to", m.URL(""))
}

// TestMariaDBRowsIntoTables: values are bytes, so a column of another character set
// would take them for others.
func TestMariaDBRowsIntoTables(t *testing.T) {
	m := needMariaDB(t)
	freshMaria(t, m, "filled", "again")
	queryMaria(t, m, "filled",
		"CREATE TABLE t (id int PRIMARY KEY, name varchar(20), made varchar(9) AS ('x') VIRTUAL, e enum('x', 'é') "+
			"CHARACTER SET latin1, n int); INSERT INTO t (id, name, e) VALUES (1, 'é', 'é'), (2, 'e', NULL)")
	dir := t.TempDir()
	path := lines(run(t, dir, -1, "dump", "--from", m.URL("filled"), "--to", "keep").stdout)[0]
	run(t, dir, 0, "restore", path, "--to", m.URL(""), "--as", "again", "--part", "structure")
	rows := []string{"restore", path, "--to", m.URL(""), "--into", "again", "--part", "rows"}
	queryMaria(t, m, "again", "ALTER TABLE t MODIFY name varchar(20) CHARACTER SET latin1")
	require.Contains(t, run(t, dir, 1, rows...).stderr,
		"the column `name` of `t` in again is another than the dumped one: varchar in latin1, and was varchar in "+
			"utf8mb4")
	queryMaria(t, m, "again", "ALTER TABLE t MODIFY name text CHARACTER SET utf8mb3, MODIFY n bigint, DROP made")
	run(t, dir, 0, rows...)
	require.Equal(t, queryMaria(t, m, "filled", "SELECT id, name, e, n FROM t ORDER BY id"), queryMaria(t, m, "again",
		"SELECT id, name, e, n FROM t ORDER BY id"))
}
