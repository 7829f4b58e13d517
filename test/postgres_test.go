package test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// oddDatabase makes the database "odd" once.
func oddDatabase(t *testing.T, s *testserver.Postgres) {
	t.Helper()
	if query(t, s, "postgres", "SELECT count(*) FROM pg_database WHERE datname = 'odd'") == "1" {
		return
	}
	query(t, s, "postgres", "CREATE DATABASE odd")
	query(t, s, "odd", testdata(t, s, "odd.sql"))
}

// facts reads what a database is and holds by queries of the test's own.
func facts(t *testing.T, s *testserver.Postgres, database string) []string {
	t.Helper()
	script := testdata(t, s, "facts.sql")
	ctx := context.Background()
	c, err := s.Connect(ctx, database)
	require.NoError(t, err)
	defer c.Close(ctx)
	ask(t, c, "SET datestyle = 'ISO'; SET extra_float_digits = 1; SET search_path = public")
	if version(t, s) < 15 {
		script = regexp.MustCompile(`-- since 15\n.*\n`).ReplaceAllString(script, "")
	}
	out := strings.Split(ask(t, c, script), "\n")
	for table := range strings.SplitSeq(ask(t, c, `SELECT string_agg(oid::regclass::text, chr(1)) FROM pg_class
		WHERE (relkind IN ('r', 'p') AND NOT relispartition AND relname <> 'by_list' OR relname = 'by_list_a') AND
		relnamespace IN
		(SELECT oid FROM pg_namespace WHERE nspname IN ('public', 'freight'))`), "\x01") {
		out = append(out, table+" "+ask(t, c,
			fmt.Sprintf("SELECT count(*), sum(hashtextextended(t::text, 0)) FROM %s t", table)))
	}
	require.Greater(t, len(out), 10)
	return out
}

// version is the server's major version.
func version(t *testing.T, s *testserver.Postgres) int {
	t.Helper()
	n, err := strconv.Atoi(query(t, s, "postgres", "SELECT current_setting('server_version_num')::int / 10000"))
	require.NoError(t, err)
	return n
}

func dropDatabases(t *testing.T, s *testserver.Postgres, names ...string) {
	t.Helper()
	for _, n := range names {
		subscriptions := query(t, s, "postgres", "SELECT count(*) FROM pg_subscription s JOIN pg_database d "+
			"ON d.oid = subdbid WHERE datname = '"+strings.ReplaceAll(n, "'", "''")+"'")
		if subscriptions != "0" {
			query(t, s, n, "ALTER SUBSCRIPTION feed SET (slot_name = NONE)")
			query(t, s, n, "DROP SUBSCRIPTION feed")
		}
		query(t, s, "postgres", adapted(t, s, `DROP DATABASE IF EXISTS "`+strings.ReplaceAll(n, `"`,
			`""`)+`" WITH (FORCE)`))
	}
}

func TestPostgresComesBackExactly(t *testing.T) {
	s := needServer(t)
	oddDatabase(t, s)
	wholeDatabase(t, s)
	// Settings of a role apply to every connection; dates would swap day and month.
	query(t, s, "postgres",
		fmt.Sprintf("ALTER ROLE %s SET datestyle = 'German'; ALTER ROLE %s SET extra_float_digits = -5; ALTER "+
			"ROLE %s SET search_path = nowhere",
			testserver.Admin, testserver.Admin, testserver.Admin))
	defer query(t, s, "postgres", "ALTER ROLE "+testserver.Admin+" RESET ALL")
	outsideDatabase(t, s)
	for _, database := range []string{"odd", "whole", "outside", "bookings", "cargo"} {
		t.Run(database, func(t *testing.T) { comesBack(t, s, database) })
	}
	require.Empty(t, query(t, s, "postgres", "SELECT datname FROM pg_database WHERE datname LIKE 'grainkeep%'"))
}

// comesBack dumps a database, and compares what the program and what its README's
// lines make of the dump with the original, by queries of the test's own.
func comesBack(t *testing.T, s *testserver.Postgres, database string) {
	dir := t.TempDir()
	path := lines(run(t, dir, -1, "dump", "--from", s.URL(database), "--to", "keep").stdout)[0]
	o := run(t, dir, 0, "drill", path, "--to", s.URL(""))
	require.Contains(t, o.stdout, "proven")
	restored, hand := database+"_again", database+"_restored"
	dropDatabases(t, s, restored, hand)
	defer dropDatabases(t, s, restored, hand)
	require.Equal(t, restored+"\n", run(t, dir, 0, "restore", path, "--to", s.URL(""), "--as", restored).stdout)
	want := facts(t, s, database)
	sameLines(t, want, facts(t, s, restored))
	// A dump of the restored one has the same objects, tables and fingerprints.
	again := lines(run(t, dir, -1, "dump", "--from", s.URL(restored), "--to", "keep").stdout)[0]
	require.Equal(t, tablesOf(t, dir, path), tablesOf(t, dir, again))
	objects := func(path string) []string {
		return lines(sh(t, path, `zstd -dcq objects.json.zst | grep -o '"kind":"[^"]*","name":"[^,]*'`))
	}
	sameLines(t, objects(path), objects(again))
	dropDatabases(t, s, restored)
	byHand(t, path, strings.NewReplacer(), "PGHOST="+s.Folder, fmt.Sprint("PGPORT=", s.Port),
		"PGUSER="+testserver.Admin)
	sameLines(t, want, facts(t, s, hand))
}

// wholeDatabase makes the database "whole", which holds every kind of object.
func wholeDatabase(t *testing.T, s *testserver.Postgres) {
	t.Helper()
	query(t, s, "postgres", "CREATE DATABASE whole")
	t.Cleanup(func() { dropDatabases(t, s, "whole") })
	space, err := s.MakeFolder("hold")
	require.NoError(t, err)
	script := testdata(t, s, "whole.sql")
	if version(t, s) >= 18 {
		script += testdata(t, s, "whole18.sql")
	}
	cmd := exec.Command("psql", "-qX", "-v", "ON_ERROR_STOP=1", "-o", "/dev/null", "-d", "whole")
	cmd.Env = append(os.Environ(), "PGHOST="+s.Folder, fmt.Sprint("PGPORT=", s.Port), "PGUSER="+testserver.Admin)
	cmd.Stdin = strings.NewReader(strings.ReplaceAll(script, "@TABLESPACE@", space))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
}

// outsideDatabase makes the database "outside": what material of others taught.
func outsideDatabase(t *testing.T, s *testserver.Postgres) {
	t.Helper()
	if version(t, s) < 15 {
		return // bodies in SQL, procedures that give something
	}
	query(t, s, "postgres", "DO $$BEGIN CREATE ROLE cook; CREATE ROLE deckhand; EXCEPTION WHEN "+
		"duplicate_object THEN NULL; END$$")
	t.Cleanup(func() { dropDatabases(t, s, "outside") })
	query(t, s, "postgres", "CREATE DATABASE outside")
	query(t, s, "outside", testdata(t, s, "outside.sql"))
}

// tablesOf gives a manifest's tables, but for those whose rows may be in another
// partition next time; a drill compares their trees.
func tablesOf(t *testing.T, dir, path string) (list []any) {
	at := func(from any, key string) any { return from.(map[string]any)[key] }
	shown := at(result(t, dir, 0, "show", path), "result").([]any)[0]
	for _, e := range at(at(at(at(shown, "manifest"), "payload"), "sql"), "tables").([]any) {
		if w := e.(map[string]any)["witness"]; w != nil { // as many rows as the server estimates
			delete(w.(map[string]any), "sample")
			delete(w.(map[string]any), "digest")
		}
		if e.(map[string]any)["through"] == nil {
			list = append(list, e)
		}
	}
	return list
}

func TestPostgresNamesThatHurt(t *testing.T) {
	s := needServer(t)
	const name = `a/b c"d'é`
	dropDatabases(t, s, name, name+"\n2")
	query(t, s, "postgres", `CREATE DATABASE "a/b c""d'é"`)
	defer dropDatabases(t, s, name, name+"\n2")
	query(t, s, name, "CREATE TABLE t AS SELECT 1 AS a")
	dir := filepath.Join(t.TempDir(), "sp ace 'q' \"d\"\nline")
	require.NoError(t, os.Mkdir(dir, 0o700))
	path := lines(run(t, dir, -1, "dump", "--from", s.URL(""), "--database", name, "--to", "keep").stdout)
	require.Contains(t, strings.Join(path, "\n"), "a%2fb%20c%22d%27%c3%a9/")
	run(t, dir, 0, "drill", "adhoc/"+name, "--from", "keep", "--to", s.URL(""))
	run(t, dir, 0, "restore", "adhoc/"+name, "--from", "keep", "--to", s.URL(""), "--as", name+"\n2")
	require.Equal(t, "1", query(t, s, name+"\n2", "SELECT a FROM t"))
}

// TestPostgresEncodings: rows keep their bytes, also those that UTF-8 has no place for.
func TestPostgresEncodings(t *testing.T) {
	s := needServer(t)
	for encoding, bytes := range map[string]string{"SQL_ASCII": "e9ff", "WIN1252": "e981", "LATIN1": "e9a0",
		"EUC_JP": "a4a2"} {
		name := "enc_" + strings.ToLower(encoding)
		dropDatabases(t, s, name, name+"_restored")
		query(t, s, "postgres",
			"CREATE DATABASE "+name+" ENCODING '"+encoding+"' TEMPLATE template0 LC_COLLATE 'C' LC_CTYPE 'C'")
		query(t, s, name,
			`CREATE TABLE t (v text); COPY t FROM PROGRAM 'printf "`+regexp.MustCompile("..").ReplaceAllString(bytes,
				`\\x$0`)+`"' (ENCODING '`+encoding+`')`)
		dir := t.TempDir()
		path := lines(run(t, dir, -1, "dump", "--from", s.URL(name), "--to", "keep").stdout)[0]
		run(t, dir, 0, "drill", path, "--to", s.URL(""))
		byHand(t, path, strings.NewReplacer(), "PGHOST="+s.Folder, fmt.Sprint("PGPORT=", s.Port),
			"PGUSER="+testserver.Admin)
		run(t, dir, 0, "restore", path, "--to", s.URL(""), "--as", name+"_again")
		for _, restored := range []string{name + "_restored", name + "_again"} {
			require.Equal(t, bytes, query(t, s, restored,
				"SELECT encode(convert_to(v, getdatabaseencoding()), 'hex') FROM t"), restored)
		}
		dropDatabases(t, s, name, name+"_restored", name+"_again")
	}
}

func TestPostgresReplaceMissingRolesAndOnly(t *testing.T) {
	s := needServer(t)
	dropDatabases(t, s, "harbour", "harbour2")
	query(t, s, "postgres", "CREATE DATABASE harbour")
	defer dropDatabases(t, s, "harbour", "harbour2", "part")
	query(t, s, "harbour", `CREATE ROLE pilot_boat; CREATE TYPE berth AS ENUM ('n', 's'); CREATE TABLE ship (id serial PRIMARY KEY, b berth); INSERT INTO ship(b) VALUES ('n');
		CREATE TABLE crate (id int, ship int REFERENCES ship); CREATE INDEX ON ship (b); ALTER TABLE ship OWNER TO pilot_boat`)
	dir := t.TempDir()
	run(t, dir, -1, "dump", "--from", s.URL("harbour"), "--to", "keep")
	args := []string{"restore", "adhoc/harbour", "--from", "keep", "--to", s.URL("")}
	require.Contains(t, run(t, dir, 1, args...).stderr, "--as NAME, or add --replace")
	c, err := s.Connect(context.Background(), "harbour")
	require.NoError(t, err)
	require.Contains(t, run(t, dir, 1, append(args, "--replace")...).stderr, "a session uses the database harbour")
	require.NoError(t, c.Close(context.Background()))
	o := run(t, dir, 0, append(args, "--replace")...)
	_, aside, ok := strings.Cut(strings.TrimSpace(o.stderr), "is now called ")
	require.True(t, ok, o.stderr)
	require.Equal(t, "1", query(t, s, aside, "SELECT count(*) FROM ship"))
	require.Equal(t, "pilot_boat", query(t, s, "harbour", "SELECT tableowner FROM pg_tables WHERE tablename = 'ship'"))

	run(t, dir, 0, append(args, "--as", "part", "--only", "ship")...)
	require.Equal(t, "ship|2", query(t, s, "part",
		"SELECT string_agg(tablename, ','), (SELECT count(*) FROM pg_indexes WHERE schemaname = 'public') FROM "+
			"pg_tables WHERE schemaname = 'public'"))
	require.Equal(t, "2", query(t, s, "part", "INSERT INTO ship(b) VALUES ('s') RETURNING id"),
		"with its sequence, where it stood")

	dropDatabases(t, s, aside, "harbour", "part")
	query(t, s, "postgres", "DROP ROLE pilot_boat")
	require.Contains(t, run(t, dir, 1, append(args, "--as", "harbour2")...).stderr,
		"roles that the target lacks: pilot_boat")
	require.Equal(t, "0", query(t, s, "postgres",
		"SELECT count(*) FROM pg_database WHERE datname LIKE 'harbour2' OR datname LIKE 'grainkeep%'"))
	run(t, dir, 0, append(args, "--as", "harbour2", "--owners", "mine")...)
}

func TestPostgresIntoAndParts(t *testing.T) {
	s := needServer(t)
	dir := t.TempDir()
	dropDatabases(t, s, "berth", "berth2")
	query(t, s, "postgres", "CREATE DATABASE berth")
	defer dropDatabases(t, s, "berth", "berth2")
	path := lines(run(t, dir, -1, "dump", "--from", s.URL("bookings"), "--to", "keep", "--compression",
		"none").stdout)[0]
	restore := func(code int, args ...string) string {
		return run(t, dir, code, append([]string{"restore", path, "--to", s.URL("")}, args...)...).stderr
	}
	// One that fails in the middle leaves the database as empty as it was.
	file := filepath.Join(path, "20-data/public.posting/part-0001.sql")
	good, err := os.ReadFile(file)
	require.NoError(t, err)
	bad := append([]byte{}, good...)
	bad[len(bad)-9] ^= 1
	require.NoError(t, os.WriteFile(file, bad, 0o600))
	require.Contains(t, restore(1, "--into", "berth"), "20-data/public.posting/part-0001.sql")
	require.NoError(t, os.WriteFile(file, good, 0o600))
	require.Equal(t, "0|1", query(t, s, "berth",
		"SELECT (SELECT count(*) FROM pg_class c JOIN pg_namespace n ON n.oid = relnamespace WHERE nspname NOT "+
			"LIKE 'pg%' AND nspname <> 'information_schema'), (SELECT count(*) FROM pg_namespace WHERE nspname = "+
			"'public')"))

	restore(0, "--into", "berth")
	sameLines(t, facts(t, s, "bookings"), facts(t, s, "berth"))
	require.Contains(t, restore(1, "--into", "berth"), "is not empty: it holds public.")

	restore(0, "--part", "structure", "--as", "berth2")
	require.Equal(t, "0|0", query(t, s, "berth2",
		"SELECT (SELECT count(*) FROM booking), (SELECT count(*) FROM posting)"))
	require.Contains(t, restore(2, "--part", "rows"), "--into DATABASE")
	restore(0, "--part", "rows", "--into", "berth2")
	sameLines(t, facts(t, s, "bookings"), facts(t, s, "berth2"))
	require.Contains(t, restore(1, "--part", "rows", "--into", "berth2"), "has rows already")
}

func TestPostgresRulesThatTheDataBreaks(t *testing.T) {
	s := needServer(t)
	dropDatabases(t, s, "leaky", "leaky2")
	query(t, s, "postgres", "CREATE DATABASE leaky")
	defer dropDatabases(t, s, "leaky", "leaky2")
	query(t, s, "leaky", `CREATE TABLE p (id int PRIMARY KEY); CREATE TABLE c (p int REFERENCES p); SET session_replication_role = replica; INSERT INTO c VALUES (99); RESET session_replication_role;
		CREATE TABLE lim (v int); INSERT INTO lim VALUES (1); CREATE FUNCTION okay(int) RETURNS bool LANGUAGE plpgsql AS 'BEGIN RETURN EXISTS (SELECT 1 FROM lim WHERE v = $1); END';
		CREATE TABLE chk (v int CHECK (okay(v))); CREATE FUNCTION im(int) RETURNS bigint LANGUAGE plpgsql IMMUTABLE AS 'BEGIN RETURN (SELECT count(*) FROM lim); END';
		CREATE INDEX by_im ON chk (im(v)); INSERT INTO chk VALUES (1)`)
	dir := t.TempDir()
	run(t, dir, -1, "dump", "--from", s.URL("leaky"), "--to", "keep")
	o := run(t, dir, 3, "drill", "adhoc", "--from", "keep", "--to", s.URL(""))
	require.Contains(t, o.stdout, "proven")
	o = run(t, dir, 3, "restore", "adhoc", "--from", "keep", "--to", s.URL(""), "--as", "leaky2")
	require.Contains(t, o.stderr, "the data breaks the foreign key c_p_fkey on public.c: it was added without testing")
	// Their functions rely on the search path of the application: that is theirs then.
	require.NotContains(t, o.stderr, "chk_v_check")
	require.Equal(t, "1|1|f|t", query(t, s, "leaky2",
		"SELECT (SELECT count(*) FROM c), (SELECT count(*) FROM chk), (SELECT convalidated FROM pg_constraint "+
			"WHERE conrelid = 'c'::regclass), (SELECT convalidated FROM pg_constraint WHERE conrelid = 'chk'::regclass)"))

	// A rule that cannot be tested is not one that the data breaks. Without one that tells
	// rows apart, nothing is proven.
	query(t, s, "leaky", `CREATE SCHEMA gone; CREATE TABLE gone.t (); CREATE FUNCTION lost(int) RETURNS int LANGUAGE plpgsql
		IMMUTABLE AS 'BEGIN PERFORM 1 FROM gone.t; RETURN $1; END'; CREATE TABLE told (v int CHECK (lost(v) > 0));
		INSERT INTO told VALUES (1); CREATE UNIQUE INDEX only_one ON told (lost(v)); DROP SCHEMA gone CASCADE`)
	run(t, dir, -1, "dump", "--from", s.URL("leaky"), "--to", "keep")
	o = run(t, dir, 5, "drill", "adhoc", "--from", "keep", "--to", s.URL(""))
	require.Contains(t, o.stdout,
		"the unique index public.only_one did not come back: relation \"gone.t\" does not exist")
	require.Regexp(t, "the check told_v_check on public.told could not be tested, .*: relation \"gone.t\" does not exist",
		o.stderr)
}

// TestPostgresLeastRights makes the users that grants prints, and works as them.
func TestPostgresLeastRights(t *testing.T) {
	s := needServer(t)
	if version(t, s) < 14 {
		t.Skip("a role that may read everything came with version 14")
	}
	dir := t.TempDir()
	for _, u := range []string{"pilot", "tester"} {
		if query(t, s, "postgres", "SELECT count(*) FROM pg_roles WHERE rolname = '"+u+"'") == "1" {
			query(t, s, "postgres", "DROP OWNED BY "+u+"; DROP ROLE "+u)
		}
	}
	query(t, s, "postgres", run(t, dir, 0, "grants", "--from", fmt.Sprintf("postgres://pilot@127.0.0.1:%d/bookings",
		s.Port)).stdout)
	query(t, s, "postgres", "ALTER ROLE pilot PASSWORD 'hunter2'")
	query(t, s, "postgres", run(t, dir, 0, "grants", "--for", "drill", "--from",
		fmt.Sprintf("postgres://tester@127.0.0.1:%d/", s.Port)).stdout)
	config := fmt.Sprintf(`[source.quay]
engine = "postgres"
server = "127.0.0.1:%d"
user = "pilot"
secret = "file:quay.secret"
[source.test]
engine = "postgres"
server = "127.0.0.1:%d"
user = "tester"
[keep.barn]
folder = "barn"
[job.nightly]
source = "quay"
databases = ["bookings", "cargo", "roster"]
keep = "barn"
drill_on = "test"
[[job.nightly.check]]
database = "bookings"
sql = "SELECT sum(amount) FROM public.posting"
answer = "0"
`, s.Port, s.Port)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte(config), 0o600))
	secret := filepath.Join(dir, "quay.secret")
	require.NoError(t, os.WriteFile(secret, []byte("wrong\n"), 0o600))
	run(t, dir, 0, "keep", "create", "barn")
	o := run(t, dir, 1, "dump", "nightly")
	require.Contains(t, o.stderr, "refused the user pilot")
	require.Contains(t, o.stderr, "'grainkeep grants' prints the SQL")
	require.NoError(t, os.WriteFile(secret, []byte("hunter2\n"), 0o600))
	require.NoError(t, os.Chmod(secret, 0o644))
	require.Contains(t, run(t, dir, 2, "dump", "nightly").stderr, "is not used: others can read it")
	require.NoError(t, os.Chmod(secret, 0o600))
	o = run(t, dir, 0, "survey", "nightly")
	require.Contains(t, o.stdout, "user         pilot")
	require.Contains(t, run(t, dir, 3, "dump", "nightly").stderr, "will come back without a password")
	o = run(t, dir, 0, "drill", "nightly")
	require.Equal(t, 3, strings.Count(o.stdout, "proven"))
	require.Contains(t, o.stderr, "check good: SELECT sum(amount) FROM public.posting → 0")
	require.NotContains(t, o.stderr, "could do more", "grants --for drill gives no more than a drill needs")
	query(t, s, "postgres", "ALTER ROLE tester CREATEROLE; GRANT pg_read_server_files TO tester")
	require.Contains(t, run(t, dir, 0, "drill", "nightly/roster").stderr,
		"could do more than touch scratch databases: it makes roles, it is a member of pg_read_server_files")
	require.Empty(t, sh(t, dir, "grep -r hunter2 barn || true"))

	// Without a configured secret, the server's usual password file counts.
	pass := filepath.Join(dir, ".pgpass")
	require.NoError(t, os.WriteFile(pass, []byte("*:*:*:pilot:hunter2\n"), 0o600))
	url := fmt.Sprintf("postgres://pilot@127.0.0.1:%d/cargo", s.Port)
	run(t, dir, 0, "dump", "--from", url, "--to", "./other")
	require.NoError(t, os.Chmod(pass, 0o644))
	require.Contains(t, run(t, dir, 2, "dump", "--from", url, "--to", "./other").stderr,
		"others can read the password file")
	require.NoError(t, os.Remove(pass))

	// What would be missing is told before anything is written, all of it at once.
	dropDatabases(t, s, "guarded")
	query(t, s, "postgres", "CREATE DATABASE guarded")
	defer dropDatabases(t, s, "guarded")
	query(t, s, "guarded",
		"CREATE TABLE hidden AS SELECT 1 AS a; ALTER TABLE hidden ENABLE ROW LEVEL SECURITY; SELECT "+
			"lo_from_bytea(4711, 'x')")
	guarded := []string{"--from", fmt.Sprintf("postgres://pilot@127.0.0.1:%d/guarded", s.Port)}
	require.NoError(t, os.WriteFile(pass, []byte("*:*:*:pilot:hunter2\n"), 0o600))
	for _, command := range [][]string{{"survey"}, {"dump", "--to", "./other"}} {
		require.Regexp(t,
			`may not read the large objects: 4711; tables whose row security would hide rows \(.*\): public.hidden`,
			run(t, dir, 1, append(command, guarded...)...).stderr)
	}
	query(t, s, "guarded", "ALTER ROLE pilot BYPASSRLS; GRANT SELECT ON LARGE OBJECT 4711 TO pilot")
	run(t, dir, 0, append([]string{"dump", "--to", "./other"}, guarded...)...)
	run(t, dir, 0, "drill", "adhoc/guarded", "--from", "./other", "--to", s.URL(""))

	// That the drilling user may not make something says nothing about the dump.
	query(t, s, "guarded", "CREATE FUNCTION inner_one(int) RETURNS int LANGUAGE internal AS 'int4up'")
	query(t, s, "guarded", "DROP TABLE hidden; SELECT lo_unlink(4711)")
	o = run(t, dir, 3, append([]string{"dump", "--to", "./other"}, guarded...)...)
	require.Contains(t, o.stderr, "the table public.hidden, which had 1 row in the last dump, is gone")
	o = run(t, dir, 1, "drill", "adhoc/guarded", "--from", "./other", "--to",
		fmt.Sprintf("postgres://tester@127.0.0.1:%d/", s.Port))
	require.Contains(t, o.stderr, "the function public.inner_one(integer) could not be restored: permission denied")
	require.Contains(t, run(t, dir, 0, "list", "adhoc/guarded", "--from", "./other").stdout, "unproven")

	// A clean-up that meets somebody else's scratch database lists it, no more; one
	// with this keep's mark that nobody holds is dropped.
	id := result(t, dir, 0, "show",
		"nightly/bookings")["result"].([]any)[0].(map[string]any)["manifest"].(map[string]any)["keep"].(string)
	dropDatabases(t, s, "grainkeep_drill_foreign", "grainkeep_drill_dead")
	query(t, s, "postgres", "CREATE DATABASE grainkeep_drill_foreign; ")
	query(t, s, "postgres", "CREATE DATABASE grainkeep_drill_dead OWNER tester")
	query(t, s, "grainkeep_drill_dead",
		"CREATE SCHEMA grainkeep_scratch; CREATE TABLE grainkeep_scratch.mark AS SELECT '"+id+"'::text AS keep; "+
			"GRANT ALL ON SCHEMA grainkeep_scratch TO tester; GRANT SELECT ON grainkeep_scratch.mark TO tester")
	o = run(t, dir, 3, "drill", "nightly/roster")
	require.Contains(t, o.stderr,
		"grainkeep_drill_foreign looks like a scratch database but does not bear this keep's mark; it was not touched")
	require.Contains(t, o.stderr, "removed the scratch database grainkeep_drill_dead")
	require.Equal(t, "grainkeep_drill_foreign", query(t, s, "postgres",
		"SELECT datname FROM pg_database WHERE datname LIKE 'grainkeep%'"))
	dropDatabases(t, s, "grainkeep_drill_foreign")
}

// TestPostgresServer brings a server's roles to a new one, and then a database that
// needs them.
func TestPostgresServer(t *testing.T) {
	old, fresh := ownServer(t), ownServer(t)
	space, err := old.MakeFolder("hold")
	require.NoError(t, err)
	for _, sql := range []string{`CREATE ROLE "Odd 'one" LOGIN PASSWORD 'tide' CONNECTION LIMIT 3 VALID UNTIL '2031-01-02'`, "CREATE ROLE crew NOINHERIT CREATEDB BYPASSRLS", `GRANT crew TO "Odd 'one" WITH ADMIN OPTION`,
		`ALTER ROLE "Odd 'one" SET search_path = 'a b', public`, "COMMENT ON ROLE crew IS E'it''s\\n'",
		"CREATE TABLESPACE hold LOCATION '" + space + "'", "ALTER DATABASE big OWNER TO crew",
		`GRANT CREATE ON DATABASE big TO "Odd 'one"`, "GRANT SET ON PARAMETER work_mem TO crew",
		"ALTER ROLE ALL SET idle_in_transaction_session_timeout = '9h'", "ALTER DATABASE big IS_TEMPLATE true"} {
		query(t, old, "postgres", adapted(t, old, sql))
	}
	if version(t, old) >= 16 { // one membership, of several grantors
		query(t, old, "postgres",
			"CREATE ROLE mate; CREATE ROLE bosun; GRANT crew TO bosun WITH ADMIN OPTION; GRANT crew TO mate; "+
				"SET ROLE bosun; GRANT crew TO mate WITH INHERIT TRUE")
	}
	query(t, old, "big", "ALTER TABLE cargo OWNER TO crew")
	const roles = `SELECT rolname, rolinherit, rolcreatedb, rolcanlogin, rolbypassrls, rolconnlimit, rolvaliduntil, (SELECT setconfig FROM pg_db_role_setting WHERE setrole = a.oid AND setdatabase = 0), shobj_description(a.oid, 'pg_authid'),
		(SELECT string_agg(m.roleid::regrole::text || m.admin_option || m.grantor::regrole, ','
			ORDER BY m.grantor::regrole::text) FROM pg_auth_members m WHERE member = a.oid), rolpassword FROM pg_authid a WHERE rolname !~ '^pg_' UNION ALL SELECT 'everybody', NULL, NULL, NULL, NULL, NULL, NULL, (SELECT setconfig FROM pg_db_role_setting WHERE setrole = 0 AND setdatabase = 0), NULL, NULL, NULL ORDER BY 1`
	dir := t.TempDir()
	config := fmt.Sprintf("[source.s]\nengine = \"postgres\"\nserver = \"127.0.0.1:%d\"\nuser = "+
		"%q\n[keep.k]\nfolder = \"keep\"\n[job.j]\nsource = \"s\"\nkeep = \"k\"\npasswords = true\nworkers = "+
		"1\ndrill_on = \"s\"\n", old.Port, testserver.Admin)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte(config), 0o600))
	run(t, dir, 0, "keep", "create", "k")
	o := run(t, dir, -1, "dump", "j")
	paths := lines(o.stdout)
	require.Len(t, paths, 2)
	require.Contains(t, paths[1], "/j/+server/")
	run(t, dir, 0, "verify", "j")
	require.Equal(t, 1, strings.Count(run(t, dir, 0, "drill", "j").stdout, "proven"))
	require.Contains(t, run(t, dir, 2, "drill", "j/+server").stderr, "cannot be drilled")
	require.Contains(t, run(t, dir, 0, "list").stdout, "cannot be drilled")

	dropDatabases(t, fresh, "big")
	require.Contains(t, run(t, dir, 1, "restore", "j/big", "--to", fresh.URL("")).stderr,
		"roles that the target lacks: \"Odd 'one\", crew")
	byHand(t, paths[1], strings.NewReplacer(), "PGHOST="+fresh.Folder, fmt.Sprint("PGPORT=", fresh.Port),
		"PGUSER="+testserver.Admin)
	require.Equal(t, query(t, old, "postgres", roles), query(t, fresh, "postgres", roles))
	query(t, fresh, "postgres", "DROP ROLE \"Odd 'one\"; ALTER ROLE crew CONNECTION LIMIT 9")
	o = run(t, dir, 3, "restore", "j/+server", "--to", fresh.URL(""))
	require.Contains(t, o.stderr, "the tablespace hold is left out")
	query(t, fresh, "postgres", "ALTER ROLE crew CONNECTION LIMIT -1")
	require.Equal(t, query(t, old, "postgres", roles), query(t, fresh, "postgres", roles))
	run(t, dir, 0, "restore", "j/big", "--to", fresh.URL(""))
	run(t, dir, 3, "restore", "j/+server", "--to", fresh.URL(""))
	const owner = "SELECT datdba::regrole, datistemplate, ARRAY(SELECT unnest(datacl::text[]) ORDER BY 1) FROM pg_database WHERE " +
		"datname = 'big'"
	require.Equal(t, query(t, old, "postgres", owner), query(t, fresh, "postgres", owner))

	// A database that lies elsewhere comes back there, or is named; rules of its order come along.
	query(t, old, "postgres", "CREATE DATABASE spaced TABLESPACE hold")
	query(t, old, "spaced", "CREATE TABLE t AS SELECT 1 AS n; CREATE INDEX ON t (n)")
	path := lines(run(t, dir, -1, "dump", "--from", old.URL("spaced"), "--to", "./spaced").stdout)[0]
	run(t, dir, 0, "drill", path, "--to", old.URL(""))
	run(t, dir, 0, "restore", path, "--to", old.URL(""), "--as", "spaced2")
	const lies = "SELECT spcname FROM pg_tablespace s JOIN pg_database d ON d.dattablespace = s.oid WHERE datname = 'spaced2'"
	require.Equal(t, "hold", query(t, old, "postgres", lies))
	require.Contains(t, run(t, dir, 3, "restore", path, "--to", fresh.URL(""), "--as", "spaced2").stderr,
		"the target has no tablespace hold that this user may use")
	require.Contains(t, run(t, dir, 0, "drill", path, "--to", fresh.URL("")).stdout, "proven")
	if version(t, old) >= 16 {
		query(t, old, "postgres",
			"CREATE DATABASE ruled TEMPLATE template0 LOCALE_PROVIDER icu ICU_LOCALE 'en' ICU_RULES '&a < g'")
		path := lines(run(t, dir, -1, "dump", "--from", old.URL("ruled"), "--to", "./spaced").stdout)[0]
		run(t, dir, 0, "drill", path, "--to", fresh.URL(""))
		run(t, dir, 0, "restore", path, "--to", fresh.URL(""))
		require.Equal(t, "&a < g", query(t, fresh, "postgres",
			"SELECT daticurules FROM pg_database WHERE datname = 'ruled'"))
	}

	config = strings.Replace(config, "passwords = true", "server = false\ndatabases = [\"big\"]", 1)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte(config), 0o600))
	require.Len(t, lines(run(t, dir, -1, "dump", "j").stdout), 1)
}

// TestPostgresLabelsAndLostReferences: labels of a provider that only the old server
// had are named and left out; a reference to what is gone comes back as it reads.
func TestPostgresLabelsAndLostReferences(t *testing.T) {
	s := needServer(t)
	dropDatabases(t, s, "labelled", "labelled_restored", "labelled2")
	query(t, s, "postgres", "CREATE DATABASE labelled")
	defer dropDatabases(t, s, "labelled", "labelled_restored", "labelled2")
	query(t, s, "labelled", `CREATE TABLE secret (id int, note text); CREATE TABLE gone (); CREATE TABLE points AS SELECT 'gone'::regclass AS at, 'secret'::regclass AS to_; DROP TABLE gone;
		SET allow_system_table_mods = on; INSERT INTO pg_seclabel SELECT 'secret'::regclass, 'pg_class'::regclass, n, 'harbour-mac', E'top''s\n' || n FROM generate_series(0, 1) n`)
	dir := t.TempDir()
	path := lines(run(t, dir, -1, "dump", "--from", s.URL("labelled"), "--to", "keep").stdout)[0]
	text := sh(t, path, "zstd -dcq 50-finish.sql.zst")
	require.Contains(t, text, `SECURITY LABEL FOR "harbour-mac" ON TABLE public.secret IS 'top''s`+"\n0'")
	require.Contains(t, text, `SECURITY LABEL FOR "harbour-mac" ON COLUMN public.secret.id IS 'top''s`+"\n1'")
	o := run(t, dir, 3, "restore", path, "--to", s.URL(""), "--as", "labelled2")
	require.Contains(t, o.stderr, `security label "harbour-mac" on table public.secret`)
	require.Contains(t, o.stderr, `"harbour-mac" is not loaded`)
	number := query(t, s, "labelled", "SELECT at::oid FROM points")
	require.Equal(t, number+"|secret", query(t, s, "labelled2", "SELECT at, to_ FROM points"))

	query(t, s, "labelled", "CREATE VIEW seen AS SELECT 1; INSERT INTO points VALUES ('seen')")
	require.Contains(t, run(t, dir, -1, "dump", "--from", s.URL("labelled"), "--to", "keep").stderr,
		"rows of public.points name public.seen in a column of type regclass")

	// By hand, the client stops at the first error and says so.
	cmd := exec.Command("sh", "-e", "-c", handScript(t, path))
	cmd.Dir = path
	cmd.Env = append(os.Environ(), "PGHOST="+s.Folder, fmt.Sprint("PGPORT=", s.Port), "PGUSER="+testserver.Admin)
	out, err := cmd.CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(out), "security label provider")
}

// TestPostgresLongRows: a row whose text is more than the server can make or take.
func TestPostgresLongRows(t *testing.T) {
	s := needServer(t)
	dropDatabases(t, s, "long", "long_again", "long_restored")
	defer dropDatabases(t, s, "long", "long_again", "long_restored")
	query(t, s, "postgres", "CREATE DATABASE long TEMPLATE template0 ENCODING LATIN1 LOCALE 'C'")
	query(t, s, "long", strings.NewReplacer("CREATION", "TABLE", "TABLE", "\"od;\nd\"", "SCAN", "\"a;\nb\"").Replace(`
		CREATE DOMAIN scan AS bytea NOT NULL;
		CREATE CREATION TABLE (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, SCAN scan, note text, short int DEFAULT 3,
			twice bigint GENERATED ALWAYS AS (octet_length(note) * 2) STORED);
		ALTER CREATION TABLE ALTER SCAN SET STORAGE EXTERNAL;
		INSERT INTO TABLE (SCAN, note) VALUES ('\x01', 'first'), (convert_to(repeat(E'x\\\n', 45 << 20), 'LATIN1'),
			repeat(E'tab\t\u00e9', 3 << 20)), ('\x02', NULL);
		UPDATE TABLE SET short = NULL WHERE id = 2`))
	said := func(database string) string {
		return query(t, s, database, "SELECT id, md5(\"a;\nb\"), length(\"a;\nb\"), md5(note), short, twice FROM "+
			"\"od;\nd\" ORDER BY id")
	}
	want := said("long")
	dir := t.TempDir()
	path := lines(run(t, dir, -1, "dump", "--from", s.URL("long"), "--to", "keep").stdout)[0]
	require.Contains(t, run(t, dir, 0, "drill", path, "--to", s.URL("")).stdout, "proven")
	run(t, dir, 0, "restore", path, "--to", s.URL(""), "--as", "long_again")
	require.Equal(t, want, said("long_again"))
	byHand(t, path, strings.NewReplacer(), "PGHOST="+s.Folder, fmt.Sprint("PGPORT=", s.Port),
		"PGUSER="+testserver.Admin)
	require.Equal(t, want, said("long_restored"))
}
