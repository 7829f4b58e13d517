package test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// change is a defect, put into a source file.
type change struct{ file, old, new string }

// mutants are programs that do something wrong, and the same wrong when they read back.
var mutants = map[string][]change{
	"a column that is overlooked": {
		{"internal/engine/postgres/tables.go", `if c.Generated == "" {`,
			`if c.Generated == "" && c.Name != "vehicle" {`},
		{"internal/engine/mysql/reader.go", "if c.generated {", `if c.generated || c.name == "vehicle" {`},
		{"internal/engine/sqlite/catalog.go", "if s.int(2) == 0 {", `if s.int(2) == 0 && s.text(0) != "vehicle" {`},
	},
	"a value that is changed": {
		{"internal/rows/scan.go", "	m.beats.Add(1)\n",
			"	m.beats.Add(1)\n	p = bytes.ReplaceAll(p, []byte(\"car\"), []byte(\"caR\"))\n"},
		{"internal/rows/scan.go", "import (\n", "import (\n	\"bytes\"\n"},
	},
	"a definition that lacks something": {
		{"internal/engine/postgres/columns.go", "	case !n.Set || n.Unvalidated:", "	case true:"},
		{"internal/engine/mysql/tables.go", "			for _, f := range []string{\"nextval(\"",
			"			item = strings.Replace(item, \" NOT NULL\", \"\", 1)\n			for _, f := range []string{\"nextval(\""},
		{"internal/engine/sqlite/catalog.go", "	if openComment(sql) {",
			"	sql = strings.Replace(sql, \" NOT NULL\", \"\", 1)\n	if openComment(sql) {"},
	},
}

// mutant builds a program with defects.
func mutant(t *testing.T, changes []change) string {
	t.Helper()
	dir := t.TempDir()
	root, err := filepath.Abs("..")
	require.NoError(t, err)
	replace := map[string]string{}
	for i, c := range changes {
		path := filepath.Join(root, c.file)
		from := path
		if done := replace[path]; done != "" {
			from = done
		}
		text, err := os.ReadFile(from)
		require.NoError(t, err)
		require.Equal(t, 1, strings.Count(string(text), c.old), "%s: %s", c.file, c.old)
		replace[path] = filepath.Join(dir, strings.ReplaceAll(c.file, "/", "_")+fmt.Sprint(i))
		require.NoError(t, os.WriteFile(replace[path], []byte(strings.Replace(string(text), c.old, c.new, 1)), 0o600))
	}
	overlay, err := json.Marshal(map[string]any{"Replace": replace})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "overlay.json"), overlay, 0o600))
	built := filepath.Join(dir, "grainkeep")
	cmd := exec.Command("go", "build", "-overlay", filepath.Join(dir, "overlay.json"), "-o", built, "../cmd/grainkeep")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return built
}

// TestASecondPairOfEyes: a drill that reads back with the code that wrote cannot see what both
// are blind to. What the server itself says does.
func TestASecondPairOfEyes(t *testing.T) {
	t.Parallel()
	if absent != nil && noMaria != nil && noMySQL != nil { // what needs no server takes less than a minute
		t.Skip("no server is here: programs are not built for SQLite alone")
	}
	for name, changes := range mutants {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			built := mutant(t, changes)
			for _, p := range everyEngine(t) {
				t.Run(p.product, func(t *testing.T) {
					p.need(t)
					dir := t.TempDir()
					mutated := func(args ...string) (string, int) {
						cmd := exec.Command(built, args...)
						cmd.Dir, cmd.Env = dir, []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir, "TZ=UTC"}
						out, _ := cmd.Output() // its exit code is looked at
						return string(out), cmd.ProcessState.ExitCode()
					}
					_, code := mutated("dump", "--from", p.url("bookings"), "--to", "keep")
					require.Contains(t, []int{0, 3}, code)
					out, code := mutated(append([]string{"drill", "adhoc", "--from", "keep"}, p.scratch()...)...)
					require.Equal(t, 5, code, out)
					require.Regexp(t, "to the server, and was|the server.s own digest|and the server listed", out)
				})
			}
		})
	}
}

// logMutants are defects of those who read a server's log. One program has all of them; MUTANT says which one it has.
var logMutants = []change{
	{"internal/engine/postgres/logread.go", "import (\n", "import (\n	\"os\"\n"},
	{"internal/engine/postgres/logread.go", "	message, err := pglogrepl.Parse(data)\n",
		`	if m := os.Getenv("MUTANT"); m == "insert" && data[0] == 'I' || m == "update" && data[0] == 'U' ||
		m == "delete" && data[0] == 'D' {
		return nil
	}
	message, err := pglogrepl.Parse(data)
`},
	{"internal/engine/postgres/logread.go", "		list[i] = t.Columns[slices.Index(x.names, name)]\n",
		`		list[i] = t.Columns[slices.Index(x.names, name)]
		if os.Getenv("MUTANT") == "column" && name == "v" && list[i].DataType == pglogrepl.TupleDataTypeText {
			list[i] = &pglogrepl.TupleDataColumn{DataType: pglogrepl.TupleDataTypeNull}
		}
`},
	{"internal/engine/postgres/logread.go", "		r.inside = true\n		r.commit = engine", `		r.inside = true
		if transactions++; os.Getenv("MUTANT") == "first" && transactions == 1 || os.Getenv("MUTANT") == "last" && transactions == 4 {
			leftOut = true
		} else {
			leftOut = false
		}
		r.commit = engine`},
	{"internal/engine/postgres/logread.go", "	x := r.relations[m.RelationID]\n	if x == nil || x.table == nil {\n		return nil\n	}\n	values",
		"	x := r.relations[m.RelationID]\n	if x == nil || x.table == nil || leftOut {\n		return nil\n	}\n	values"},
	{"internal/engine/postgres/logread.go", "// pause is how long", "var (\n	transactions int\n	leftOut bool\n)\n\n// pause is how long"},
	{"internal/engine/mysql/logrows.go", "import (\n", "import (\n	\"os\"\n"},
	{"internal/engine/mysql/logrows.go", "	switch kind {\n	case replication.EnumRowsEventTypeInsert:\n",
		`	if os.Getenv("MUTANT") == map[replication.EnumRowsEventType]string{replication.EnumRowsEventTypeInsert: "insert",
		replication.EnumRowsEventTypeUpdate: "update", replication.EnumRowsEventTypeDelete: "delete"}[kind] {
		return ""
	}
	switch kind {
	case replication.EnumRowsEventTypeInsert:
`},
	{"internal/engine/mysql/logrows.go", "			row.texts[i] = row.all[at:len(row.all):len(row.all)]\n",
		`			row.texts[i] = row.all[at:len(row.all):len(row.all)]
			if os.Getenv("MUTANT") == "column" && c.h.all[i].name == "v" {
				row.texts[i] = []byte("NULL")
			}
`},
	{"internal/engine/mysql/logrows.go", "	c := r.made[t]\n", `	if now := r.commit.ID + r.commit.Time.String(); now != transaction {
		transaction = now
		transactions++
	}
	if os.Getenv("MUTANT") == "first" && transactions == 1 || os.Getenv("MUTANT") == "last" && transactions == 4 {
		return nil
	}
	c := r.made[t]
`},
	{"internal/engine/mysql/logrows.go", "// Flags of events of rows.\n",
		"var (\n	transaction string\n	transactions int\n)\n\n// Flags of events of rows.\n"},
}

// TestTheLogIsNotBelieved: whatever is overlooked in a log is noticed by the dump that takes the increment.
func TestTheLogIsNotBelieved(t *testing.T) {
	t.Parallel()
	if absent != nil && noMaria != nil && noMySQL != nil {
		t.Skip("no server is here")
	}
	built := mutant(t, logMutants)
	t.Run("PostgreSQL", func(t *testing.T) {
		t.Parallel()
		needServer(t)
		s, err := testserver.StartPostgres(ownFolder(t), "wal_level = logical", "max_slot_wal_keep_size = '1GB'")
		require.NoError(t, err)
		defer s.Close()
		query(t, s, "postgres", "CREATE DATABASE believed")
		notBelieved(t, built, s.URL("believed"), func(sql string) { query(t, s, "believed", sql) })
	})
	t.Run("MariaDB", func(t *testing.T) {
		t.Parallel()
		needMariaDB(t)
		m, err := testserver.StartMariaDB(ownFolder(t), "--binlog-format=ROW")
		require.NoError(t, err)
		defer m.Close()
		queryMaria(t, m, "", "CREATE DATABASE believed")
		notBelieved(t, built, m.URL("believed"), func(sql string) { queryMaria(t, m, "believed", sql) })
	})
}

func notBelieved(t *testing.T, built, url string, change func(sql string)) {
	change("CREATE TABLE t (id int PRIMARY KEY, v int, w int)")
	change("CREATE TABLE beside (id int PRIMARY KEY)")
	var list []string
	for n := range 300 {
		list = append(list, fmt.Sprintf("(%d, %d, %d)", n, n, n))
	}
	change("INSERT INTO t VALUES " + strings.Join(list, ", "))
	dir := t.TempDir()
	run(t, dir, -1, "dump", "--from", url, "--to", "keep", "--kind", "full", "--new-baseline")
	for i, defect := range []string{"", "insert", "update", "delete", "column", "first", "last"} {
		change(fmt.Sprintf("INSERT INTO t VALUES (%d, 1, 1)", 1000+i))
		change(fmt.Sprintf("UPDATE t SET v = v + 1 WHERE id BETWEEN %d AND %d", 20*i, 20*i+3))
		change(fmt.Sprintf("DELETE FROM t WHERE id = %d", 200+i))
		change(fmt.Sprintf("INSERT INTO t VALUES (%d, 2, 2)", 2000+i))
		time.Sleep(1100 * time.Millisecond) // names of folders have seconds
		cmd := exec.Command(built, "dump", "--from", url, "--to", "keep", "--kind", "incremental")
		cmd.Dir, cmd.Env = dir, []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir, "TZ=UTC", "MUTANT=" + defect}
		out, _ := cmd.CombinedOutput() // its exit code is looked at
		if defect == "" {
			require.NotContains(t, string(out), "are others than the log told", "there is no defect")
			require.NotContains(t, string(out), "comparison")
			continue
		}
		require.Equal(t, 3, cmd.ProcessState.ExitCode(), string(out))
		require.Contains(t, string(out), "are others than the log told; the table was compared", defect)
	}
	scratch := url[:strings.LastIndexByte(url, '/')+1]
	o := run(t, dir, -1, "drill", "adhoc", "--from", "keep", "--to", scratch)
	require.Contains(t, o.stdout, "proven", "what was compared is right: %s", o.stderr)
}
