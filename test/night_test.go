package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// shared is a buffer that a process writes into while a test reads it.
type shared struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *shared) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *shared) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// served is a 'schedule serve' that runs.
type served struct {
	cmd *exec.Cmd
	out *shared
}

func serve(t *testing.T, dir string) *served {
	t.Helper()
	cmd, _, _ := command(dir, "schedule", "serve")
	s := &served{cmd: cmd, out: &shared{}}
	cmd.Stdout, cmd.Stderr = s.out, s.out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	s.says(t, "serving the schedule")
	return s
}

func (s *served) says(t *testing.T, what string) {
	t.Helper()
	require.Eventually(t, func() bool { return strings.Contains(s.out.String(), what) }, 3*patience, tick, "%s\n%s",
		what, s.out)
}

// history gives the runs of a journal that ended, the newest first, as COMMAND JOB RESULT.
func history(t *testing.T, dir string, args ...string) (list []string) {
	t.Helper()
	v := result(t, dir, 0, append([]string{"history"}, args...)...)
	for _, r := range v["result"].([]any) {
		x := r.(map[string]any)
		list = append(list, fmt.Sprint(x["command"], " ", x["job"], " ", x["started_by"], " ", x["result"]))
	}
	return list
}

// TestAScheduleIsServed: against a private server that goes away and comes back; called from outside with a right and
// a wrong token, reloaded, killed, started again, stopped.
func TestAScheduleIsServed(t *testing.T) {
	if absent != nil {
		t.Skip("no PostgreSQL: ", absent)
	}
	base, err := os.MkdirTemp("", "grainkeep-test-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(base, 0o755))
	t.Cleanup(func() { os.RemoveAll(base) })
	own, err := testserver.StartPostgres(base)
	require.NoError(t, err)
	t.Cleanup(func() { own.Close() })
	query(t, own, "postgres", "CREATE DATABASE bookings")
	query(t, own, "bookings", "CREATE TABLE t AS SELECT i FROM generate_series(1, 1000) i")

	var calls shared // what a receiver on loopback is told
	receiver := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		io.Copy(&calls, r.Body)
	}))
	t.Cleanup(receiver.Close)
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := free.Addr().String()
	require.NoError(t, free.Close())

	dir := t.TempDir()
	token := strings.TrimSpace(run(t, dir, 0, "schedule", "token").stdout)
	hash := strings.Fields(sh(t, dir, "printf %s '"+token+"' | sha256sum"))[0]
	user, at, _ := strings.Cut(strings.TrimPrefix(own.URL(""), "postgres://"), "@")
	config := func(full string) {
		t.Helper()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), fmt.Appendf(nil, `[journal]
folder = "state"
[schedule]
listen = %q
token_sha256 = %q
[source.quay]
engine = "postgres"
server = %q
user = %q
[keep.barn]
folder = "barn"
[job.nightly]
source = "quay"
databases = ["bookings"]
keep = "barn"
accept = ["same-file-system"]
full = %q
[[job.nightly.before]]
run = ["sh", "-c", "echo down > service; test ! -e hang || exec sleep 600"]
[[job.nightly.after]]
run = ["sh", "-c", "echo up > service"]
[tell.hook]
by = "webhook"
url = "%s"
on = ["failure", "recovery"]
`, address, hash, strings.TrimSuffix(at, "/"), user, full, receiver.URL), 0o600))
	}
	config("03:00")
	run(t, dir, 0, "keep", "create", "barn")
	require.NotContains(t, string(must(os.ReadFile(filepath.Join(dir, "grainkeep.toml")))), token)
	s := serve(t, dir)
	call := func(token string) int {
		req, err := http.NewRequest("POST", "http://"+address+"/run/nightly", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		return res.StatusCode
	}
	require.Equal(t, 401, call("wrong"))
	require.Equal(t, 202, call(token))
	s.says(t, "full dump of nightly is done")
	require.Equal(t, []string{"dump nightly call good"}, history(t, dir, "nightly"))
	require.NotContains(t, s.out.String(), token)
	res, err := http.Get("http://" + address + "/metrics")
	require.NoError(t, err)
	metrics := must(io.ReadAll(res.Body))
	require.Contains(t, string(metrics), `grainkeep_dump_rows{database="bookings",job="nightly"} 1000`)

	// The server goes away and comes back; people are told once of each.
	require.NoError(t, own.Stop("immediate"))
	for range 2 {
		before := strings.Count(s.out.String(), "full dump of nightly failed")
		require.Equal(t, 202, call(token))
		require.Eventually(t, func() bool {
			return strings.Count(s.out.String(), "full dump of nightly failed") > before
		}, 3*patience, tick)
		require.Eventually(t, func() bool { return len(history(t, dir, "--result", "running")) == 0 }, patience, tick)
	}
	require.NoError(t, own.Start())
	require.Equal(t, 202, call(token))
	require.Eventually(t, func() bool { return strings.Contains(calls.String(), `"kind":"recovery"`) }, 3*patience,
		tick, s.out)
	require.Equal(t, 1, strings.Count(calls.String(), `"kind":"failure"`), calls.String())
	var told map[string]any
	require.NoError(t, json.NewDecoder(strings.NewReader(calls.String())).Decode(&told))
	require.Equal(t, "source-unreachable", told["code"])

	// A configuration that is wrong is not taken over; one that is right is, and what is due by it is done.
	config("each 1 fortnight")
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGHUP))
	s.says(t, "the configuration was not taken over, and the one before stays")
	config("* * * * *")
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGHUP))
	s.says(t, "the full dump of nightly is now due")

	// Everything is killed in the middle of a step that hangs: the service is down, and the next start brings it up.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "hang"), nil, 0o600))
	require.NoError(t, os.Remove(filepath.Join(dir, "service")))
	service := func() string {
		data, err := os.ReadFile(filepath.Join(dir, "service"))
		if err != nil {
			return ""
		}
		return strings.TrimSpace(string(data))
	}
	require.Eventually(t, func() bool {
		call(token) // which is refused while the one before, or the minute's own, is under way
		return service() == "down"
	}, 3*patience, 20*tick, s.out)
	require.NoError(t, s.cmd.Process.Kill())
	s.cmd.Wait()
	require.NoError(t, exec.Command("pkill", "-9", "-f", filepath.Join(dir,
		"grainkeep.toml")+" --quiet dump nightly").Run())
	require.NoError(t, os.Remove(filepath.Join(dir, "hang")))
	config("03:00")
	s = serve(t, dir)
	require.Eventually(t, func() bool { return service() == "up" }, patience, tick, s.out)
	require.Contains(t, s.out.String(), "did not end properly")
	require.Regexp(t, "(?m)^dump nightly (call|schedule) killed$", strings.Join(history(t, dir), "\n"),
		"the call's run, or the minute's own")
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGTERM))
	s.says(t, "stopped")
	require.NoError(t, s.cmd.Wait())
	left, err := os.ReadDir(filepath.Join(dir, "state", "undone"))
	require.NoError(t, err)
	require.Empty(t, left)
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// TestOneRunAtATime: the second says who holds the job and since when, or waits as long as it is told to.
func TestOneRunAtATime(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte(`[journal]
folder = "state"
[keep.barn]
folder = "barn"
[job.papers]
keep = "barn"
accept = ["same-file-system"]
[[job.papers.files]]
name = "papers"
folder = "papers"
[[job.papers.before]]
run = ["sh", "-c", "touch begun; while [ ! -e go ]; do sleep 0.01; done"]
limit = "1 min"
`), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "papers"), 0o755))
	run(t, dir, 0, "keep", "create", "barn")
	first, _, wait := command(dir, "dump", "papers")
	require.NoError(t, first.Start())
	require.Eventually(t, func() bool { _, err := os.Stat(filepath.Join(dir, "begun")); return err == nil }, patience,
		tick)
	o := run(t, dir, 6, "dump", "papers")
	require.Contains(t, o.stderr, fmt.Sprintf("the job papers is already running: process %d on ", first.Process.Pid))
	require.Contains(t, o.stderr, ", since 20")
	require.Contains(t, run(t, dir, 6, "dump", "papers", "--wait", "1 s").stderr,
		"waited 1.0 s: the job papers is already running")
	second, _, wait2 := command(dir, "dump", "papers", "--wait", "1 min")
	var said shared
	second.Stderr = &said
	require.NoError(t, second.Start())
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "waiting for it, at most 1 m 00 s") },
		patience, tick)
	follow, _, wait3 := command(dir, "history", "--follow")
	require.NoError(t, follow.Start())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go"), nil, 0o600))
	require.Equal(t, 0, wait().code)
	o = wait2()
	require.Equal(t, 0, o.code, said.String())
	require.Equal(t, []string{"dump papers hand refused", "dump papers hand refused"}, history(t, dir, "--result",
		"refused"))
	require.NoError(t, follow.Process.Signal(syscall.SIGINT))
	o = wait3()
	require.Equal(t, 0, o.code, o.stderr)
	require.Contains(t, o.stdout, "dump papers  ")
}

// TestTheMorningIsSent: the summary counts what is dumped by its name, and tells what failed although all is well now.
func TestTheMorningIsSent(t *testing.T) {
	var calls shared
	receiver := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		io.Copy(&calls, r.Body)
	}))
	t.Cleanup(receiver.Close)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), fmt.Appendf(nil, `[journal]
folder = "state"
[keep.barn]
folder = "barn"
[job.letters]
keep = "barn"
accept = ["same-file-system"]
[[job.letters.files]]
name = "papers"
folder = "papers"
[tell.hook]
by = "webhook"
url = "%s"
on = ["success"]
`, receiver.URL), 0o600))
	run(t, dir, 0, "keep", "create", "barn")
	run(t, dir, 1, "dump", "letters")
	require.NoError(t, os.Mkdir(filepath.Join(dir, "papers"), 0o755))
	run(t, dir, 0, "dump", "letters")
	require.Contains(t, calls.String(), "\"+files-papers: ", "a folder has no rows")
	require.NotContains(t, calls.String(), "0 rows")
	require.Contains(t, run(t, dir, 0, "tell", "--summary").stderr, "hook: the summary has been sent")
	require.Contains(t, calls.String(), `"title":"1 folder, all good; 1 run failed since yesterday"`)
}

// TestAJournalThatMachinesShare: it is in a database of a server, and the logs stay here.
func TestAJournalThatMachinesShare(t *testing.T) {
	s := needServer(t)
	dropDatabases(t, s, "journal")
	query(t, s, "postgres", "CREATE DATABASE journal")
	defer dropDatabases(t, s, "journal")
	user, at, _ := strings.Cut(strings.TrimPrefix(s.URL(""), "postgres://"), "@")
	for _, machine := range []string{"one", "two"} {
		dir := t.TempDir()
		require.NoError(t, os.Mkdir(filepath.Join(dir, "papers"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), fmt.Appendf(nil, `[journal]
folder = "state"
source = "quay"
database = "journal"
[source.quay]
engine = "postgres"
server = %q
user = %q
[keep.barn]
folder = "barn"
[job.%s]
keep = "barn"
accept = ["same-file-system"]
[[job.%s.files]]
name = "papers"
folder = "papers"
`, strings.TrimSuffix(at, "/"), user, machine, machine), 0o600))
		run(t, dir, 0, "keep", "create", "barn")
		run(t, dir, 0, "dump", machine)
		require.Len(t, must(os.ReadDir(filepath.Join(dir, "state", "logs"))), 2)
		if machine == "two" {
			require.ElementsMatch(t, []string{"dump one hand good", "dump two hand good"}, history(t, dir, "--command",
				"dump"))
		}
		// Losing it loses no dump.
		require.Contains(t, run(t, dir, 0, "list").stdout, machine+"/+files-papers")
	}
	query(t, s, "journal", "DROP TABLE run")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), fmt.Appendf(nil,
		"[journal]\nfolder = \"s\"\nsource = \"q\"\ndatabase = \"journal\"\n"+
			"[source.q]\nengine = \"postgres\"\nserver = %q\nuser = %q\n[keep.barn]\nfolder = \"barn\"\n",
		strings.TrimSuffix(at, "/"), user), 0o600))
	o := run(t, dir, 3, "keep", "create", "barn")
	require.Contains(t, o.stderr, "warning: this run is not noted in the journal")
}
