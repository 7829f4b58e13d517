package test

import (
	"context"
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/manifest"
	"grainkeep/internal/testserver"
)

// loggedTables are tables of every type that the log of MariaDB and MySQL tells of, and some that it does not.
var loggedTables = []string{
	"CREATE TABLE kinds (id bigint PRIMARY KEY, t tinyint, s smallint unsigned, m mediumint, i int unsigned, " +
		"b bigint unsigned, d decimal(30,9), f float, g double, y year, dt date, ti time(3), dtm datetime(6), ts " +
		"timestamp(2) " +
		"NULL, c char(10) CHARACTER SET latin1, v varchar(300), tx mediumtext, bn binary(5), vb varbinary(60), bl " +
		"longblob, " +
		"bt bit(13), p point, t0 time, t1 time(1), t5 time(5), d3 datetime(3), z int(9) unsigned zerofill, m0 mediumint " +
		"unsigned, " +
		"doubled int AS (t * 2) STORED, more int AS (t + 1) VIRTUAL, " +
		"up timestamp DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP)",
	"CREATE TABLE words (id int PRIMARY KEY, e enum('a', 'b,c', '''d'), st set('x', 'y', 'z'), j json, l varchar(9) " +
		"CHARACTER " +
		"SET utf16)",
	"CREATE TABLE pair (a int unsigned, k varchar(30) COLLATE utf8mb4_general_ci, d date, v int, PRIMARY KEY (a, k, d))",
	"CREATE TABLE raw (k binary(4) PRIMARY KEY, u int UNIQUE, v text)",
	"CREATE TABLE parent (id int PRIMARY KEY, v int)",
	"CREATE TABLE child (id int PRIMARY KEY, p int, FOREIGN KEY (p) REFERENCES parent (id) ON DELETE CASCADE ON UPDATE " +
		"CASCADE)",
	"CREATE TABLE grandchild (id int PRIMARY KEY AUTO_INCREMENT, c int, FOREIGN KEY (c) REFERENCES child (id) ON " +
		"DELETE SET NULL)",
	"CREATE TABLE account (id int PRIMARY KEY, balance decimal(12,2), CHECK (balance > -100000))",
	"CREATE TABLE loose (a int)", "CREATE TABLE by_float (f float PRIMARY KEY, v int)",
	"CREATE TABLE noted (at int)",
	"CREATE TRIGGER notes AFTER UPDATE ON account FOR EACH ROW INSERT INTO noted VALUES (NEW.id)",
	"INSERT INTO account SELECT t, 0 FROM (SELECT 1 AS t UNION SELECT 2 UNION SELECT 3 UNION SELECT 4) x",
	"INSERT INTO parent WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 900) SELECT i, i FROM c",
	"INSERT INTO child SELECT id * 10, id FROM parent", "INSERT INTO grandchild (c) SELECT id FROM child",
	"INSERT INTO raw SELECT unhex(lpad(hex(id), 8, '0')), id, repeat('r', id % 50) FROM parent",
	"INSERT INTO kinds (id, t, s, d, v) SELECT id, id % 120, id, -id / 7, repeat('é', id % 90) FROM parent",
	"INSERT INTO words (id, j) SELECT id, concat('{\"a\": ', id, ', \"list\": [1, 2.50, \"t\"]}') FROM parent",
	"INSERT INTO pair SELECT id, 'Key', '2026-01-01', 1 FROM parent",
}

// loggedChanges are what happens to them; %d are random numbers.
var loggedChanges = []string{
	"INSERT IGNORE INTO kinds (id, t, s, m, i, b, d, f, g, y, dt, ti, dtm, ts, c, v, tx, bn, vb, bl, bt, p, t0, t1, " +
		"t5, d3, z, m0) " +
		"VALUES (%[1]d + 1000, -128, 65535, -8388608, 4294967295, 18446744073709551615, -123456789012345678901.000000001, " +
		"1.1, " +
		"-2.2250738585072014e-308, 1901, '0000-00-00', '-838:59:59', '9999-12-31 23:59:59.999999', '1970-01-01 " +
		"00:00:01.01', " +
		"'é \\\\ ', 'naïve\\n''\"\\0', repeat('€', %[2]d), x'6100', x'00ff00', repeat(x'01', %[1]d), b'1000000000001', " +
		"ST_GeomFromText('POINT(1.5 -2)'), '-00:00:01', '-00:00:00.1', '-100:00:00.00001', '2026-02-29 00:00:00.001', 7, " +
		"16777215)",
	"INSERT IGNORE INTO kinds (id, t, s, m, i, b, d, f, g, y, dt, ti, dtm, ts, c, v, tx, bn, vb, bl, bt, p, t0, t1, " +
		"t5, d3) " +
		"SELECT %[1]d * 100 + 20000 + id, rand() * 100, rand() * 65535, rand() * -99999, rand() * 4e9, rand() * 1e18, " +
		"rand() * 1e12 " +
		"- 5e11, rand() * 1e-30, rand() * 1e300, 1901 + id %% 250, '1000-01-01' + INTERVAL id DAY, sec_to_time(rand() * " +
		"9000 - " +
		"5000), now(6) - INTERVAL rand() * 1e9 SECOND, from_unixtime(rand() * 2e9), left(md5(rand()), 9), sha2(rand(), " +
		"512), " +
		"md5(rand()), unhex(left(md5(rand()), 10)), unhex(sha2(rand(), 256)), repeat(md5(rand()), 9), id %% 8000, " +
		"point(rand(), id), " +
		"sec_to_time(-id), sec_to_time(-rand() * 100), sec_to_time(rand() * -1000), now(3) FROM parent WHERE id < 60",
	"UPDATE kinds SET v = concat('€', v), d = d / 3 WHERE id BETWEEN %[1]d AND %[1]d + 30",
	"UPDATE kinds SET t = NULL, dt = '0000-00-00', ti = '-00:00:00.001', g = -g WHERE id > %[1]d LIMIT 9",
	"UPDATE kinds SET bl = repeat('%[2]d', 90000) WHERE id > %[1]d LIMIT 2",
	"UPDATE kinds SET id = -id WHERE id %% 50 = 3",
	"UPDATE kinds SET s = s + 1, up = up WHERE id < 0", "DELETE FROM kinds WHERE id BETWEEN %[1]d AND %[1]d + %[2]d",
	"UPDATE words SET e = elt(1 + %[2]d %% 3, 'a', 'b,c', '''d'), st = %[2]d %% 8, l = 'ü%[2]d' WHERE id %% 7 = %[1]d " +
		"%% 7",
	"UPDATE words SET j = json_set(j, '$.a', %[1]d, '$.more', '%[2]d \"\\\\\\n') WHERE id < %[2]d",
	"UPDATE words SET j = json_remove(j, '$.a'), j = json_array_insert(j, '$.list[1]', -%[1]d) WHERE id %% 9 = 1",
	"UPDATE words SET j = json_replace(j, '$.list[0]', 1.5e300, '$.list[1]', CAST(%[1]d AS CHAR)) WHERE id %% 5 = 2",
	"REPLACE INTO words (id, e, j) VALUES (%[1]d, NULL, '[null, true, 1e0, 18446744073709551615, {\"é\": []}, \"<&>\"]')",
	"INSERT IGNORE INTO pair VALUES (%[2]d, 'ärger', '2026-03-01', %[1]d), (%[2]d, 'Key''\\\\', '2026-01-02', NULL)",
	"UPDATE pair SET k = upper(k), v = %[1]d WHERE a BETWEEN %[2]d AND %[2]d + 9",
	"DELETE FROM pair WHERE a %% 30 = %[2]d %% 30",
	"UPDATE pair SET a = a + 100000 WHERE a < 9", "UPDATE raw SET u = u + 1 ORDER BY u DESC",
	"UPDATE raw SET k = unhex(left(md5(k), 8)) WHERE u %% 40 = 1", "INSERT IGNORE INTO raw VALUES (x'61', -%[1]d, NULL)",
	"DELETE FROM raw WHERE k < x'00000010' OR u < 0", "DELETE FROM parent WHERE id BETWEEN %[2]d AND %[2]d + 20",
	"UPDATE parent SET id = id + 10000 WHERE id BETWEEN %[2]d AND %[2]d + 9",
	"UPDATE child SET id = id + 50000 WHERE id < 90",
	"INSERT IGNORE INTO parent VALUES (%[2]d, 1); INSERT IGNORE INTO child SELECT id * 10, id FROM parent",
	"SET foreign_key_checks = 0; UPDATE grandchild SET c = NULL WHERE c IN (SELECT id FROM child WHERE p BETWEEN %[2]d " +
		"AND " +
		"%[2]d + 5); DELETE FROM child WHERE p BETWEEN %[2]d AND %[2]d + 5; DELETE FROM parent WHERE id BETWEEN %[2]d AND " +
		"%[2]d + 5",
	"INSERT INTO grandchild (c) SELECT id FROM child LIMIT 50; DELETE FROM grandchild WHERE c IS NULL",
	"BEGIN; UPDATE account SET balance = balance - %[2]d WHERE id = 1; UPDATE account SET balance = balance + %[2]d " +
		"WHERE " +
		"id = 2; COMMIT",
	"BEGIN; UPDATE account SET balance = 5; DELETE FROM parent; ROLLBACK",
	"BEGIN; UPDATE account SET balance = balance + 1; SAVEPOINT a; DELETE FROM raw; ROLLBACK TO a; DELETE FROM pair " +
		"WHERE a < " +
		"%[2]d; COMMIT",
	"INSERT INTO loose VALUES (%[1]d)", "UPDATE by_float SET v = 1; INSERT IGNORE INTO by_float VALUES (%[1]d / 7, 2)",
}

// loggedStructure are changes of structure, among which the chain goes on.
var loggedStructure = []string{
	"ALTER TABLE pair ADD COLUMN c%[1]d int DEFAULT %[2]d", "TRUNCATE raw", "CREATE INDEX i%[1]d ON kinds (t)",
	"CREATE TABLE made%[2]d (id int PRIMARY KEY, v int) SELECT id, v FROM parent",
	"CREATE VIEW seen%[1]d AS SELECT v FROM parent",
	"UPDATE parent SET v = %[1]d; ALTER TABLE child DROP FOREIGN KEY child_ibfk_1; DELETE FROM parent WHERE id < %[2]d",
	"SET binlog_format = STATEMENT; UPDATE parent SET v = %[2]d", "DROP TABLE IF EXISTS words",
	"RENAME TABLE raw TO raw2, pair TO raw, raw2 TO pair", "XA START 'x'; UPDATE parent SET v = %[1]d; XA END 'x'; XA " +
		"PREPARE " +
		"'x'; XA COMMIT 'x'",
}

// longLists is a setting for the tests' own reading.
const longLists = "--group-concat-max-len=1000000"

func TestLogOfMariaDB(t *testing.T) {
	needMariaDB(t)
	for name, settings := range map[string][]string{
		"whole rows": {"--binlog-format=ROW"},
		"few columns": {"--binlog-format=ROW", "--binlog-row-image=MINIMAL", "--log-bin-compress=1",
			"--binlog-row-metadata=FULL"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			folder := ownFolder(t)
			if name == "few columns" && os.Getenv(testserver.MariaVariable) == "" { // the log lies encrypted
				keys := filepath.Join(folder, "keys")
				require.NoError(t, os.WriteFile(keys, []byte("1;"+strings.Repeat("5a", 32)+"\n"), 0o644))
				settings = append(settings, "--plugin-load-add=file_key_management", "--file-key-management-filename="+keys,
					"--encrypt-binlog=ON")
			}
			m, err := testserver.StartMariaDB(folder, append(settings, longLists)...)
			require.NoError(t, err)
			defer m.Close()
			if strings.Contains(strings.Join(settings, " "), "encrypt") {
				require.Contains(t, queryMaria(t, m, "", "SHOW VARIABLES LIKE 'encrypt_binlog'"), "ON")
			}
			chainsFromLog(t, m)
		})
	}
}

func TestLogOfMySQL(t *testing.T) {
	if noMySQL != nil {
		t.Skip("no MySQL: ", noMySQL)
	}
	for name, settings := range map[string][]string{
		"whole rows": {"--gtid-mode=ON", "--enforce-gtid-consistency=ON"},
		"few columns": {"--binlog-row-image=NOBLOB", "--binlog-row-value-options=PARTIAL_JSON",
			"--binlog-transaction-compression=ON"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			m, err := testserver.StartMySQL(ownFolder(t), append(settings, longLists)...)
			require.NoError(t, err)
			defer m.Close()
			chainsFromLog(t, m)
		})
	}
}

// chainsFromLog takes a chain of which the log tells, and one among changes of structure.
func chainsFromLog(t *testing.T, m *testserver.MySQL) {
	queryMaria(t, m, "", "CREATE DATABASE logged CHARACTER SET utf8mb4")
	for _, sql := range loggedTables {
		queryMaria(t, m, "logged", sql)
	}
	client := strings.Join(m.Client(), " ") + " "
	s := subject{
		from: m.URL("logged"), to: m.URL(""), changes: loggedChanges, half: true,
		change: func(sql string) error {
			_, err := m.Ask(context.Background(), "logged", "SET sql_mode = 'ALLOW_INVALID_DATES'; "+sql)
			return err
		},
		named: func(n string) string { return "logged_" + n },
		reads: func(name string) []string {
			if name == "" {
				name = "logged"
			}
			return factsMaria(t, m, name)
		},
		byHand: func(path, name string) {
			byHand(t, path, strings.NewReplacer("logged_restored", name, "client='mariadb ", "client='"+client,
				"client='mysql ", "client='"+client))
		},
	}
	dir := t.TempDir()
	chainsOf(t, dir, rand.New(rand.NewPCG(seedOf(t), 41)), s)
	if strings.Contains(t.Name(), "few") {
		fewColumnsTold(t, dir, strings.Contains(t.Name(), "MariaDB"))
		return
	}
	logTold(t, dir, []string{"loose", "by_float", "noted"}, "pair", "raw", "account")
	s.changes = append(s.changes, loggedStructure...)
	named := s.named
	s.named = func(n string) string { return named("again_" + n) }
	s.sealed = true
	chainsOf(t, t.TempDir(), rand.New(rand.NewPCG(seedOf(t), 42)), s)
}

// fewColumnsTold: where the log has not all columns of its rows, increments are from it all the same; but on MariaDB, whose
// log then tells a REPLACE as an update of some columns, tables in which rows were updated are compared.
func fewColumnsTold(t *testing.T, dir string, replaces bool) {
	t.Helper()
	told := 0
	for _, m := range manifestsIn(t, filepath.Join(dir, "keep")) {
		if m.Kind != manifest.Incremental {
			continue
		}
		require.Equal(t, manifest.ByLog, m.Payload.SQL.Found, m.Payload.SQL.NoLog)
		for _, table := range m.Payload.SQL.Tables {
			if !slices.Contains([]string{"loose", "by_float", "noted"}, table.Name) && table.NoLog != "" {
				require.True(t, replaces, table.NoLog)
				require.Regexp(t, "has not all columns of its rows|it changes together with", table.NoLog)
			}
			if table.Change == manifest.Logged {
				told++
			}
		}
	}
	require.NotZero(t, told)
}

// manifestsIn reads the manifests of all dumps below a folder.
func manifestsIn(t *testing.T, folder string) (list []manifest.Manifest) {
	paths, err := filepath.Glob(filepath.Join(folder, "*", "*", "*", manifest.Name))
	require.NoError(t, err)
	for _, path := range paths {
		var m manifest.Manifest
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(data, &m))
		list = append(list, m)
	}
	require.NotEmpty(t, list)
	return list
}

// seedOf is what random tests begin with: 1, or what GRAINKEEP_SEED says.
func seedOf(t *testing.T) uint64 {
	text := os.Getenv("GRAINKEEP_SEED")
	if text == "" {
		return 1
	}
	n, err := strconv.ParseUint(text, 10, 64)
	require.NoError(t, err)
	return n
}
