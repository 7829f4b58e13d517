package mysql

import (
	"bufio"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
)

func TestDefinitionsAreTakenApart(t *testing.T) {
	tab, err := parse("CREATE TABLE `t` (\n  `id` int(11) NOT NULL AUTO_INCREMENT,\n  `a,b` "+
		"enum('x,(y','it''s','') CHARACTER SET latin1 DEFAULT 'x,(y' COMMENT 'it''s, \\'odd\\' (',\n"+
		"  `n` int(11) DEFAULT nextval(`here`.`seq`),\n  `f` float(7,3) DEFAULT NULL,\n  `g``h` int(11) GENERATED "+
		"ALWAYS AS (`id` * 2) VIRTUAL,\n  PRIMARY KEY (`id`),\n  UNIQUE KEY `u` (`a,b`(3)),\n"+
		"  FULLTEXT KEY `w` (`a,b`),\n  CONSTRAINT `fk` FOREIGN KEY (`n`) REFERENCES `o` (`id`),\n  CONSTRAINT "+
		"`c` CHECK (`n` > 0 and `f` <> ')')\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COMMENT='(x, y)'\n "+
		"PARTITION BY HASH (`id`)", "here")
	require.NoError(t, err)
	require.Equal(t, []string{"UNIQUE KEY `u` (`a,b`(3))", "FULLTEXT KEY `w` (`a,b`)"}, tab.keys)
	require.Equal(t, []string{"CONSTRAINT `fk` FOREIGN KEY (`n`) REFERENCES `o` (`id`)"}, tab.references)
	require.Equal(t, "`n` int(11) DEFAULT nextval(`seq`)", tab.inside[2])
	require.Equal(t, ") ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COMMENT='(x, y)'\n PARTITION BY HASH (`id`)", tab.options)
	require.Equal(t, "InnoDB", tab.engine)
	require.Len(t, tab.columns, 5)
	require.Equal(t, column{name: "a,b", kind: "enum", charset: "latin1", full: "'x,(y','it''s',''"}, tab.columns[1])
	require.True(t, tab.columns[3].scaled)
	require.Equal(t, column{name: "g`h", kind: "int", charset: "utf8mb4", full: "11", generated: true}, tab.columns[4])
	_, f := tab.columns[1].read()
	require.Equal(t, number, f, "an ENUM with an empty member is written by number")

	// A column that counts by itself keeps one key; tables without transactions keep all.
	tab, err = parse("CREATE TABLE `t` (\n  `n` int(11) NOT NULL AUTO_INCREMENT,\n  KEY `k` (`n`),\n  KEY `l` "+
		"(`n`)\n) ENGINE=InnoDB", "")
	require.NoError(t, err)
	require.Equal(t, []string{"KEY `l` (`n`)"}, tab.keys)
	tab, err = parse("CREATE TABLE `t` (\n  `n` int(11),\n  KEY `k` (`n`)\n) ENGINE=MyISAM", "")
	require.NoError(t, err)
	require.Empty(t, tab.keys)
	_, err = parse("CREATE VIEW", "")
	require.Error(t, err)
}

// TestNobodysWordsAreTakenForTheServers: names, defaults and comments that look like a
// definition say nothing about it. (Seen: such a column was taken for a generated one, its
// values were not dumped, and the drill said "proven".)
func TestNobodysWordsAreTakenForTheServers(t *testing.T) {
	tab, err := parse("CREATE TABLE `t(\n  `` x` (\n  `v` varchar(10) DEFAULT 'x AUTO_INCREMENT' COMMENT 'was GENERATED "+
		"ALWAYS AS (x)',\n  `w` int(11) COMMENT ' GENERATED ALWAYS AS ROW START',\n  `a````` int(11) DEFAULT 'nextval("+
		"`here`.',\n  `s` int(11) DEFAULT nextval(`here`.`seq`) COMMENT 'nextval(`here`.`seq`) it''s \\' "+
		"CHARACTER SET latin1',\n  KEY `k` (`w`)\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COMMENT='x DEFAULT "+
		"CHARSET=latin1 WITH SYSTEM VERSIONING'", "here")
	require.NoError(t, err)
	require.False(t, tab.versioned)
	require.Len(t, tab.columns, 4)
	for _, c := range tab.columns {
		require.False(t, c.generated || c.counts || c.period, c.name)
	}
	require.Equal(t, "utf8mb4", tab.columns[0].charset)
	require.Equal(t, "a``", tab.columns[2].name)
	require.Equal(t, "`a````` int(11) DEFAULT 'nextval(`here`.'", tab.inside[2], "a text stays as it is")
	require.Contains(t, tab.inside[3], "DEFAULT nextval(`seq`) COMMENT 'nextval(`here`.`seq`)")
	require.Equal(t, []string{"KEY `k` (`w`)"}, tab.keys)
}

func TestWhatMySQLSaysInTwoWays(t *testing.T) {
	for _, c := range [][2]string{
		{"`a` varchar(9) COLLATE utf8mb4_bin", "`a` varchar(9) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"},
		{"`a` varchar(9) CHARACTER SET latin1 COLLATE latin1_bin", "`a` varchar(9) CHARACTER SET latin1 COLLATE latin1_bin"},
		{"`a` varchar(9) COMMENT ' COLLATE utf8mb4_bin'", "`a` varchar(9) COMMENT ' COLLATE utf8mb4_bin'"},
		{"`j` json COMMENT 'x'", "`j` json DEFAULT NULL COMMENT 'x'"}, {"`j` json NOT NULL", "`j` json NOT NULL"},
		{"`j` json", "`j` json DEFAULT NULL"},
		{"`j` json GENERATED ALWAYS AS (1) VIRTUAL", "`j` json GENERATED ALWAYS AS (1) VIRTUAL"},
	} {
		require.Equal(t, c[1], explicit(c[0]))
		require.Equal(t, c[1], explicit(c[1]), "once is enough")
	}
}

func TestTextsThatAreShownAsQuestionMarks(t *testing.T) {
	item, ok := withTexts("`b` int DEFAULT (concat(_utf8mb4'é?',_latin1'?',_cp1250'??'))",
		`concat(_utf8mb4\'Ã©?\',_latin1\'é\',_utf8mb4\'Ã©?\')`)
	require.True(t, ok)
	require.Equal(t, "`b` int DEFAULT (concat(_utf8mb4'é?',_latin1 x'e9',_utf8mb4 x'c3a93f'))", item)
	_, ok = withTexts("`b` int DEFAULT (_latin1'?')", "")
	require.False(t, ok, "it is nowhere to be found")
	item, ok = withTexts("`b?` int", "")
	require.True(t, ok)
	require.Equal(t, "`b?` int", item)
}

func TestScriptsAreDividedAsTheClientDoes(t *testing.T) {
	require.Equal(t, []string{"SET a = 1;", "CREATE TRIGGER x BEGIN SET b = 1; END", "SET c = 2;", "CREATE y // z"},
		statements("SET a = 1;\nDELIMITER //\nCREATE TRIGGER x BEGIN SET b = 1; END//\nDELIMITER ;\nSET c = "+
			"2;\nDELIMITER ///\nCREATE y // z///\nDELIMITER ;\n"))
	require.Equal(t, []string{"A;\nB;"}, statements("A;\nB;\n"))
	require.Equal(t, []string{"CREATE TABLE `t\nDELIMITER x\n` (a int);"},
		statements("CREATE TABLE `t\nDELIMITER x\n` (a int);\n"), "a name is no client command")
}

func TestRowsBecomeFields(t *testing.T) {
	const head = "SET a;\nINSERT INTO `x\n(1` (`a`) VALUES\n"
	rewrite := func(rows string) (string, *bulkRows) {
		// Byte by byte: whatever the state machine stands in may end there.
		b := &bulkRows{in: bufio.NewReader(iotest.OneByteReader(strings.NewReader(rows))), head: head,
			enums: []bool{true}, seen: func(int64) {}}
		out, err := io.ReadAll(b)
		require.NoError(t, err)
		return string(out), b
	}
	for rows, want := range map[string]string{
		"(1,-2.5e-3,NULL,'a');\n":                        "1\t-2.5e-3\t\\N\ta\n",
		`('it\'s, (\\','','x\t\n\0\Z');` + "\n":          `it\'s, (\\` + "\t\t" + `x\t\n\0\Z` + "\n",
		"(x'00095c0a41',x'');\n":                         `\0\t\\\nA` + "\t\n",
		"(_ascii'::1'),\n(2);\n" + head + "(3),\n(4);\n": "::1\n2\n3\n4\n",
	} {
		got, b := rewrite(rows)
		require.NoError(t, b.err, rows)
		require.Equal(t, want, got)
		require.Zero(t, b.none)
	}
	for _, bad := range []string{"1", "('a", "('a'b);\n", "(x'0);\n", "(x'0');\n", "(x'0g');\n", "(1;\n", "(1", "(1)",
		"(1),\n", "(1);", "(,1);\n", "(1);\n" + head, "(1);\nINSERT", "(1);\n(2);\n"} {
		_, b := rewrite(bad)
		require.Error(t, b.err, bad)
	}
	_, b := rewrite("(0,0),\n('0',0),\n(0,0);\n")
	require.EqualValues(t, 2, b.none, "values that are no members of their ENUM")
}

func TestHeadsOfFiles(t *testing.T) {
	settings, target, err := headOf(bufio.NewReader(strings.NewReader("SET a;\nINSERT INTO `odd\n VALUES\n` (`x`) " +
		"VALUES\n(1);\n")))
	require.NoError(t, err)
	require.Equal(t, "SET a;\n|`odd\n VALUES\n` (`x`)", settings+"|"+target)
	_, target, err = headOf(bufio.NewReader(strings.NewReader("SET a;\n")))
	require.NoError(t, err)
	require.Empty(t, target, "a table without rows")
}

// TestConnectionsAreEncrypted where the server offers it, unless they do not leave the machine.
func TestConnectionsAreEncrypted(t *testing.T) {
	for server, want := range map[string]bool{"db1:3306": true, "db1": true, "10.0.0.7:3306": true, "127.0.0.1:3306": false,
		"localhost": false, "": false, "[::1]:3306": false, "/run/mysqld": false} {
		for _, said := range []string{"", "off"} {
			cfg, err := (&source{at: engine.Location{Server: server, TLS: said, User: "ann",
				Secret: func() (engine.Secret, error) { return engine.Secret{}, nil }}}).config()
			require.NoError(t, err)
			require.Equal(t, want && said == "", cfg.TLS != nil, "%s %s", server, said)
			require.Equal(t, want && said == "", cfg.AllowFallbackToPlaintext, server)
		}
	}
}
