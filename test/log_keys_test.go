package test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// familyChanges are transactions of parents and children, one after the other.
var familyChanges = []string{
	"REPLACE INTO p VALUES (1, 11)", "DELETE FROM p WHERE id = 2", "DELETE p, c FROM p JOIN c ON p.id = c.p WHERE p.id = 3",
	"DELETE c, p FROM p JOIN c ON p.id = c.p WHERE p.id = 5", "UPDATE p SET id = 60 WHERE id = 6",
	"DELETE p, c, n FROM p JOIN c ON p.id = c.p JOIN n ON p.id = n.p WHERE p.id = 7",
	"BEGIN; DELETE FROM p WHERE id = 8; INSERT INTO p VALUES (8, 88); INSERT INTO c VALUES (8, 8); DELETE FROM c WHERE id = 8; COMMIT",
	"BEGIN; DELETE FROM p WHERE id = 9; INSERT INTO p VALUES (9, 99); INSERT INTO c VALUES (9, 9); DELETE FROM p WHERE id = 9; COMMIT",
	"SET foreign_key_checks = 0; DELETE FROM p WHERE id = 10", "DELETE FROM tree WHERE id = 1",
	"INSERT INTO p VALUES (60, 1) ON DUPLICATE KEY UPDATE v = 66", "UPDATE p JOIN c ON p.id = c.p SET p.v = 111, c.id = 200 WHERE p.id = 12",
}

// TestForeignKeysInTheLog: what foreign keys do to rows comes back once, whether the server's log tells of it (MySQL 9.7) or
// not (MariaDB). Rows that break a check come back too.
func TestForeignKeysInTheLog(t *testing.T) {
	needMariaDB(t)
	t.Run("MariaDB", func(t *testing.T) {
		t.Parallel()
		m, err := testserver.StartMariaDB(ownFolder(t), "--server-id=7")
		require.NoError(t, err)
		families(t, m)
	})
	t.Run("MySQL", func(t *testing.T) {
		t.Parallel()
		if noMySQL != nil {
			t.Skip("no MySQL: ", noMySQL)
		}
		m, err := testserver.StartMySQL(ownFolder(t))
		require.NoError(t, err)
		families(t, m)
	})
}

func families(t *testing.T, m *testserver.MySQL) {
	defer m.Close()
	queryMaria(t, m, "", "CREATE DATABASE trapped")
	for _, sql := range []string{"CREATE TABLE p (id int PRIMARY KEY, v int UNIQUE)",
		"CREATE TABLE c (id int PRIMARY KEY, p int, FOREIGN KEY (p) REFERENCES p (id) ON DELETE CASCADE ON UPDATE CASCADE)",
		"CREATE TABLE n (id int PRIMARY KEY, p int, FOREIGN KEY (p) REFERENCES p (id) ON DELETE SET NULL ON UPDATE CASCADE)",
		"CREATE TABLE tree (id int PRIMARY KEY, up int, FOREIGN KEY (up) REFERENCES tree (id) ON DELETE CASCADE)",
		"CREATE TABLE checked (id int PRIMARY KEY, v int CHECK (v > 0))",
		"INSERT INTO p WITH RECURSIVE x(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM x WHERE i < 20) SELECT i, i FROM x",
		"INSERT INTO c SELECT id, id FROM p", "INSERT INTO n SELECT id, id FROM p",
		"INSERT INTO tree VALUES (1, NULL), (2, 1), (3, 2), (4, 2), (5, NULL)", "INSERT INTO checked VALUES (1, 1)"} {
		queryMaria(t, m, "trapped", sql)
	}
	x := trapped{t, t.TempDir(), m.URL("trapped")}
	x.dump("full")
	facts := func(database string) string {
		got, err := m.Ask(context.Background(), database, "SELECT 'p', p.* FROM p UNION ALL SELECT 'c', c.* FROM c UNION ALL "+
			"SELECT 'n', n.* FROM n UNION ALL SELECT 'tree', tree.* FROM tree UNION ALL SELECT 'checked', checked.* FROM checked "+
			"ORDER BY 1, 2")
		require.NoError(t, err)
		return got
	}
	changes := familyChanges
	if m.Maria {
		changes = append(changes, "SET check_constraint_checks = 0; INSERT INTO checked VALUES (2, -1)")
	}
	for _, sql := range changes {
		queryMaria(t, m, "trapped", sql)
		for _, table := range x.fromLog().Payload.SQL.Tables {
			require.Empty(t, table.NoLog, "%s: %s", sql, table.Name)
		}
		want := facts("trapped")
		restored(t, x, m)
		require.Equal(t, want, facts("back"), sql)
	}
}
