package test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// postgresLarge are tables of many ranges, with keys of every kind, beside those of odd.sql.
const postgresLarge = `
CREATE TYPE stage AS ENUM ('low', 'high');
CREATE TABLE by_number (id bigint PRIMARY KEY, a text, u int UNIQUE DEFERRABLE,
	twice int GENERATED ALWAYS AS (u * 2) STORED);
CREATE TABLE by_text (k text, n numeric, v text, PRIMARY KEY (k, n));
CREATE TABLE by_many (e stage, d date, b bytea, f float8, v text, PRIMARY KEY (e, d, b, f));
CREATE TABLE by_unique (v text, k uuid NOT NULL UNIQUE, big text);
CREATE TABLE no_key (a text, b int);
CREATE TABLE parts (id int PRIMARY KEY, v text) PARTITION BY RANGE (id);
CREATE TABLE parts_low PARTITION OF parts FOR VALUES FROM (MINVALUE) TO (6000);
CREATE TABLE parts_high PARTITION OF parts FOR VALUES FROM (6000) TO (MAXVALUE);
INSERT INTO by_number SELECT i * 3, repeat('q', i % 90), -i FROM generate_series(1, 4000) i;
INSERT INTO by_text SELECT (CASE i % 3 WHEN 0 THEN 'Key' WHEN 1 THEN 'kEY' ELSE E'k\\''' END) || chr(i % 50 + 1) || i,
	i / 3.0, repeat('v', i % 70) FROM generate_series(1, 4000) i;
INSERT INTO by_many SELECT (ARRAY['low', 'high']::stage[])[i % 2 + 1], '2026-01-01'::date + i % 9, decode(md5(i::text),
	'hex'), CASE WHEN i % 500 = 0 THEN 'NaN'::float8 ELSE i / 7.0 END, i FROM generate_series(1, 3000) i;
INSERT INTO by_unique SELECT repeat('u', i % 60), md5(i::text)::uuid, CASE WHEN i = 7 THEN repeat('long', 500000) END
	FROM generate_series(1, 3000) i;
INSERT INTO no_key SELECT a, u FROM by_number LIMIT 1500;
INSERT INTO parts SELECT id, a FROM by_number;
`

// postgresChanges change a database in some way; %d are random numbers.
var postgresChanges = []string{
	"UPDATE by_number SET a = a || 'x' WHERE id BETWEEN %[1]d AND %[1]d + 20",
	"UPDATE by_number SET id = -id WHERE id BETWEEN %[1]d AND %[1]d + 9",
	"UPDATE by_number SET u = u + 1", // unique values change places
	"DELETE FROM by_number WHERE id BETWEEN %[1]d AND %[1]d + %[2]d",
	"INSERT INTO by_number VALUES (%[1]d, 'new', %[2]d)",
	"UPDATE by_text SET k = upper(k) WHERE n BETWEEN %[2]d AND %[2]d + 5",
	"DELETE FROM by_text WHERE n < %[2]d AND k > 'k'",
	`INSERT INTO by_text VALUES ('kez', %[2]d, NULL), (E'Kez\t\x0b\x01''', -%[2]d, 'x') ON CONFLICT DO NOTHING`,
	"UPDATE by_many SET f = f + 1 WHERE e = 'high' AND d = '2026-01-03'",
	"UPDATE by_many SET v = v || '%[1]d' WHERE get_byte(b, 0) = %[2]d %% 256",
	"DELETE FROM by_many WHERE f = 'NaN'",
	"ALTER TYPE stage ADD VALUE 'stage%[1]d' BEFORE 'high'", "ALTER TYPE stage RENAME VALUE 'low' TO 'lower'",
	"UPDATE by_unique SET v = NULL WHERE k > '80000000-0000-0000-0000-000000000000' AND v = repeat('u', %[2]d %% 60)",
	"UPDATE by_unique SET big = repeat('%[1]d', 400000) WHERE k = md5('9')::uuid",
	"DELETE FROM by_unique WHERE v = repeat('u', %[2]d %% 60)",
	"UPDATE no_key SET a = '%[1]d' WHERE b = -%[2]d", "DELETE FROM no_key WHERE a = ''", "TRUNCATE no_key",
	"UPDATE parts SET id = id + 20000 WHERE id BETWEEN %[1]d AND %[1]d + 30", // some move to the other partition
	"ALTER TABLE by_text ADD COLUMN c%[1]d int DEFAULT %[2]d", "ALTER TABLE by_many ALTER v TYPE varchar(30)",
	"CREATE TABLE t%[1]d AS SELECT id, u FROM by_number; ALTER TABLE t%[1]d ADD PRIMARY KEY (id)",
	"CREATE INDEX ON by_number (a, id)", "CREATE VIEW v%[1]d AS SELECT a FROM by_number",
	"CREATE SEQUENCE s%[1]d; SELECT nextval('s%[1]d')", "TRUNCATE by_unique", "VACUUM FULL by_number", "ANALYZE",
	"SELECT lo_from_bytea(0, 'large object %[1]d')", "ALTER TABLE by_number DROP CONSTRAINT by_number_pkey",
	"BEGIN; DELETE FROM by_text; INSERT INTO no_key VALUES ('%[1]d'); ROLLBACK", "SELECT 1",
}

// TestRandomChainsOfPostgres takes chains of a database to which everything happens.
func TestRandomChainsOfPostgres(t *testing.T) {
	t.Parallel()
	s := needServer(t)
	oddDatabase(t, s)
	query(t, s, "postgres", "CREATE DATABASE chained TEMPLATE odd")
	t.Cleanup(func() { dropDatabases(t, s, "chained") })
	query(t, s, "chained", postgresLarge)
	dir := t.TempDir()
	chainsOf(t, dir, rand.New(rand.NewPCG(1, 714)), subject{
		from: s.URL("chained"), to: s.URL(""),
		change: func(sql string) error {
			c, err := s.Connect(context.Background(), "chained")
			require.NoError(t, err)
			defer c.Close(context.Background())
			_, err = c.PgConn().Exec(context.Background(), "SET search_path = public; "+sql).ReadAll()
			return err
		},
		changes: postgresChanges,
		named: func(n string) string {
			t.Cleanup(func() { dropDatabases(t, s, "chained_"+n) })
			return "chained_" + n
		},
		reads: func(name string) []string {
			if name == "" {
				name = "chained"
			}
			return facts(t, s, name)
		},
		byHand: func(path, name string) {
			byHand(t, path, strings.NewReplacer("chained_restored", name), "PGHOST="+s.Folder, fmt.Sprint("PGPORT=", s.Port),
				"PGUSER="+testserver.Admin)
		},
	})
}

// TestSpansOfALargeTable: a table that is compared in spans side by side comes back from each dump of its chain, also
// where the rows at which the spans meet come and go.
func TestSpansOfALargeTable(t *testing.T) {
	s := needServer(t)
	query(t, s, "postgres", "CREATE DATABASE spans")
	defer dropDatabases(t, s, "spans", "spans_back")
	query(t, s, "spans", "CREATE TABLE big AS SELECT i * 3 AS id, repeat(md5(i::text), 8) AS v FROM "+
		"generate_series(1, 130000) i; ALTER TABLE big ADD PRIMARY KEY (id)")
	dir := t.TempDir()
	sum := func(database string) string {
		return query(t, s, database, "SELECT count(*), sum(hashtextextended(b::text, 0)) FROM big b")
	}
	for i, change := range []string{"SELECT 1", "SELECT 1", "DELETE FROM big WHERE id % 1000 = 0",
		"DELETE FROM big WHERE id BETWEEN 60000 AND 330000", "INSERT INTO big SELECT i, i FROM " +
			"generate_series(100001, 300001, 3) i", "UPDATE big SET id = id + 1 WHERE id > 150000", "DELETE FROM big"} {
		query(t, s, "spans", change)
		path := lines(run(t, dir, -1, "dump", "--from", s.URL("spans"), "--to", "keep", "--kind", "incremental").stdout)[0]
		if i == 3 {
			require.FileExists(t, filepath.Join(path, "40-changes", "public.big", "gone-0002.sql.zst"), "there are two spans")
		}
		dropDatabases(t, s, "spans_back")
		if i == 3 { // rows are not removed from tables that have triggers, and references to them
			query(t, s, "postgres", "CREATE DATABASE spans_back")
			query(t, s, "spans_back", "CREATE TABLE big (id int PRIMARY KEY, v text)")
			o := run(t, dir, 2, "restore", path, "--to", s.URL(""), "--into", "spans_back", "--part", "rows")
			require.Contains(t, o.stderr, "the rows of adhoc/spans lie in dumps that build on each other")
			dropDatabases(t, s, "spans_back")
		}
		run(t, dir, 0, "restore", path, "--to", s.URL(""), "--as", "spans_back")
		require.Equal(t, sum("spans"), sum("spans_back"), change)
	}
	run(t, dir, 0, "drill", "adhoc/spans", "--from", "keep", "--to", s.URL(""))
}
