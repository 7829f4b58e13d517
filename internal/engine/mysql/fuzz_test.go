package mysql

import (
	"bufio"
	"bytes"
	"io"
	"strings"
	"testing"

	sqldriver "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/require"
)

// FuzzDataFile reads the head and the rows of a file of rows.
func FuzzDataFile(f *testing.F) {
	f.Add([]byte("SET a;\nINSERT INTO `t` (`a`, `b`) VALUES\n(1,'x\\'y'),\n(NULL,x'00ff');\n"),
		"INSERT INTO `t` (`a`, `b`) VALUES\n")
	f.Fuzz(func(t *testing.T, data []byte, head string) {
		in := bufio.NewReaderSize(bytes.NewReader(data), 4096)
		_, target, err := headOf(in)
		if err != nil || target == "" {
			return
		}
		rows := &bulkRows{in: in, head: head, enums: []bool{true}, seen: func(int64) {}}
		_, err = io.ReadAll(rows)
		require.NoError(t, err, "errors are kept")
	})
}

// FuzzDefinition takes definitions and scripts apart.
func FuzzDefinition(f *testing.F) {
	f.Add("CREATE TABLE `t` (\n  `a` enum('x,y','z') NOT NULL DEFAULT 'x' COMMENT 'a (b',\n  PRIMARY KEY (`a`)\n) " +
		"ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;\n")
	f.Add("DELIMITER ;;\nCREATE TRIGGER x BEGIN END;;\nDELIMITER ;\nSET a;\n")
	f.Add("DELIMITER x\n DELIMITER ;") // no end
	f.Add("DELIMITER \xe70")
	f.Fuzz(func(t *testing.T, sql string) {
		rest := sql
		for _, s := range statements(sql) {
			at := strings.Index(rest, s)
			require.GreaterOrEqual(t, at, 0, "statements are the script's own text, in its order")
			rest = rest[at+len(s):]
		}
		fixed, _ := withTexts(sql, sql)
		require.True(t, strings.Contains(fixed, "x'") || fixed == sql, "what is not replaced stays")
		require.GreaterOrEqual(t, len(explicit(sql)), len(sql), "it only adds")
		if parsed, err := parse(sql, ""); err == nil {
			for i := range parsed.columns {
				parsed.columns[i].read()
				parsed.columns[i].field("@v")
			}
		}
	})
}

func FuzzPasswordFile(f *testing.F) {
	f.Add([]byte("[client]\nuser = ann\npassword = \"x\"\n[other]\npassword=y\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		cfg := sqldriver.NewConfig()
		_ = clientOptions(bytes.NewReader(data), cfg) // a line may be too long
		require.NotContains(t, cfg.Passwd, "\n")
	})
}
