package test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// loggedPostgres are tables of many types of which the log tells, and some of which it does not.
const loggedPostgres = `
CREATE TYPE stage AS ENUM ('low', 'high');
CREATE DOMAIN knots AS numeric(6, 2) CHECK (VALUE >= 0);
CREATE TYPE berth AS (name text, depth numeric);
CREATE TABLE kinds (id bigint PRIMARY KEY, b bool, s smallint, r real, d float8, n numeric, t text, c char(9), v varchar(300),
	y bytea, da date, ti time, tz timetz, ts timestamp, tt timestamptz, iv interval, u uuid, j json, jb jsonb, x xml, i inet,
	m macaddr, ba bit(9), vb varbit, a int[], ta text[], e stage, k knots, bt berth, rg int4range, p point, ts2 tsvector,
	mo money, doubled int GENERATED ALWAYS AS (s * 2) STORED);
CREATE TABLE counted (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, v text);
CREATE TABLE pair (a int, k text, d date, v int, PRIMARY KEY (a, k, d));
CREATE TABLE swapped (id int PRIMARY KEY, u int UNIQUE DEFERRABLE INITIALLY DEFERRED, v text);
CREATE TABLE parent (id int PRIMARY KEY, v int);
CREATE TABLE child (id serial PRIMARY KEY, p int REFERENCES parent ON DELETE CASCADE ON UPDATE CASCADE);
CREATE TABLE whole (id int PRIMARY KEY, v text, big text);
ALTER TABLE whole REPLICA IDENTITY FULL;
CREATE TABLE parts (id int PRIMARY KEY, v text) PARTITION BY RANGE (id);
CREATE TABLE parts_low PARTITION OF parts FOR VALUES FROM (MINVALUE) TO (600);
CREATE TABLE parts_high PARTITION OF parts FOR VALUES FROM (600) TO (MAXVALUE);
CREATE TABLE "Odd ""name" ("a ""b" int PRIMARY KEY, "select" text);
CREATE TABLE elder (id int PRIMARY KEY, v text);
CREATE TABLE younger (w int) INHERITS (elder);
CREATE TABLE no_key (a text, b int);
CREATE TABLE late_key (id int PRIMARY KEY DEFERRABLE, v int);
CREATE UNLOGGED TABLE fleeting (id int PRIMARY KEY, v int);
CREATE FUNCTION note() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN INSERT INTO no_key VALUES (TG_OP, NEW.v); RETURN NEW; END';
CREATE TRIGGER notes AFTER UPDATE ON parent FOR EACH ROW EXECUTE FUNCTION note();
INSERT INTO parent SELECT i, i FROM generate_series(1, 900) i;
INSERT INTO child (p) SELECT i FROM generate_series(1, 900) i;
INSERT INTO kinds (id, t, s) SELECT i, repeat('q', i % 90), i FROM generate_series(1, 900) i;
INSERT INTO counted (v) SELECT i FROM generate_series(1, 300) i;
INSERT INTO pair SELECT i, 'Key', '2026-01-01', i FROM generate_series(1, 900) i;
INSERT INTO swapped SELECT i, i, i FROM generate_series(1, 300) i;
INSERT INTO whole SELECT i, 'w' || i, CASE WHEN i % 100 = 0 THEN repeat(md5(i::text), 9000) END FROM generate_series(1, 300) i;
INSERT INTO parts SELECT i, 'p' FROM generate_series(1, 900) i;
INSERT INTO "Odd ""name" VALUES (1, E'a\\b''c\n\t\x01');
`

// loggedPostgresChanges are what happens to them; %d are random numbers.
var loggedPostgresChanges = []string{
	`INSERT INTO kinds VALUES (%[1]d + 1000, true, -32768, 1.1::real, 'NaN', 1e-30, E'\\ \n\r\t\x0b\x08\x0c''"é', 'ab ', '',
		'\x00ff5c', 'infinity', '24:00', '12:00+05:30', '0044-03-15 12:00 BC', 'epoch', '1 year -3 days 04:05:06.7', md5('%[1]d')::uuid,
		'{"a": [1, 2.50, "\u00e9"]}', '{"b": null, "a": 1e400}', '<a>&lt;</a>', '10.0.0.1/8', '08:00:2b:01:02:03', b'101010101', b'',
		'{1,NULL,3}',
		'{"a,b","c\\\"d",NULL,""}', 'high', 1.5, '("x,y",2.5)', '[1,5)', '(1.5,2)', 'a:1 b:2', '12.50') ON CONFLICT DO NOTHING`,
	"INSERT INTO kinds (id, n, t, y, tt, r, d, jb) SELECT %[1]d * 100 + 20000 + i, random() * 1e12, " +
		"md5(random()::text), decode(md5(random()::text), 'hex'), " +
		"now() - random() * interval '9 years', random(), random() * 1e300, to_jsonb(i) FROM generate_series(1, 60) i ON " +
		"CONFLICT DO NOTHING",
	"UPDATE kinds SET t = 'é' || t, n = n / 3, s = 7 WHERE id BETWEEN %[1]d AND %[1]d + 30",
	"UPDATE kinds SET y = NULL, v = repeat('%[2]d', 50) WHERE id < %[2]d", "UPDATE kinds SET id = -id WHERE id %% 50 = 3",
	"UPDATE kinds SET t = (SELECT string_agg(md5(i::text), '') FROM generate_series(1, 9000) i) WHERE id IN (SELECT id " +
		"FROM kinds WHERE id > %[1]d LIMIT 2)",
	"UPDATE kinds SET s = 1 WHERE length(t) > 9000", "DELETE FROM kinds WHERE id BETWEEN %[1]d AND %[1]d + %[2]d",
	"INSERT INTO counted (v) VALUES ('n%[1]d'); UPDATE counted SET v = NULL WHERE id = %[2]d; DELETE FROM counted " +
		"WHERE id = %[2]d + 1",
	"UPDATE pair SET k = upper(k), v = %[1]d WHERE a BETWEEN %[2]d AND %[2]d + 9; UPDATE pair SET a = a + 100000 WHERE " +
		"a < 9",
	"INSERT INTO pair VALUES (%[2]d, 'ärger''\\', '2026-03-01', NULL) ON CONFLICT DO NOTHING",
	"DELETE FROM pair WHERE a %% 30 = %[2]d %% 30",
	"BEGIN; UPDATE swapped SET u = u + 1; UPDATE swapped SET v = NULL WHERE id = %[2]d; COMMIT",
	"UPDATE swapped SET u = 1001 - u, id = id + 1000 WHERE u < 50",
	"DELETE FROM parent WHERE id BETWEEN %[2]d AND %[2]d + 20", "UPDATE parent SET id = id + 10000, v = v + 1 WHERE id " +
		"BETWEEN %[2]d AND %[2]d + 9",
	"INSERT INTO parent VALUES (%[2]d, 1) ON CONFLICT DO NOTHING; INSERT INTO child (p) SELECT id FROM parent LIMIT 30",
	"SET session_replication_role = replica; DELETE FROM child WHERE p = %[2]d; DELETE FROM parent WHERE id = %[2]d",
	"UPDATE whole SET v = v || '!' WHERE id %% 9 = %[2]d %% 9", "DELETE FROM whole WHERE id %% 40 = %[2]d %% 40; " +
		"UPDATE whole SET id = -id WHERE id < 5",
	"INSERT INTO whole SELECT %[1]d + 1000 + i, E'\\n' || i FROM generate_series(1, 40) i ON CONFLICT DO NOTHING",
	"UPDATE parts SET id = id + 1000 WHERE id BETWEEN %[2]d - 30 AND %[2]d", "DELETE FROM parts WHERE id < %[2]d / 9",
	`UPDATE "Odd ""name" SET "select" = '%[2]d;' || chr(10) || '-- rows: 9'; ` +
		`INSERT INTO "Odd ""name" VALUES (%[1]d, NULL) ON CONFLICT DO NOTHING`,
	"INSERT INTO elder VALUES (%[1]d, 'x') ON CONFLICT DO NOTHING; INSERT INTO younger VALUES (%[1]d, 'y', %[2]d); " +
		"UPDATE elder SET v = v || '%[2]d'",
	"INSERT INTO no_key VALUES ('%[1]d', 1); UPDATE no_key SET b = %[2]d WHERE b < %[2]d",
	"INSERT INTO late_key VALUES (%[1]d, 1) ON CONFLICT (id) DO NOTHING",
	"INSERT INTO late_key SELECT max(id) + 1, 2 FROM late_key",
	"INSERT INTO fleeting VALUES (%[1]d, 1) ON CONFLICT DO NOTHING; UPDATE fleeting SET v = %[2]d",
	"BEGIN; DELETE FROM pair; SAVEPOINT a; DELETE FROM whole; ROLLBACK TO a; INSERT INTO parent VALUES (-%[1]d, 1); " +
		"ROLLBACK",
	"BEGIN; UPDATE parent SET v = 5 WHERE id < 99; SAVEPOINT a; DELETE FROM whole; ROLLBACK TO a; COMMIT",
	"SELECT nextval('child_id_seq'), lo_from_bytea(0, '%[1]d')",
}

// loggedPostgresStructure are changes of structure, among which the chain goes on.
var loggedPostgresStructure = []string{
	"ALTER TABLE pair ADD COLUMN c%[1]d int DEFAULT %[2]d", "TRUNCATE swapped", "CREATE INDEX ON kinds (s)",
	"VACUUM FULL whole",
	"CREATE TABLE made%[2]d (id int PRIMARY KEY, v int); INSERT INTO made%[2]d SELECT id, v FROM parent",
	"ALTER TABLE whole ALTER v TYPE text USING upper(v)", // leaves the structure as it was, and nothing in the log
	"ALTER TABLE pair DROP CONSTRAINT pair_pkey; UPDATE pair SET v = 3; ALTER TABLE pair ADD PRIMARY KEY (a, k, d)",
	"ALTER TABLE parent DISABLE TRIGGER ALL; DELETE FROM parent WHERE id > 9999; ALTER TABLE parent ENABLE TRIGGER " +
		"ALL; DELETE FROM child WHERE p > 9999",
	"DROP TABLE elder CASCADE; CREATE TABLE elder (id int PRIMARY KEY, v text); CREATE TABLE younger (w int) INHERITS " +
		"(elder); INSERT INTO elder VALUES (1, 'anew')",
	"ALTER TABLE counted REPLICA IDENTITY NOTHING",
	"ALTER TABLE parts DETACH PARTITION parts_high; UPDATE parts_high SET v = 'd'; ALTER TABLE parts ATTACH " +
		"PARTITION parts_high FOR VALUES FROM (600) TO (MAXVALUE)",
	"ALTER TABLE pair RENAME TO pear; UPDATE pear SET v = -1; ALTER TABLE pear RENAME TO pair",
	"BEGIN; UPDATE parent SET v = %[1]d; PREPARE TRANSACTION 'x'; COMMIT PREPARED 'x'",
}

// TestLogOfPostgres takes chains of which the log tells, and chains among changes of structure.
func TestLogOfPostgres(t *testing.T) {
	t.Parallel()
	needServer(t)
	s, err := testserver.StartPostgres(ownFolder(t), "wal_level = logical", "max_slot_wal_keep_size = '2GB'",
		"max_prepared_transactions = 5")
	require.NoError(t, err)
	defer s.Close()
	query(t, s, "postgres", "CREATE DATABASE logged")
	query(t, s, "logged", loggedPostgres)
	x := subject{
		from: s.URL("logged"), to: s.URL(""), changes: loggedPostgresChanges, half: true,
		change: func(sql string) error {
			c, err := s.Connect(context.Background(), "logged")
			require.NoError(t, err)
			defer c.Close(context.Background())
			for _, one := range strings.Split(sql, "; ") { // each a transaction of its own, unless it says otherwise
				if _, err = c.PgConn().Exec(context.Background(), one).ReadAll(); err != nil {
					return err
				}
			}
			return nil
		},
		named: func(n string) string { return "logged_" + n },
		reads: func(name string) []string {
			if name == "" {
				name = "logged"
			}
			return slices.DeleteFunc(facts(t, s, name), func(l string) bool {
				return strings.Contains(l, "grainkeep_") || strings.HasPrefix(l, "published|")
			})
		},
		byHand: func(path, name string) {
			byHand(t, path, strings.NewReplacer("logged_restored", name), "PGHOST="+s.Folder, fmt.Sprint("PGPORT=", s.Port),
				"PGUSER="+testserver.Admin)
		},
	}
	dir := t.TempDir()
	chainsOf(t, dir, rand.New(rand.NewPCG(seedOf(t), 41)), x)
	logTold(t, dir, []string{"no_key", "late_key", "fleeting", "younger", "+large objects"},
		"whole") // of which the log has the rows whole
	x.changes = append(x.changes, loggedPostgresStructure...)
	named := x.named
	x.named = func(n string) string { return named("again_" + n) }
	x.sealed = true
	chainsOf(t, t.TempDir(), rand.New(rand.NewPCG(seedOf(t), 42)), x)
}
