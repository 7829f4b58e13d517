package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// ownServer starts a server that a test may stop, with a table of some 40 MB.
func ownServer(t *testing.T) *testserver.Postgres {
	t.Helper()
	needServer(t)
	s, err := testserver.StartPostgres(ownFolder(t))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	p := onPostgres(t, s)
	p.run("", "CREATE DATABASE big")
	p.run("big", "CREATE TABLE cargo AS SELECT i, repeat(md5(i::text), 4) AS t FROM generate_series(1, 300000) i")
	return s
}

func ownFolder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "grainkeep-own-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// ownServers starts one of each kind.
func ownServers(t *testing.T) []*place {
	t.Helper()
	needMariaDB(t)
	m, err := testserver.StartMariaDB(ownFolder(t))
	require.NoError(t, err)
	t.Cleanup(func() { m.Close() })
	p := onMariaDB(t, m)
	p.run("", "CREATE DATABASE big")
	p.run("big", "CREATE TABLE cargo AS SELECT seq AS i, repeat(md5(seq), 4) AS t FROM seq_1_to_300000")
	return []*place{onPostgres(t, ownServer(t)), p}
}

// nothingLeft checks that a failed run left nothing: no dump, no working folder,
// no lock, no session, no scratch database.
func nothingLeft(t *testing.T, dir string, p *place, dumps int) {
	t.Helper()
	require.Len(t, result(t, dir, 0, "list", "--all", "--from", "keep")["result"], dumps)
	require.NoDirExists(t, filepath.Join(dir, "keep", ".work"))
	if p == nil {
		return
	}
	quiet(t, p)
	require.NotContains(t, p.databases(), "grainkeep")
}

// quiet waits until the server has noticed that its clients are gone: what one that was
// killed had asked for may still be under way.
func quiet(t *testing.T, p *place) {
	t.Helper()
	sessions := map[string]string{
		"postgres": "SELECT count(*) FROM pg_stat_activity WHERE application_name = 'grainkeep'",
		"mysql": "SELECT count(*) FROM information_schema.processlist WHERE command <> 'Daemon' AND id <> " +
			"connection_id()",
	}[p.engine]
	if sessions != "" {
		require.Eventually(t, func() bool { return p.ask("", sessions) == "0" }, patience, tick, "a session is left")
	}
}

// frozen starts a dump and stops it in the middle of writing its rows.
func frozen(t *testing.T, dir string, args ...string) (*exec.Cmd, func() *outcome) {
	t.Helper()
	cmd, _, wait := command(dir, args...)
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		// every reader is at work: the table is divided among half of the cores
		found, _ := filepath.Glob(filepath.Join(dir, "keep/.work/*/*/20-data/*/part-*.sql*"))
		for _, f := range found {
			if st, err := os.Stat(f); err != nil || st.Size() == 0 {
				return false
			}
		}
		return len(found) >= max(1, runtime.GOMAXPROCS(0)/2)
	}, patience, time.Millisecond)
	require.NoError(t, cmd.Process.Signal(syscall.SIGSTOP))
	return cmd, wait
}

func TestServerStopsAndKeepVanishesInTheMiddle(t *testing.T) {
	for _, p := range ownServers(t) {
		t.Run(p.product, func(t *testing.T) { stopsAndVanishes(t, p) })
	}
}

func stopsAndVanishes(t *testing.T, p *place) {
	s, dir := p.server, t.TempDir()
	args := []string{"dump", "--from", p.url("big"), "--to", "keep", "--compression", "none"}
	run(t, dir, 3, args...)

	cmd, wait := frozen(t, dir, args...)
	require.NoError(t, s.Stop("immediate"))
	require.NoError(t, cmd.Process.Signal(syscall.SIGCONT))
	o := wait()
	require.Equal(t, 1, o.code)
	require.Contains(t, o.stderr, "big was not dumped: ")
	require.Regexp(t,
		"the connection was lost while reading public.cargo|the server failed while reading public.cargo|reading "+
			"`cargo`: the connection to the server was lost", o.stderr)
	require.Contains(t, run(t, dir, 1, args...).stderr, "cannot reach the server")
	require.NoError(t, s.Start())
	nothingLeft(t, dir, p, 1)

	cmd, _, wait = command(dir, "drill", "adhoc/big", "--from", "keep", "--to", p.url(""))
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		return strings.Contains(p.databases(), "grainkeep")
	}, patience, tick)
	require.NoError(t, cmd.Process.Signal(syscall.SIGSTOP))
	require.NoError(t, s.Stop("immediate"))
	require.NoError(t, cmd.Process.Signal(syscall.SIGCONT))
	require.Equal(t, 1, wait().code, "that says nothing about the dump")
	require.NoDirExists(t, filepath.Join(dir, "keep", "proofs"))
	require.NoError(t, s.Start())
	run(t, dir, 3, "drill", "adhoc/big", "--from", "keep", "--to", p.url("")) // it removes what was left
	nothingLeft(t, dir, p, 1)

	cmd, wait = frozen(t, dir, args...)
	keep, away := filepath.Join(dir, "keep"), filepath.Join(dir, "away")
	require.NoError(t, os.Rename(keep, away))
	require.NoError(t, cmd.Process.Signal(syscall.SIGCONT))
	o = wait()
	require.Equal(t, 1, o.code)
	require.Contains(t, o.stderr, "went away while a dump was written")
	require.NoDirExists(t, keep, "nothing was written where the keep had been")
	require.NoError(t, os.Rename(away, keep))
	run(t, dir, 3, args...) // it cleans up
	nothingLeft(t, dir, p, 2)
}

func TestDiskFull(t *testing.T) {
	for _, p := range ownServers(t) {
		t.Run(p.product, func(t *testing.T) { diskFull(t, p) })
	}
}

func diskFull(t *testing.T, p *place) {
	dir := t.TempDir()
	args := []string{"dump", "--from", p.url("big"), "--to", "keep", "--compression", "none"}
	cmd := exec.Command("sh", "-c", `ulimit -f 2048; exec "$0" "$@"`, program)
	cmd.Args = append(cmd.Args, args...)
	cmd.Dir, cmd.Env = dir, []string{"HOME=" + dir, "PATH=" + os.Getenv("PATH")}
	out, err := cmd.CombinedOutput()
	require.Error(t, err)
	require.Equal(t, 1, cmd.ProcessState.ExitCode())
	require.Contains(t, string(out), "larger than the keep")
	nothingLeft(t, dir, p, 0)

	run(t, dir, 0, "init")
	config := fmt.Sprintf("[source.s]\nengine = %q\nserver = %q\nuser = %q\n[keep.k]\nfolder = \"keep\"\nfloor = "+
		"\"99%%\"\n[job.j]\nsource = \"s\"\nkeep = \"k\"\n", p.engine, p.at(), testserver.Admin)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte(config), 0o600))
	o := run(t, dir, 1, "dump", "j")
	require.Contains(t, o.stderr, "the floor of the keep")
	require.Contains(t, run(t, dir, 1, "survey", "j").stderr, "the floor of the keep")
	nothingLeft(t, dir, p, 0)

	tmpfs := filepath.Join(dir, "small")
	require.NoError(t, os.Mkdir(tmpfs, 0o755))
	if err := syscall.Mount("tmpfs", tmpfs, "tmpfs", 0, "size=4m"); err != nil {
		t.Logf("no small file system can be mounted here (%v); the file-size limit was tested", err)
		return
	}
	defer syscall.Unmount(tmpfs, 0)
	o = run(t, tmpfs, 1, args...)
	require.Contains(t, o.stderr, "is full")
	require.Contains(t, o.stderr, "the dumps will take about")
	nothingLeft(t, tmpfs, p, 0)
}

func TestSignalsEndCleanly(t *testing.T) {
	for _, p := range ownServers(t) {
		for sig, name := range map[syscall.Signal]string{syscall.SIGINT: "SIGINT", syscall.SIGTERM: "SIGTERM"} {
			t.Run(p.product+" "+name, func(t *testing.T) { signalled(t, p, sig, name) })
		}
	}
}

// signalled stops a dump that waits for a lock, one that writes rows, and a drill.
func signalled(t *testing.T, p *place, sig syscall.Signal, name string) {
	dir := t.TempDir()
	dump := []string{"dump", "--from", p.url("big"), "--to", "keep"}
	release := p.lock("big", "cargo")
	cmd, _, wait := command(dir, dump...)
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return p.ask("", p.waits) == "1" }, patience, tick)
	began := time.Now()
	require.NoError(t, cmd.Process.Signal(sig))
	o := wait()
	t.Logf("ended after %s", time.Since(began))
	require.Equal(t, 1, o.code)
	require.Contains(t, o.stderr, "stopped by "+name)
	release()
	nothingLeft(t, dir, p, 0)

	cmd, wait = frozen(t, dir, append(dump, "--compression", "none")...)
	require.NoError(t, cmd.Process.Signal(sig))
	require.NoError(t, cmd.Process.Signal(syscall.SIGCONT))
	require.Equal(t, 1, wait().code)
	nothingLeft(t, dir, p, 0)
	run(t, dir, 3, dump...)
	cmd, _, wait = command(dir, "drill", "adhoc/big", "--from", "keep", "--to", p.url(""))
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return strings.Contains(p.databases(), "grainkeep") }, patience, tick)
	require.NoError(t, cmd.Process.Signal(sig))
	require.Equal(t, 1, wait().code)
	nothingLeft(t, dir, p, 1)
}

// TestKilledAtAnyMoment kills dumps, fulls and increments in turns, at random moments. What is listed must
// verify, and the next run must leave nothing behind.
func TestKilledAtAnyMoment(t *testing.T) {
	for _, p := range everyEngine(t) {
		t.Run(p.product, func(t *testing.T) { killed(t, p) })
	}
}

func killed(t *testing.T, p *place) {
	p.need(t)
	dir := t.TempDir()
	args := []string{"dump", "--from", p.url("bookings"), "--to", "keep"}
	began := time.Now()
	run(t, dir, -1, args...)
	span := time.Since(began)
	r := rand.New(rand.NewPCG(5, 5))
	killed, listed := 0, 0
	kinds := []string{"full", "incremental"}
	for i := range 20 {
		cmd, _, wait := command(dir, append(args, "--kind", kinds[i%2])...)
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(r.Int64N(int64(span))))
		require.NoError(t, cmd.Process.Kill())
		if wait().code == -1 {
			killed++
		}
		listed = len(result(t, dir, 0, "list", "--all", "--from", "keep")["result"].([]any))
		run(t, dir, 0, "verify", "--from", "keep")
	}
	require.Greater(t, killed, 5)
	o := run(t, dir, -1, append(args, "--kind", "incremental")...)
	require.Contains(t, o.stdout, "-incremental")
	nothingLeft(t, dir, p, listed+1)
	run(t, dir, 0, "drill", lines(o.stdout)[0], "--to", p.url(""))

	killed = 0
	for range 8 { // a drill that is killed leaves a database; the next one drops it
		cmd, _, wait := command(dir, "drill", "adhoc", "--from", "keep", "--to", p.url(""))
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(30+r.IntN(300)) * time.Millisecond)
		require.NoError(t, cmd.Process.Kill())
		if wait().code == -1 {
			killed++
		}
	}
	require.Positive(t, killed)
	quiet(t, p)
	require.Eventually(t, func() bool {
		cmd, _, wait := command(dir, "drill", "adhoc", "--from", "keep", "--to", p.url(""))
		require.NoError(t, cmd.Start())
		o := wait()
		return o.code == 0 && !strings.Contains(o.stderr, "removed the scratch database")
	}, 3*patience, tick)
	nothingLeft(t, dir, p, listed+1)
}

// peak runs the program and follows its largest resident size, in bytes. (The
// figure of wait4 would count the test's own memory before the program started.)
func peak(t *testing.T, dir string, code int, args ...string) (most int64) {
	t.Helper()
	cmd, _, wait := command(dir, args...)
	return peakOf(t, cmd, wait, code)
}

func peakOf(t *testing.T, cmd *exec.Cmd, wait func() *outcome, code int) (most int64) {
	t.Helper()
	require.NoError(t, cmd.Start())
	done := make(chan *outcome)
	go func() { done <- wait() }()
	for {
		status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid))
		if _, after, ok := strings.Cut(string(status), "VmHWM:"); ok {
			var kib int64
			fmt.Sscan(after, &kib)
			most = max(most, kib<<10)
		}
		select {
		case o := <-done:
			require.Equal(t, code, o.code, o.stderr)
			require.Positive(t, most)
			return most
		case <-time.After(2 * time.Millisecond):
		}
	}
}

// TestMemoryStaysSmall dumps and drills a large table, and values of 64 MiB.
func TestMemoryStaysSmall(t *testing.T) {
	s := ownServer(t)
	dir := t.TempDir()
	query(t, s, "big", `INSERT INTO cargo SELECT i, md5(i::text) FROM generate_series(1, 1500000) i;
		CREATE TABLE photo AS SELECT decode(repeat(md5(i::text), 2 * 1024 * 1024), 'hex') AS b, repeat('y', 64 *
			1024 * 1024) AS t FROM generate_series(1, 2) i`)
	require.LessOrEqual(t, peak(t, dir, 3, "dump", "--from", s.URL("big"), "--to", "keep"), int64(96<<20),
		"rows and values are streamed")
	parts, err := filepath.Glob(filepath.Join(dir, "keep/adhoc/big/*/20-data/public.photo/part-*"))
	require.NoError(t, err)
	require.Len(t, parts, 2, "the next row begins another file after 64 MiB")
	require.LessOrEqual(t, peak(t, dir, 0, "drill", "adhoc/big", "--from", "keep", "--to", s.URL("")), int64(96<<20),
		"and they come back so")
	for _, p := range ownServers(t)[1:] {
		p.run("", "SET GLOBAL max_allowed_packet = 1073741824")
		p.run("big", `INSERT INTO cargo SELECT seq, repeat(md5(seq), 4) FROM seq_1_to_900000;
			CREATE TABLE photo (id varchar(9) PRIMARY KEY, b longblob, t longtext) AS SELECT concat('no. ', seq) id,
				unhex(repeat(md5(seq), 4 * 1024 * 1024)) b, repeat('y', 64 * 1024 * 1024) t FROM seq_1_to_1`)
		p.run("", "SET GLOBAL max_allowed_packet = 16777216") // values may be larger than a packet now
		require.LessOrEqual(t, peak(t, dir, 3, "dump", "--from", p.url("big"), "--to", "keep", "--job", p.engine),
			int64(96<<20))
		require.LessOrEqual(t, peak(t, dir, 0, "drill", p.engine+"/big", "--from", "keep", "--to", p.url("")),
			int64(96<<20))
	}
	path := filepath.Join(dir, "big.db")
	makeFile(t, path,
		"CREATE TABLE photo (v); INSERT INTO photo VALUES (randomblob(67108864)), (printf('%.*c', 67108864, 'y'))")
	require.LessOrEqual(t, peak(t, dir, 3, "dump", "--from", path, "--to", "keep", "--job", "file"),
		int64((96+64)<<20), "the library holds one value; the program does not")
}
