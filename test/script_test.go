package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"

	"grainkeep/internal/demo"
)

// TestScripts holds what each command promises: output, exit code, JSON and help. The scripts in
// testdata/script read as a documentation of it.
func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir: "testdata/script",
		Setup: func(e *testscript.Env) error {
			e.Setenv("PATH", filepath.Dir(program)+string(filepath.ListSeparator)+os.Getenv("PATH"))
			e.Setenv("HOME", e.WorkDir)
			e.Setenv("TZ", "UTC")
			return nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			// sqlite FILE SQL runs statements in a file.
			"sqlite": func(ts *testscript.TestScript, _ bool, args []string) {
				db, err := demo.OpenSQLite(ts.MkAbs(args[0]))
				ts.Check(err)
				defer db.Close()
				_, err = db.Exec(strings.Join(args[1:], " "))
				ts.Check(err)
			},
			// code N grainkeep … expects an exit code.
			"code": func(ts *testscript.TestScript, _ bool, args []string) {
				err := ts.Exec(args[1], args[2:]...)
				got := "0"
				if err != nil {
					got = strings.TrimPrefix(err.Error(), "exit status ")
				}
				if got != args[0] {
					ts.Fatalf("exit code %s, not %s", got, args[0])
				}
			},
		},
	})
}
