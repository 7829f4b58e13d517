package test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// terminalOf runs the program in a terminal, and gives what waits for a text and then types.
func terminalOf(t *testing.T, dir string, args ...string) (answer func(when, keys string), end func() (string, int)) {
	t.Helper()
	return terminalOfWidth(t, 140, dir, args...)
}

// terminalOfWidth is a terminal of so many columns.
func terminalOfWidth(t *testing.T, columns uint16, dir string, args ...string) (answer func(when, keys string),
	end func() (string, int)) {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = dir, []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir, "TZ=UTC", "TERM=xterm"}
	tty, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 50, Cols: columns})
	require.NoError(t, err)
	t.Cleanup(func() { tty.Close() })
	var mu sync.Mutex
	var screen bytes.Buffer
	seen := 0
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		b := make([]byte, 4096)
		for {
			n, err := tty.Read(b)
			mu.Lock()
			screen.Write(b[:n])
			mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	answer = func(when, keys string) {
		t.Helper()
		came := func() bool {
			mu.Lock()
			defer mu.Unlock()
			at := bytes.Index(screen.Bytes()[seen:], []byte(when))
			if at >= 0 {
				seen += at + len(when)
			}
			return at >= 0
		}
		if !assert.Eventually(t, came, 20*time.Second, 10*time.Millisecond) {
			mu.Lock()
			defer mu.Unlock()
			require.Fail(t, fmt.Sprintf("%q never came", when), screen.String())
		}
		time.Sleep(150 * time.Millisecond) // the form draws itself, and then listens
		_, err := tty.WriteString(keys)
		require.NoError(t, err)
	}
	return answer, func() (string, int) {
		_ = cmd.Wait() // its code tells
		<-ended
		return screen.String(), cmd.ProcessState.ExitCode()
	}
}

// TestGuidedStart: somebody answers in a terminal, goes back once, and has a configuration, a dump and its proof.
func TestGuidedStart(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	sh(t, dir, `mkdir data; for d in app crew; do sqlite3 data/$d.db "CREATE TABLE sail (id INTEGER PRIMARY KEY); INSERT INTO sail VALUES (1), (2)"; done`)
	const down, enter, back = "\x1b[B", "\r", "\x15"
	answer, end := terminalOf(t, dir, "init", "--guided")
	answer("What holds", down+down+enter)
	answer("Where are the files", "nowhere"+enter)
	answer("nowhere", "") // the error, and the question once more
	answer("What holds", enter)
	answer("Where are the files", back+"data"+enter)
	answer("app.db", "")
	answer("Which databases", down+enter)
	answer("Which of them", down+" "+enter)
	answer("A dump takes 1 database", "")
	answer("Where do the dumps go", back+"barn"+enter)
	answer("32;1mHow much of that drive must stay free", back+"1%"+enter) // it was seen before, and is now asked
	answer("When are dumps taken", enter)
	answer("Within a year", "")
	answer("Is that right", down+down+down+down+enter)
	answer("When are dumps taken", down+enter)
	answer("Is that right", enter)
	said, code := end()
	require.Contains(t, []int{0, 3}, code, said)
	require.Contains(t, said, "Dumped and proven in")
	text, err := os.ReadFile(filepath.Join(dir, "grainkeep.toml"))
	require.NoError(t, err)
	for _, line := range []string{"[source.files]\n", "path   = \"" + dir + "/data\"\n", `databases = ["crew.db"]`, `floor  = "1%"`,
		`full      = "each 60 min between 07:00 and 19:00 on monday to friday"`, "#1 full"} {
		require.Contains(t, string(text), line)
	}
	require.Contains(t, run(t, dir, -1, "list").stdout, "proven")

	answer, end = terminalOf(t, dir, "init", "--guided", "other.toml")
	answer("What holds", "\x03")
	said, code = end()
	require.Equal(t, 1, code, said)
	require.NoFileExists(t, filepath.Join(dir, "other.toml"))
}

// TestGuidedStartByOptions: the same without a terminal, on a server; what is missing or wrong is said before anything is
// written, and missing rights are shown as SQL.
func TestGuidedStartByOptions(t *testing.T) {
	t.Parallel()
	s := needServer(t)
	dir := t.TempDir()
	server := strings.TrimSuffix(strings.SplitN(s.URL(""), "@", 2)[1], "/")
	guided := func(code int, args ...string) *outcome {
		t.Helper()
		return run(t, dir, code, append([]string{"init", "--guided", "--engine", "postgres", "--server", server, "--rhythm", "3"}, args...)...)
	}
	require.Contains(t, guided(2, "--user", testserver.Admin).stderr, "there is none")
	require.Contains(t, guided(2, "--user", testserver.Admin, "--yes").stderr, "nothing says where the dumps go")
	query(t, s, "postgres", "CREATE ROLE newcomer LOGIN")
	defer query(t, s, "postgres", "DROP ROLE newcomer")
	lacking := guided(1, "--user", "newcomer", "--databases", "bookings", "--keep", "barn", "--yes")
	require.Contains(t, lacking.stdout, "GRANT")
	require.Contains(t, lacking.stderr, "newcomer may not read all of")
	require.NoFileExists(t, filepath.Join(dir, "grainkeep.toml"))
	done := guided(-1, "--user", testserver.Admin, "--databases", "bookings", "--keep", "barn", "--floor", "1%", "--drill-here", "--yes")
	require.Contains(t, done.stdout, "Kept: one a week for 10 weeks")
	require.Contains(t, done.stderr, "Dumped and proven in")
	require.Contains(t, run(t, dir, -1, "survey", "nightly").stdout, "bookings")
	require.Contains(t, guided(1, "--user", testserver.Admin, "--keep", "barn", "--yes").stderr, "exists already")
}

// TestTerminal: a terminal is asked nothing that it might not answer, and whoever asks there goes on after an error.
func TestTerminal(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	_, end := terminalOf(t, dir, "version")
	said, code := end()
	require.Zero(t, code)
	require.Regexp(t, `^grainkeep [^\x1b]*$`, said)
	sh(t, dir, `sqlite3 app.db "CREATE TABLE log (says TEXT); CREATE TABLE port (name TEXT); INSERT INTO port VALUES ('Skerry');
		WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3000) INSERT INTO log SELECT hex(randomblob(50)) FROM n"`)
	run(t, dir, -1, "dump", "--from", "app.db", "--to", "keep")
	sh(t, dir, "printf x | dd of=$(ls keep/adhoc/app.db/*/20-data/log/part-0001.sql.zst) bs=1 seek=9000 conv=notrunc status=none")
	answer, end := terminalOf(t, dir, "ask", "adhoc/app.db", "--from", "keep")
	answer("ask> ", "SELECT max(says) FROM log;\n")
	answer("damaged", "") // the words around it may be on other lines
	answer("ask> ", "SELECT 'it is ' || name FROM port;\n")
	answer("it is Skerry", "")
	answer("ask> ", "\x04")
	_, code = end()
	require.Zero(t, code)
}
