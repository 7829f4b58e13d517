package test

import (
	"context"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// mariaLarge are tables of many ranges, with keys of every kind.
var mariaLarge = []string{
	"CREATE TABLE by_number (id bigint PRIMARY KEY, a longtext, u int UNIQUE, twice int AS (u * 2) STORED)",
	"CREATE TABLE by_text (k varchar(60), n decimal(12,4), v text, PRIMARY KEY (k, n)) COLLATE utf8mb4_general_ci",
	"CREATE TABLE by_many (d datetime(3), b varbinary(20), c char(9) CHARACTER SET latin1, t time, v text, " +
		"PRIMARY KEY (d, b, c, t))",
	"CREATE TABLE by_word (k varchar(30) CHARACTER SET ascii, y year, v text, PRIMARY KEY (y, k))",
	"CREATE TABLE by_enum (e enum('a', 'b', '') PRIMARY KEY, v int)",
	"CREATE TABLE no_key (a text, b int)",
	"CREATE TABLE harbour (id int PRIMARY KEY)",
	"CREATE TABLE berth (id int PRIMARY KEY, p int, FOREIGN KEY (p) REFERENCES harbour (id) ON DELETE CASCADE)",
	"CREATE TABLE counting (i int PRIMARY KEY)",
	"INSERT INTO counting WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 900) SELECT i FROM c",
	"INSERT INTO counting SELECT i + 900 FROM counting",
	"INSERT INTO by_number(id, a, u) SELECT i * 6, repeat('q', i % 90), -i FROM counting",
	"INSERT INTO by_text SELECT concat(elt(i % 3 + 1, 'Key', 'kEY', 'ké\\\\'''), char(i % 50 + 60), i), i / 3, " +
		"repeat('v', i % 70) FROM counting",
	"INSERT INTO by_many SELECT '2026-01-01' + INTERVAL i % 9 DAY, unhex(left(sha2(i, 256), 32)), concat('é', i), " +
		"sec_to_time(-i), i FROM counting",
	"INSERT INTO by_enum VALUES ('a', 1), ('', 2)",
	"INSERT INTO by_word SELECT concat('w', i), 2000 + i % 30, repeat('z', i % 80) FROM counting",
	"INSERT INTO no_key SELECT a, u FROM by_number",
	"INSERT INTO harbour SELECT i FROM counting", "INSERT INTO berth SELECT i * 2, i FROM counting",
	"UPDATE by_number SET a = repeat('long', 1300000) WHERE id IN (600, 606, 6000)",
}

// mariaChanges change a database in some way; %d are random numbers.
var mariaChanges = []string{
	"UPDATE by_number SET a = concat(left(a, 100), 'x') WHERE id BETWEEN %[1]d AND %[1]d + 20",
	"UPDATE by_number SET a = repeat('%[1]d', 900000) WHERE id > %[1]d LIMIT 1",
	"UPDATE by_number SET id = -id WHERE id BETWEEN %[1]d AND %[1]d + 9",
	"UPDATE by_number SET u = u + 1 ORDER BY u DESC", // unique values change places
	"DELETE FROM by_number WHERE id BETWEEN %[1]d AND %[1]d + %[2]d",
	"INSERT INTO by_number(id, a, u) VALUES (%[1]d, 'new', %[2]d)",
	"UPDATE by_text SET k = upper(k) WHERE n BETWEEN %[2]d AND %[2]d + 5", // equal to its collation, and other bytes
	"DELETE FROM by_text WHERE n < %[2]d AND k > 'k'",
	"INSERT IGNORE INTO by_text VALUES ('kez', %[2]d, NULL), ('Kez\\t\\n'' ', -%[2]d, 'x')",
	"UPDATE by_many SET v = concat(v, '%[1]d') WHERE ord(b) = %[2]d %% 256",
	"DELETE FROM by_many WHERE d = '2026-01-03'", "UPDATE by_many SET t = subtime(t, '1:0:0') WHERE d < '2026-01-05'",
	"UPDATE by_word SET v = '%[2]d' WHERE y = 2001 + %[1]d % 30 AND k > 'w5'", "DELETE FROM by_word WHERE k = 'w%[2]d'",
	"INSERT INTO by_enum VALUES ('b', %[1]d)", "UPDATE by_enum SET v = %[1]d",
	"UPDATE no_key SET a = '%[1]d' WHERE b = -%[2]d", "DELETE FROM no_key WHERE a = ''", "TRUNCATE no_key",
	"DELETE FROM harbour WHERE id BETWEEN %[2]d AND %[2]d + 50", "UPDATE berth SET p = NULL WHERE id < %[2]d",
	"ALTER TABLE by_text ADD COLUMN c%[1]d int DEFAULT %[2]d", "ALTER TABLE by_many MODIFY v varchar(300)",
	"CREATE TABLE t%[1]d (id int PRIMARY KEY) AS SELECT id, u FROM by_number",
	"CREATE INDEX i%[1]d ON by_number (id, u)", "CREATE VIEW v%[1]d AS SELECT a FROM by_number", "DROP TABLE by_enum",
	"CREATE TRIGGER r%[1]d BEFORE DELETE ON by_text FOR EACH ROW DELETE FROM no_key", "TRUNCATE by_many",
	"ALTER TABLE by_number ENGINE = InnoDB", "SELECT 1",
}

func TestRandomChainsOfMariaDB(t *testing.T) {
	t.Parallel()
	chainsOfMaria(t, needMariaDB(t), "whole-mariadb.sql")
}

func TestRandomChainsOfMySQL(t *testing.T) {
	t.Parallel()
	if noMySQL != nil {
		t.Skip("no MySQL: ", noMySQL)
	}
	chainsOfMaria(t, mysql, "")
}

// chainsOfMaria takes chains of a database to which everything happens.
func chainsOfMaria(t *testing.T, m *testserver.MySQL, more string) {
	freshMaria(t, m, "chained", "chained_restored")
	if more != "" {
		text, err := os.ReadFile("testdata/" + more)
		require.NoError(t, err)
		script(t, m, "chained", string(text))
	}
	for _, sql := range mariaLarge {
		queryMaria(t, m, "chained", sql)
	}
	client := strings.Join(m.Client(), " ") + " "
	chainsOf(t, t.TempDir(), rand.New(rand.NewPCG(1, 714)), subject{
		from: m.URL("chained"), to: m.URL(""), half: !m.Maria,
		change: func(sql string) error {
			_, err := m.Ask(context.Background(), "chained", sql)
			return err
		},
		changes: mariaChanges,
		named: func(n string) string {
			t.Cleanup(func() {
				queryMaria(t, m, "", "SET foreign_key_checks = 0; DROP DATABASE IF EXISTS chained_"+n)
			})
			return "chained_" + n
		},
		reads: func(name string) []string {
			if name == "" {
				name = "chained"
			}
			return factsMaria(t, m, name)
		},
		byHand: func(path, name string) {
			byHand(t, path, strings.NewReplacer("chained_restored", name, "client='mariadb ", "client='"+client,
				"client='mysql ", "client='"+client))
		},
	})
}
