package test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// simulated is a machine, as far as processes can be one: all of its processes are known by a variable of their environment.
type simulated struct {
	dir, name string
	env       []string
	log       *bytes.Buffer
	cmd       *exec.Cmd
}

func (h *simulated) start(t *testing.T) {
	t.Helper()
	h.cmd = exec.Command(program, "schedule", "serve")
	h.cmd.Dir, h.cmd.Env = h.dir, append([]string{"PATH=" + os.Getenv("PATH"), "HOME=" + h.dir, "TZ=UTC", "SIMULATED=" + h.name}, h.env...)
	h.cmd.Stdout, h.cmd.Stderr = h.log, h.log
	require.NoError(t, h.cmd.Start())
}

// processes are all of the machine, as folders of /proc.
func (h *simulated) processes() (list []string) {
	all, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, path := range all {
		env, err := os.ReadFile(path)
		if err == nil && bytes.Contains(append([]byte{0}, env...), []byte("\x00SIMULATED="+h.name+"\x00")) {
			list = append(list, filepath.Dir(path))
		}
	}
	return list
}

// signal is heard by all processes of the machine.
func (h *simulated) signal(s syscall.Signal) {
	for _, p := range h.processes() {
		if pid, err := strconv.Atoi(filepath.Base(p)); err == nil {
			_ = syscall.Kill(pid, s) // it may be gone
		}
	}
}

// busy says whether the machine dumps.
func (h *simulated) busy() bool {
	for _, p := range h.processes() {
		words, err := os.ReadFile(filepath.Join(p, "cmdline"))
		if err == nil && bytes.Contains(words, []byte("\x00dump\x00")) {
			return true
		}
	}
	return false
}

// lose kills the machine, and starts it again later.
func (h *simulated) lose(t *testing.T, away time.Duration) {
	t.Helper()
	h.signal(syscall.SIGKILL)
	_ = h.cmd.Wait() // it was killed
	time.Sleep(away)
	h.start(t)
}

// busyOne is a machine that dumps; nil: none does.
func busyOne(all []*simulated, random *rand.Rand) *simulated {
	for _, i := range random.Perm(len(all)) {
		if all[i].busy() {
			return all[i]
		}
	}
	return nil
}

func number(t *testing.T, name string, otherwise int) int {
	t.Helper()
	text := os.Getenv(name)
	if text == "" {
		return otherwise
	}
	n, err := strconv.Atoi(text)
	require.NoError(t, err)
	return n
}

// TestHosts: machines that share a journal and a keep share what is due. Whichever are lost, cut off for a while, or started
// again, everything that was due is done once. GRAINKEEP_HOSTS and GRAINKEEP_MINUTES make it a larger one.
func TestHosts(t *testing.T) {
	t.Parallel()
	needServer(t)
	hosts, minutes := number(t, "GRAINKEEP_HOSTS", 5), number(t, "GRAINKEEP_MINUTES", 2)
	const jobs = 4
	store, err := testserver.StartS3(ownFolder(t))
	if err != nil {
		t.Skip(err)
	}
	t.Cleanup(func() { store.Close() })
	ledger, err := testserver.StartPostgres(ownFolder(t))
	require.NoError(t, err)
	t.Cleanup(func() { ledger.Close() })
	query(t, ledger, "postgres", "CREATE DATABASE journal")
	data := t.TempDir()
	config := fmt.Sprintf("[journal]\nfolder = \"state\"\nsource = \"ledger\"\ndatabase = \"journal\"\n"+
		"[schedule]\nat_once = 1\ntakeover = \"15 s\"\n"+
		"[source.ledger]\nengine = \"postgres\"\nserver = \"127.0.0.1:%d\"\nuser = %q\n[keep.barn]\nstore = \"s3://barn/dumps\"\nendpoint = "+
		"\"http://127.0.0.1:%d\"\nregion = \"us-east-1\"\n", ledger.Port, testserver.Admin, store.Port)
	for i := range jobs {
		sh(t, data, fmt.Sprintf("sqlite3 d%d.db \"CREATE TABLE t (id INTEGER PRIMARY KEY, v BLOB); INSERT INTO t SELECT value, randomblob(500) FROM "+
			"generate_series(1, 12000)\"", i))
		config += fmt.Sprintf("[source.s%d]\nengine = \"sqlite\"\npath = %q\n[job.j%d]\nsource = \"s%d\"\nkeep = \"barn\"\nfull = \"each 1 min\"\nrate = "+
			"\"1 MiB/s\"\ncompression = \"none\"\n", i, filepath.Join(data, fmt.Sprintf("d%d.db", i)), i, i)
	}
	env := []string{"AWS_ACCESS_KEY_ID=" + testserver.S3User, "AWS_SECRET_ACCESS_KEY=" + testserver.S3Secret}
	var all []*simulated
	store.URL("barn", "dumps") // makes the bucket
	for i := range hosts {
		h := &simulated{dir: t.TempDir(), name: fmt.Sprintf("%s-%d", filepath.Base(data), i), env: env, log: &bytes.Buffer{}}
		require.NoError(t, os.WriteFile(filepath.Join(h.dir, "grainkeep.toml"), []byte(config), 0o600))
		all = append(all, h)
	}
	sh(t, all[0].dir, program+" keep create barn", env...)
	for _, h := range all {
		h.start(t)
		t.Cleanup(func() { h.signal(syscall.SIGKILL) })
	}
	random := rand.New(rand.NewPCG(5, 6))
	time.Sleep(3 * time.Second)
	from := time.Now().Truncate(time.Minute).Add(time.Minute)
	until := from.Add(time.Duration(minutes-1) * time.Minute)
	others := all[1:] // the first is always there, so that nothing is too late
	var h *simulated
	require.Eventually(t, func() bool { h = busyOne(others, random); return h != nil }, 100*time.Second, 50*time.Millisecond)
	h.lose(t, 20*time.Second) // for longer than the silence: what it did is surely taken over; the rest is chance
	for time.Now().Before(until.Add(10 * time.Second)) {
		if h = busyOne(others, random); h == nil {
			h = others[random.IntN(len(others))]
		}
		if random.IntN(3) > 0 {
			h.lose(t, time.Duration(random.IntN(6))*time.Second)
		} else {
			h.signal(syscall.SIGSTOP)
			time.Sleep(time.Duration(8+random.IntN(10)) * time.Second)
			h.signal(syscall.SIGCONT)
		}
		time.Sleep(time.Duration(random.IntN(4)) * time.Second)
	}
	within := fmt.Sprintf("due >= %d AND due <= %d", from.UnixMicro(), until.UnixMicro())
	require.Eventually(t, func() bool {
		return query(t, ledger, "journal", "SELECT count(*) FROM turn WHERE "+within+" AND ended = 0") == "0"
	}, 150*time.Second, time.Second, "something is never done")
	for _, h := range all {
		_ = h.cmd.Process.Signal(syscall.SIGTERM) // it may have ended
	}
	said := ""
	for _, h := range all {
		_ = h.cmd.Wait()
		said += h.log.String()
	}
	turns := query(t, ledger, "journal", "SELECT job, due, result FROM turn WHERE "+within+" ORDER BY job, due")
	require.Len(t, strings.Split(turns, "\n"), jobs*minutes, "%s\n%s", turns, said)
	for l := range strings.SplitSeq(turns, "\n") {
		require.Regexp(t, `\|(good|done)$`, l, said)
	}
	require.Equal(t, "0", query(t, ledger, "journal", "SELECT count(*) FROM turn WHERE result NOT IN ('good', 'done') AND ended > 0"), said)
	dumps := strings.Fields(sh(t, all[0].dir, program+" list --all --json | grep -o '\"moment\":\"[^\"]*\"' | cut -d'\"' -f4", env...))
	count := 0
	for _, d := range dumps {
		at, err := time.Parse(time.RFC3339Nano, d)
		require.NoError(t, err)
		if !at.Before(from) {
			count++
		}
	}
	// "done" is what a lost machine had done, or what a later dump of the same job stands for.
	since := query(t, ledger, "journal", fmt.Sprintf("SELECT count(*) FILTER (WHERE result = 'good'), count(*) FROM turn WHERE due >= %d AND ended > 0",
		from.UnixMicro()))
	var good, every int
	_, err = fmt.Sscanf(since, "%d|%d", &good, &every)
	require.NoError(t, err)
	require.True(t, good <= count && count <= every, "%d dumps, %d good turns of %d: %v\n%s\n%s", count, good, every, dumps, turns, said)
	over := strings.Count(said, "is taken over")
	require.Positive(t, over, "a machine was lost while it dumped\n%s", said)
	t.Logf("%d machines, %d jobs, %d minutes; %d taken over", hosts, jobs, minutes, over)
}
