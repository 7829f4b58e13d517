package test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// TestMariaDBRandom and TestMySQLRandom make random databases and let each come back.
func TestMariaDBRandom(t *testing.T) { randomMaria(t, needMariaDB(t)) }

func TestMySQLRandom(t *testing.T) {
	if noMySQL != nil {
		t.Skip("no MySQL: ", noMySQL)
	}
	randomMaria(t, mysql)
}

func randomMaria(t *testing.T, m *testserver.MySQL) {
	everySeed(t, func(t *testing.T, name string, g *generator) {
		freshMaria(t, m, name, name+"_again", name+"_restored")
		list, made := (&mariaGenerator{generator: g, maria: m.Maria}).database(), 0
		for _, sql := range list {
			if _, err := m.Ask(context.Background(), name, sql); err == nil { // not everything goes together
				made++
			}
		}
		require.Greater(t, made, len(list)/3)
		comesBackMaria(t, m, t.TempDir(), name, func(database string) []string { return factsMaria(t, m, database) })
	})
}

type mariaGenerator struct {
	*generator
	maria    bool
	routines []string
}

func (g *mariaGenerator) pick(list ...string) string { return pick(g.generator, list) }

func (g *mariaGenerator) name(prefix string) string {
	return fmt.Sprintf("`%s%d%s_`", prefix, len(g.sql), g.pick("", " b", "``q", "é", "Up", "'s", "\n2", "%I", `"d`,
		"select", ";//", "-- ", "\\"))
}

// mariaTypes, each with an expression that makes a value of a number i below 60.
var mariaTypes = [][2]string{
	{"int", "i"}, {"bigint unsigned", "i * 1000000007"}, {"tinyint", "-i"}, {"smallint(5) unsigned zerofill", "i"},
	{"decimal(20,7)", "i / 7"}, {"float", "i / 3"}, {"double", "exp(i / 3.0e0) * IF(i % 2, 1, -1)"},
	{"float(7,3)", "i / 7"},
	{"varchar(40) CHARACTER SET utf8mb4", "concat('é𝄞', repeat('ß', i % 9), '\\t\\\\''\\r\\n')"},
	{"varchar(40) CHARACTER SET latin1 COLLATE latin1_german2_ci", "concat('é', i)"},
	{"varchar(30) CHARACTER SET utf16", "concat('é', i)"}, {"text CHARACTER SET gbk", "concat('丂', i)"},
	{"char(7) CHARACTER SET ascii", "i"}, {"varchar(9) CHARACTER SET ucs2", "IF(i % 2, '', 'é')"},
	{"binary(4)", "char(i)"}, {"varbinary(20)", "unhex(md5(i))"}, {"mediumblob", "repeat(char(i, 39, 92), i * 50)"},
	{"longtext CHARACTER SET utf8mb4", "repeat(concat('x', char(i USING ascii)), i % 7)"},
	{"tinytext CHARACTER SET latin1", "unhex('e981ff')"}, {"bit(11)", "i"}, {"boolean", "i % 2"},
	{"date", "'1999-12-31' + INTERVAL i * 100 DAY"}, {"datetime(4)",
		"'2026-03-29 02:30:00.1234' + INTERVAL i * 1000001 SECOND"}, {"timestamp(2) NULL",
		"'1975-06-01 00:00:01.25' + INTERVAL i YEAR"}, {"time(1)", "sec_to_time(i * 50000.5 - 900000)"}, {"year",
		"IF(i % 7, 1990 + i, 0)"},
	{"enum('a', 'it''s', '7')", "1 + i % 3"}, {"enum('', 'b')", "1 + i % 2"}, {"enum('x', 'é') CHARACTER SET latin1",
		"1 + i % 2"}, {"set('x', 'y''', 'z')", "i % 8"}, {"set('1', '2')", "i % 4"}, {"json", "json_object('k', i)"},
	{"uuid", "md5(i)"}, {"inet6", "concat('::', hex(i))"}, {"inet4", "concat('10.0.0.', i)"},
	{"point", "point(i, 1 / (i + 1))"}, {"geometry", "ST_GeomFromText(concat('LINESTRING(0 0,', i, ' 1)'), 4326)"},
}

// only gives a word that one of the two products does not know.
func (g *mariaGenerator) only(maria, mysql string) string {
	if g.maria {
		return maria
	}
	return mysql
}

func (g *mariaGenerator) database() []string {
	for range 2 * len(g.only("x", "")) {
		g.say("CREATE SEQUENCE %s START %d INCREMENT %s CACHE %d %s", g.name("q"), 1+g.IntN(90), g.pick("1", "3"),
			g.IntN(20), g.pick("", "CYCLE"))
	}
	g.say("%s", g.only("CREATE SEQUENCE plain_numbers; DO nextval(plain_numbers)", "DO 0"))
	for range 7 + g.IntN(5) {
		g.table()
	}
	for range 12 {
		g.around()
	}
	return g.sql
}

// columns are random columns after "id", with what fills them from a number.
func (g *mariaGenerator) columns() (list, names, values []string) {
	for i := range 1 + g.IntN(7) {
		typ := pick(g.generator, mariaTypes)
		for !g.maria && strings.Contains("uuid inet6 inet4", typ[0]) {
			typ = pick(g.generator, mariaTypes)
		}
		name := fmt.Sprintf("`c%d%s_`", i, g.pick("", " x", "Y", "é", "``", "\n(1"))
		def, value := name+" "+typ[0], "IF(i % 5 = 3, NULL, "+typ[1]+")"
		switch g.IntN(6) {
		case 0:
			def, value = strings.TrimSuffix(def, " NULL")+" NOT NULL", typ[1]
		case 1:
			def += " DEFAULT NULL"
		case 2:
			def += " CHECK (" + name + " IS NULL OR " + name + " IS NOT NULL)"
		case 3:
			def += " INVISIBLE COMMENT 'it''s, (`x`'"
		case 4: // words that a definition has
			def += " COMMENT '" + g.pick("was GENERATED ALWAYS AS (x)", "x AUTO_INCREMENT,", "CHARACTER SET latin1",
				") ENGINE=MyISAM", "`a` int,\\n", "nextval(`x`.`y`)", "WITH SYSTEM VERSIONING",
				"/*!50100 TABLESPACE `x` */") + "'"
		}
		list, names, values = append(list, def), append(names, name), append(values, value)
	}
	if g.chance(3) {
		list = append(list, "made varchar(30) AS (concat(id, ',(')) "+g.pick("VIRTUAL", "STORED", "VIRTUAL INVISIBLE"))
	}
	return list, names, values
}

func (g *mariaGenerator) table() {
	table := g.name("t")
	list, names, values := g.columns()
	id := g.pick("id int PRIMARY KEY", "id int AUTO_INCREMENT PRIMARY KEY", "id int NOT NULL UNIQUE", "id int",
		g.only("id int DEFAULT nextval(plain_numbers) PRIMARY KEY", "id bigint unsigned PRIMARY KEY"))
	options := g.pick("", "", "ROW_FORMAT=COMPRESSED", "ENGINE=MyISAM CHECKSUM=1", g.only("ENGINE=Aria",
		"ENGINE=MyISAM"),
		g.only("AUTO_INCREMENT=500", "ROW_FORMAT=REDUNDANT"), "ROW_FORMAT=DYNAMIC STATS_PERSISTENT=0")
	parts := g.pick("", "", "", "PARTITION BY HASH (id) PARTITIONS 3", "PARTITION BY KEY (id)",
		"PARTITION BY RANGE (id) (PARTITION low VALUES LESS THAN (20) COMMENT 'it''s', PARTITION `h p` VALUES "+
			"LESS THAN MAXVALUE)",
		"PARTITION BY LIST (id % 3) (PARTITION a VALUES IN (0, 1, NULL), PARTITION b VALUES IN (2))")
	plain := parts == "" && !strings.Contains(options, "ENGINE") && strings.Contains(id, "PRIMARY")
	options += " COMMENT 'it''s\\n\\\\(' COLLATE " + g.pick("utf8mb4_bin", "latin1_swedish_ci", "utf16_general_ci",
		g.only("utf8mb4_uca1400_ai_ci", "utf8mb4_0900_as_cs"))
	versioned := g.maria && parts == "" && g.chance(5)
	if versioned {
		options += " WITH SYSTEM VERSIONING"
	}
	g.say("CREATE TABLE %s (%s, %s) %s %s", table, id, strings.Join(list, ", "), options, parts)
	g.say("SET sql_mode = 'ALLOW_INVALID_DATES,NO_AUTO_VALUE_ON_ZERO'; INSERT INTO %s (id, %s) SELECT i, %s FROM "+
		"(WITH RECURSIVE n (i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < %d) SELECT i FROM n) n; "+
		"SET sql_mode = DEFAULT", table, strings.Join(names, ", "),
		strings.Join(values, ", "), 1+g.IntN(58))
	if versioned {
		g.say("UPDATE %s SET id = id + 1000 WHERE id > 0 LIMIT 5", table)
		g.say("DELETE FROM %s WHERE id %% 3 = 1", table)
	}
	if g.chance(2) {
		g.say("CREATE INDEX %s ON %s (id %s) COMMENT 'k''s' %s", g.name("x"), table, g.pick("", "DESC"), g.pick("",
			g.only("IGNORED", "INVISIBLE")))
	}
	if plain && len(g.tables) > 0 && g.chance(2) {
		g.say("ALTER TABLE %s ADD ref int, ADD CONSTRAINT %s FOREIGN KEY (ref) REFERENCES %s (id) %s", table,
			g.name("f"), pick(g.generator, g.tables), g.pick("", "ON DELETE SET NULL", "ON UPDATE CASCADE"))
	}
	if plain && !versioned {
		g.tables = append(g.tables, table)
	}
}

// around adds something to what there is: code, views, events.
func (g *mariaGenerator) around() {
	for len(g.tables) == 0 {
		g.table()
	}
	table, n := pick(g.generator, g.tables), len(g.sql)
	mode := "SET sql_mode = '" + g.pick("", "ANSI_QUOTES", "NO_BACKSLASH_ESCAPES", "STRICT_ALL_TABLES") +
		"', collation_connection = '" + g.pick("latin1_german2_ci", "utf8mb4_general_ci") + "'; "
	const back = "; SET sql_mode = DEFAULT, collation_connection = DEFAULT"
	security := g.pick("", "SQL SECURITY INVOKER")
	switch g.IntN(6) {
	case 0:
		name := g.name("f")
		g.say("%sCREATE FUNCTION %s(a int, b varchar(9) CHARACTER SET latin1) RETURNS int %s COMMENT 'it''s //' "+
			"%s RETURN a + length('é; //')%s", mode, name, g.pick("DETERMINISTIC", "DETERMINISTIC NO SQL"), security,
			back)
		g.routines = append(g.routines, name)
	case 1:
		g.say("%sCREATE PROCEDURE %s(IN a int, INOUT b text, OUT c decimal(9,3)) %s BEGIN DECLARE x int; SELECT "+
			"count(*) INTO x FROM %s; SET c = x; END%s", mode, g.name("p"), security, table, back)
	case 2:
		g.say("%sCREATE TRIGGER %s %s ON %s FOR EACH ROW SET @seen%d = 'it''s // ;'%s", mode, g.name("g"),
			g.pick("BEFORE INSERT", "AFTER UPDATE", "AFTER DELETE"), table, n, back)
	case 3:
		g.say("CREATE EVENT %s ON SCHEDULE %s ON COMPLETION PRESERVE DISABLE COMMENT 'e''s' DO DELETE FROM %s "+
			"WHERE id < 0", g.name("e"), g.pick("EVERY '1:30' HOUR_MINUTE STARTS '2030-01-01'",
			"AT '2031-01-01 02:03:04'"), table)
	default:
		call := "id"
		if len(g.routines) > 0 {
			call = pick(g.generator, g.routines) + "(id, 'x')"
		}
		view := g.name(g.pick("a", "z"))
		g.say("CREATE ALGORITHM=%s %s VIEW %s AS SELECT id, %s AS `n m`, 'é\\'' AS t FROM %s", g.pick("UNDEFINED",
			"MERGE", "TEMPTABLE"), security, view, call, table)
		g.say("CREATE VIEW %s AS SELECT w.* FROM %s w JOIN %s t ON w.id = t.id", g.name(g.pick("a", "z")), view, table)
	}
}
