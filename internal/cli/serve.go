package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/spf13/cobra"

	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/journal"
	"grainkeep/internal/phrase"
	"grainkeep/internal/schedule"
	"grainkeep/internal/system"
	"grainkeep/internal/web"
)

func (a *app) scheduleServeCommand() *cobra.Command {
	return explain(&cobra.Command{
		Use: "serve", Short: "Stay in the foreground, and run what is due",
		Args: args(0, 0, ""),
		RunE: func(*cobra.Command, []string) error { return a.serve() },
	}, usage{`Runs what is due, each job one thing at a time, until it is stopped; made for a service
manager. Runs that were missed while the machine was off are made up for, once. SIGHUP
reads the configuration again. A stop lets what is under way end cleanly.`, [2]string{"grainkeep schedule serve",
		"grainkeep --config /etc/grainkeep/grainkeep.toml schedule serve"}})
}

// night is a schedule that is being served.
type night struct {
	a       *app
	path    string // of the configuration
	program string
	server  *schedule.Server
	feed    *event.Feed

	mu     sync.Mutex
	f      *config.File
	looked time.Time  // when the loop last looked at the clock
	turns  *turns     // of a shared journal; nil: this machine has its own
	slots  []job.Slot // what servers held back of their logs, at the last look

	watching atomic.Bool // it is being looked at
	watched  time.Time   // when it was looked at last

	rounds  atomic.Bool // one is under way
	checked time.Time   // when it was last looked for what is stale

	read    sync.Mutex // guards what is measured
	reading web.Reading
	readAt  time.Time
}

// lively is after how long without a look at the clock the loop counts as stuck.
const lively = 3 * time.Minute

func (a *app) serve() error {
	if !system.Programs {
		return system.Lacks("a schedule cannot be served", "let the system's own task scheduler start 'grainkeep dump JOB'")
	}
	f, err := a.needConfig()
	if err != nil {
		return err
	}
	plans, err := plansOf(f, nil)
	if err != nil {
		return err
	}
	n := &night{a: a, f: f, looked: clock.Now()}
	if n.path, err = filepath.Abs(f.Path()); err != nil {
		return err
	}
	if n.program, err = os.Executable(); err != nil {
		return err
	}
	last, err := a.lastRuns(f, plans)
	if err != nil {
		return err
	}
	if n.turns, err = n.shared(f); err != nil {
		return err
	}
	if n.turns != nil {
		defer n.turns.journal.Close() // nothing is lost by it
	}
	a.serving = true // what it tells from now on is no outcome of this command
	a.makeGood(f, false)
	for _, e := range a.leave() { // what comes is done by others, and for long
		a.mention(e)
	}
	n.feed = &event.Feed{}
	n.feed.Listen(n.hear)
	agenda := schedule.NewAgenda(plans, f.Zone(), last, clock.Now())
	n.server = schedule.NewServer(agenda, schedule.Serving{Start: n.start, Clock: schedule.RealClock{}, Feed: n.feed,
		AtOnce: f.Schedule.AtOnce, Each: n.each})
	stop, err := n.listen()
	if err != nil {
		return err
	}
	defer stop()
	a.onHangup(n.reload)
	a.say("serving the schedule of %s; next: %s", n.path, n.next())
	n.notify(daemon.SdNotifyReady)
	done := make(chan struct{})
	go n.watchdog(done)
	n.server.Run(a.ctx)
	if n.turns != nil {
		n.turns.work.Wait()
	}
	close(done)
	n.notify(daemon.SdNotifyStopping)
	a.say("stopped")
	return nil
}

// notify tells systemd, where it has started this.
func (n *night) notify(state string) {
	if _, err := daemon.SdNotify(false, state); err != nil {
		n.a.warn("not-notified", "the service manager could not be told: %v", err)
	}
}

// watchdog shows systemd that the loop is alive, as often as it wants that.
func (n *night) watchdog(done <-chan struct{}) {
	every, err := daemon.SdWatchdogEnabled(false)
	if err != nil || every == 0 {
		return
	}
	tick := time.NewTicker(every / 3)
	defer tick.Stop()
	for {
		select {
		case <-done:
			return
		case <-tick.C:
			if n.alive() {
				n.notify(daemon.SdNotifyWatchdog)
			}
		}
	}
}

func (n *night) alive() bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return clock.Since(n.looked) < lively
}

func (n *night) config() *config.File {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.f
}

// hear shows what happens.
func (n *night) hear(e event.Event) {
	switch e := e.(type) {
	case event.Warning:
		n.a.warn(e.Code, "%s", e.Text())
	case schedule.Ended:
		if e.Err != nil {
			n.a.tell(fmt.Sprintf("%s\n", phrase.Clean(e.Text())))
		} else {
			n.a.say("%s, after %s", e.Text(), phrase.Duration(e.Took))
		}
	default:
		n.a.say("%s", e.Text())
	}
	if n.a.log != nil {
		event.ToLog(n.a.log)(e)
	}
}

// next says what is due next.
func (n *night) next() string {
	f := n.config()
	plans, err := plansOf(f, nil)
	if err != nil {
		return "nothing"
	}
	due := schedule.Next(plans, func(string, schedule.What) time.Time { return time.Time{} }, clock.Now(), f.Zone(), 1)
	if len(due) == 0 {
		return "nothing"
	}
	return fmt.Sprintf("the %s of %s at %s", due[0].What, due[0].Job, phrase.Local(due[0].At, f.Zone()))
}

// start does something that is due, if it is this machine's to do.
func (n *night) start(ctx context.Context, d schedule.Due) error {
	if n.turns != nil && !d.Called {
		return n.turns.do(ctx, d)
	}
	return n.startNow(ctx, d)
}

// startNow does something in a process of its own, as 'grainkeep dump JOB' would: what goes wrong there stays there.
func (n *night) startNow(ctx context.Context, d schedule.Due) error {
	words := append([]string{"--config", n.path, "--quiet"}, schedule.Plan{Job: d.Job, What: d.What}.Words()...)
	cmd := exec.CommandContext(ctx, n.program, words...)
	by := "schedule"
	if d.Called {
		by = "call"
	}
	cmd.Env = append(os.Environ(), startedBy+"="+by)
	system.Group(cmd) // a key press in our terminal stops us, and we stop it
	cmd.Cancel = func() error { return system.End(cmd.Process) }
	out, err := cmd.StderrPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	n.relay(d.Job, out)
	return exitError(cmd.Wait())
}

// relay shows what a process says.
func (n *night) relay(of string, out io.Reader) {
	s := bufio.NewScanner(out)
	s.Buffer(nil, 1<<20)
	for s.Scan() {
		n.a.tell(fmt.Sprintf("%s: %s\n", of, phrase.Clean(s.Text())))
	}
	_, _ = io.Copy(io.Discard, out) // a line that was too long must not hold it up
}

var errRunning = errors.New("somebody else runs it already")

// exitError is what the exit code of a process means; nil: it is done.
func exitError(err error) error {
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		return err
	}
	switch code := exit.ExitCode(); fault.Class(code) {
	case fault.Done, fault.Warned:
		return nil
	case fault.Running:
		return errRunning
	case fault.ProvenBad:
		return errors.New("a dump was found to be bad")
	case -1:
		return errors.New("its process was killed")
	default:
		return fmt.Errorf("exit code %d; 'grainkeep history' says more", code)
	}
}

// listen serves the address that the configuration names. The returned function ends that.
func (n *night) listen() (func(), error) {
	at := n.f.Schedule.Listen
	if at == "" {
		return func() {}, nil
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return nil, fault.New("listen-failed", err, "cannot listen on %s",
			at).Advise("see what else listens there, or choose another port")
	}
	if host, _, err := net.SplitHostPort(at); err == nil && !isLoopback(host) {
		n.a.warn("listen-open", "%s can be reached from other machines, without encryption", at)
	}
	server := n.desk().Server()
	go func() {
		if err := server.Serve(l); err != nil && !errors.Is(err, http.ErrServerClosed) {
			n.a.warn("listen-failed", "the address %s is served no more: %v", at, err)
		}
	}()
	n.a.say("listening on http://%s (/health, /metrics, /run/JOB)", l.Addr())
	return func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if err := server.Shutdown(ctx); err != nil {
			n.a.warn("listen-failed", "%v", err)
		}
	}, nil
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// desk is what the address is about.
func (n *night) desk() web.Desk {
	return web.Desk{
		Token: func() string { return n.config().Schedule.Token },
		Call: func(of string) web.Answer {
			if _, ok := n.config().Job[of]; !ok {
				return web.Unknown
			}
			if !n.server.Call(n.a.ctx, of, schedule.Full) {
				return web.Busy
			}
			return web.Taken
		},
		Healthy: func() (bool, any) {
			well := n.alive()
			doing := []string{}
			for _, d := range n.server.UnderWay() {
				doing = append(doing, d.Job+": "+string(d.What))
			}
			slices.Sort(doing)
			return well, map[string]any{"well": well, "under_way": doing, "next": n.next()}
		},
		Metrics: web.Collector{Read: n.measure},
		Refused: func(from string) { n.a.warn("call-refused", "a call from %s had no token or a wrong one", from) },
	}
}

// lastRuns tells when things were done last, by the journal, and else by what the keeps hold.
func (a *app) lastRuns(f *config.File, plans []schedule.Plan) (schedule.Last, error) {
	held, err := a.lastOf(f, plans)
	if err != nil {
		return nil, err
	}
	j := a.openJournal(f)
	done := map[string]time.Time{}
	for _, p := range plans {
		at := held(p.Job, p.What)
		if j != nil && !(p.What.Dump() && f.Job[p.Job].Chained()) { // a run does not tell its kind: the keep does
			r, err := j.Last(a.ctx, p.Job, p.What.Command(), ended...)
			if err != nil {
				return nil, err
			}
			if r != nil && r.Started.After(at) {
				at = r.Started
			}
		}
		done[p.Job+"/"+string(p.What)] = at
	}
	return func(of string, what schedule.What) time.Time { return done[of+"/"+string(what)] }, nil
}

// ended are the results of runs that were really made.
var ended = []journal.Result{journal.Running, journal.Good, journal.Warned, journal.Failed, journal.Stopped,
	journal.Killed}
