// Command labserver starts a private server with the demo's databases, and stops it
// again. scripts/lab runs it.
package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"grainkeep/internal/demo"
	"grainkeep/internal/testserver"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "lab:", err)
		os.Exit(1)
	}
}

// kinds are the servers that can be started: how, and how one that was started before
// is stopped.
var kinds = map[string]struct {
	engine string
	start  func() (server, error)
	stop   func(saved []byte) (folder string, err error)
}{
	"postgres": {"postgres", func() (server, error) {
		return testserver.StartPostgres("", "wal_level = logical", "max_slot_wal_keep_size = 4GB")
	}, testserver.CloseSaved},
	"mariadb": {"mysql", func() (server, error) { return testserver.StartMariaDB("") }, testserver.CloseSavedMySQL},
	"mysql":   {"mysql", func() (server, error) { return testserver.StartMySQL("") }, testserver.CloseSavedMySQL},
}

type server interface {
	URL(database string) string
	Script(ctx context.Context, database, sql string) error
	Close() error
}

func run(args []string) error {
	kind := "postgres"
	if len(args) == 2 {
		kind = args[1]
	}
	if _, known := kinds[kind]; !known || len(args) < 1 || len(args) > 2 {
		return fmt.Errorf("say start or stop, and postgres (which may be left out), mariadb or mysql")
	}
	state := filepath.Join(os.TempDir(), fmt.Sprintf("grainkeep-lab-%s-%d.json", kind, os.Getuid()))
	switch args[0] {
	case "start":
		return start(kind, state)
	case "stop":
		return stop(kind, state)
	}
	return fmt.Errorf("say start or stop")
}

func start(kind, state string) error {
	if _, err := os.Stat(state); err == nil {
		return fmt.Errorf("it runs already; 'scripts/lab stop %s' stops it", kind)
	}
	s, err := kinds[kind].start()
	if err != nil {
		return err
	}
	if err := demo.LoadServer(context.Background(), s.Script, kinds[kind].engine, "", 1); err != nil {
		s.Close()
		return err
	}
	data, err := json.Marshal(s)
	if err != nil {
		return err
	}
	if err := os.WriteFile(state, data, 0o600); err != nil {
		return err
	}
	fmt.Println(s.URL(""))
	fmt.Fprintf(os.Stderr, "The databases bookings, cargo and roster are there. Try:\n  grainkeep survey --from %s\n",
		s.URL(""))
	return nil
}

func stop(kind, state string) error {
	data, err := os.ReadFile(state)
	if err != nil {
		return fmt.Errorf("it does not run")
	}
	folder, err := kinds[kind].stop(data)
	if err != nil {
		return err
	}
	fmt.Fprintln(os.Stderr, "stopped, and removed", folder)
	return os.Remove(state)
}
