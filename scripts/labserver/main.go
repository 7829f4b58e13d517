// Command labserver starts a private PostgreSQL with the demo's databases, and
// stops it again. scripts/lab runs it.
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

func run(args []string) error {
	state := filepath.Join(os.TempDir(), fmt.Sprintf("grainkeep-lab-%d.json", os.Getuid()))
	switch {
	case len(args) == 1 && args[0] == "start":
		return start(state)
	case len(args) == 1 && args[0] == "stop":
		return stop(state)
	}
	return fmt.Errorf("say start or stop")
}

func start(state string) error {
	if _, err := os.Stat(state); err == nil {
		return fmt.Errorf("it runs already; 'scripts/lab stop' stops it")
	}
	p, err := testserver.StartPostgres("")
	if err != nil {
		return err
	}
	if err := demo.LoadServer(context.Background(), p.Script, "postgres", "", 1); err != nil {
		p.Close()
		return err
	}
	data, err := json.Marshal(p)
	if err != nil {
		return err
	}
	if err := os.WriteFile(state, data, 0o600); err != nil {
		return err
	}
	fmt.Println(p.URL(""))
	fmt.Fprintf(os.Stderr, "The databases bookings, cargo and roster are there. Try:\n  grainkeep survey --from %s\n", p.URL(""))
	return nil
}

func stop(state string) error {
	data, err := os.ReadFile(state)
	if err != nil {
		return fmt.Errorf("it does not run")
	}
	folder, err := testserver.CloseSaved(data)
	if err != nil {
		return err
	}
	fmt.Fprintln(os.Stderr, "stopped, and removed", folder)
	return os.Remove(state)
}
