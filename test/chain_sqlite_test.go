package test

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
)

// sqliteLarge are tables of many ranges, with keys of every kind, beside those of nasty.
const sqliteLarge = `
CREATE TABLE by_number (id INTEGER PRIMARY KEY, a TEXT, u INT UNIQUE);
CREATE TABLE by_rowid (a, b);
CREATE TABLE by_text (k TEXT COLLATE NOCASE, n REAL, v, PRIMARY KEY (k DESC, n)) WITHOUT ROWID;
CREATE TABLE by_any (k PRIMARY KEY, v) WITHOUT ROWID;
CREATE TABLE no_key (rowid TEXT, _rowid_ TEXT, oid TEXT);
WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 4000)
	INSERT INTO by_number SELECT i * 3, printf('%.*c', i % 90, 'q'), -i FROM c;
INSERT INTO by_rowid(rowid, a, b) SELECT id * 7 - 9000, a, u FROM by_number;
INSERT INTO by_text SELECT iif(u % 2, 'Key', 'kEY') || char(u % 50 + 100) || char(10) || char(0x1F6A2) || -u, u / 3.0, a
	FROM by_number;
INSERT INTO by_any SELECT CASE u % 4 WHEN 0 THEN u WHEN -1 THEN u / 7.0 WHEN -2 THEN 'k' || u || char(0) ELSE
	CAST(u || '' AS BLOB) END, a FROM by_number;
INSERT INTO no_key SELECT a, u, id FROM by_number WHERE u > -2000;
`

// sqliteChanges change a file in some way; %d are random numbers.
var sqliteChanges = []string{
	"UPDATE by_number SET a = a || 'x' WHERE id BETWEEN %[1]d AND %[1]d + 20",
	"UPDATE by_number SET id = -id WHERE id BETWEEN %[1]d AND %[1]d + 9",
	"UPDATE by_number SET u = u + 100000000 + %[2]d * 20000; UPDATE by_number SET u = u - 100000000 WHERE u %% 3",
	"UPDATE by_number SET u = NULL; UPDATE by_number SET u = id * 31 %% 100003", // unique values change places
	"DELETE FROM by_number WHERE id BETWEEN %[1]d AND %[1]d + %[2]d",
	"INSERT OR REPLACE INTO by_number(id, a) VALUES (%[1]d, 'new'), (%[2]d, randomblob(100))",
	"INSERT INTO by_rowid SELECT a, b FROM by_rowid LIMIT %[2]d",
	"DELETE FROM by_rowid WHERE rowid %% 1000 = %[2]d %% 1000",
	"DELETE FROM by_rowid",
	"UPDATE by_text SET k = upper(k) WHERE n BETWEEN %[2]d AND %[2]d + 5", // equal to its collation, and other bytes
	"DELETE FROM by_text WHERE n < -%[2]d",
	"INSERT OR IGNORE INTO by_text VALUES ('kez', %[2]d, NULL), ('Kez', -%[2]d, 1e400)",
	"UPDATE by_any SET v = %[1]d WHERE typeof(k) = 'blob' AND rowid_of(k) %% 50 = 0",
	"INSERT OR REPLACE INTO by_any VALUES (%[1]d, 1), (%[1]d + 0.5, 2), (CAST(%[1]d AS TEXT), 3), " +
		"(CAST(X'ff' || %[1]d AS TEXT), 4)",
	"DELETE FROM by_any WHERE k > '' AND k < 'k-%[2]d'",
	"UPDATE no_key SET oid = %[1]d WHERE _rowid_ = '-%[2]d'",
	"DELETE FROM no_key WHERE rowid = ''",
	"ALTER TABLE by_rowid ADD COLUMN c%[1]d DEFAULT %[2]d",
	"CREATE TABLE t%[1]d (a PRIMARY KEY, b) WITHOUT ROWID; INSERT INTO t%[1]d SELECT id, u FROM by_number",
	"CREATE INDEX i%[1]d ON by_number (a, id)",
	"CREATE VIEW v%[1]d AS SELECT a FROM by_number",
	"CREATE TRIGGER r%[1]d AFTER DELETE ON by_number BEGIN DELETE FROM by_rowid; SELECT raise(IGNORE); END",
	"DROP TABLE IF EXISTS commented", "DROP VIEW IF EXISTS w2",
	"INSERT INTO search VALUES ('another tern %[1]d', 'a skerry %[2]d'); DELETE FROM search WHERE rowid %% 3 = 0",
	"INSERT OR REPLACE INTO area VALUES (%[2]d, 1, %[1]d, 'quay')",
	"UPDATE any_value SET v = randomblob(1500000) WHERE rowid = 3",
	"UPDATE any_value SET v = %[1]d WHERE rowid = 5",
	"INSERT INTO counted(v) VALUES ('%[1]d'); DELETE FROM counted WHERE v = '%[1]d'",
	"PRAGMA user_version = %[1]d", "ANALYZE", "VACUUM", "SELECT 1",
}

// TestRandomChainsOfSQLite takes chains of files to which everything happens.
func TestRandomChainsOfSQLite(t *testing.T) {
	t.Parallel()
	for seed, encoding := range []string{"UTF-8", "UTF-16le"} {
		t.Run(fmt.Sprint(seed, " ", encoding), func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			source := filepath.Join(dir, "app.db")
			makeFile(t, source, strings.Replace(nasty, "ENCODING", encoding, 1)+sqliteLarge)
			chainsOf(t, dir, rand.New(rand.NewPCG(uint64(seed), 714)), subject{
				from: source, to: dir, half: seed > 0,
				change: func(sql string) error {
					db := openFile(t, source)
					defer db.Close()
					_, err := db.Exec(strings.ReplaceAll(sql, "rowid_of(k)", "unicode(k)"))
					return err
				},
				changes: sqliteChanges,
				named:   func(n string) string { return n + ".db" },
				reads: func(name string) []string {
					if name == "" {
						name = "app.db"
					}
					return contents(t, filepath.Join(dir, name))
				},
				byHand: func(path, name string) {
					byHand(t, path, strings.NewReplacer("restored-app.db", name), "HOME="+dir)
				},
			})
		})
	}
}
