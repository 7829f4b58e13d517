package postgres

import (
	"bufio"
	"bytes"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// FuzzDataFile reads the head and the rows of a file of rows.
func FuzzDataFile(f *testing.F) {
	f.Add([]byte("SET client_encoding = 'UTF8';\nCOPY \"a\nb\".t (c) FROM stdin;\n1\n2\n\\.\n"))
	f.Add([]byte("SET a;\n" + blobPut + "1, 0, '\\x00');\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		in := bufio.NewReaderSize(bytes.NewReader(data), 4096)
		sql, _, err := copyStatement(in)
		if err != nil || sql == "" || strings.HasPrefix(sql, blobPut) {
			return
		}
		require.True(t, strings.HasPrefix(sql, "COPY "))
		rows, err := io.ReadAll(&copyRows{in: in, seen: func(int64) {}})
		if err == nil {
			require.True(t, bytes.Contains(data, append(rows, endOfRows[1:]...)))
		}
	})
}

// FuzzSmallReaders takes names and values apart that a server or a dump says.
func FuzzSmallReaders(f *testing.F) {
	f.Add("search_path", `"$user", public`, "host=x password='a b'")
	f.Fuzz(func(t *testing.T, name, value, conninfo string) {
		require.NotEmpty(t, settingValue(name, value))
		settingName(name)
		require.NotRegexp(t, `(?i)\bpassword\s*=\s*'[^'\\]+'`, inConninfo().ReplaceAllString(conninfo, ""))
		lockObject(name)
		CreateOptions(map[string]string{"encoding": value, "provider": "i", "locale": name})
	})
}
