package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// interfaces are the folders that may know of a terminal; everything else is the
// core.
var interfaces = map[string]bool{"cli": true, "testserver": true}

// fileless are the folders that reach a keep through a store, and no file by its path.
var fileless = []string{"blob", "chain", "drill", "dump", "event", "keep", "manifest", "payload", "record", "restore",
	"rows", "verify"}

// TestCoreHasNoInterface holds that nothing in the core imports what belongs to a
// command line, prints, or ends the program.
func TestCoreHasNoInterface(t *testing.T) {
	banned := []string{"github.com/spf13/", "github.com/jedib0t/", "github.com/schollz/", "golang.org/x/term", "flag",
		"os/signal", "grainkeep/internal/cli"}
	calls := map[string]bool{"fmt.Print": true, "fmt.Println": true, "fmt.Printf": true, "os.Exit": true,
		"os.Stdout": true, "os.Stderr": true, "os.Stdin": true, "os.Args": true}
	seen := 0
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			interfaces[strings.Split(path, "/")[0]] {
			return err
		}
		seen++
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		for _, i := range file.Imports {
			name, _ := strconv.Unquote(i.Path.Value)
			for _, b := range banned {
				require.False(t, name == b || strings.HasSuffix(b, "/") && strings.HasPrefix(name, b),
					"%s imports %s", path, name)
			}
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if x, ok := s.X.(*ast.Ident); ok {
					require.False(t, calls[x.Name+"."+s.Sel.Name], "%s uses %s.%s", path, x.Name, s.Sel.Name)
				}
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, seen, 30)
}

// imports gives what the files of some folders import, tests apart.
func imports(t *testing.T, folders ...string) map[string][]string {
	t.Helper()
	list := map[string][]string{}
	for _, folder := range folders {
		files, err := filepath.Glob(folder + "/*.go")
		require.NoError(t, err)
		require.NotEmpty(t, files, folder)
		for _, path := range files {
			if strings.HasSuffix(path, "_test.go") {
				continue
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
			require.NoError(t, err)
			for _, i := range file.Imports {
				name, err := strconv.Unquote(i.Path.Value)
				require.NoError(t, err)
				list[path] = append(list[path], name)
			}
		}
	}
	return list
}

// TestEnginesKnowNoKeeps holds that engines know nothing of keeps, files or jobs.
func TestEnginesKnowNoKeeps(t *testing.T) {
	for path, names := range imports(t, "engine/*") {
		for _, name := range names {
			if strings.HasPrefix(name, "grainkeep/") {
				require.Contains(t, []string{"grainkeep/internal/engine", "grainkeep/internal/fault",
					"grainkeep/internal/clock", "grainkeep/internal/system", "grainkeep/internal/pattern", "grainkeep/internal/phrase"}, name, path)
			}
		}
	}
}

// TestOnlyStoresTouchFiles holds that what works on keeps opens no file itself.
func TestOnlyStoresTouchFiles(t *testing.T) {
	for path, names := range imports(t, fileless...) {
		for _, name := range []string{"os", "golang.org/x/sys/unix", "grainkeep/internal/store/folder"} {
			require.NotContains(t, names, name, path)
		}
	}
}

// TestSystemsAreApart holds that what one operating system alone can do stands in a file that is built for it alone.
func TestSystemsAreApart(t *testing.T) {
	own := regexp.MustCompile(`_(unix|linux|bsd|freebsd|darwin|windows)\.go$`)
	apart := 0
	for path, names := range imports(t, "*", "*/*") {
		switch {
		case strings.HasPrefix(path, "testserver/"):
		case own.MatchString(path):
			apart++
		default:
			require.NotContains(t, names, "golang.org/x/sys/unix", path)
			require.NotContains(t, names, "golang.org/x/sys/windows", path)
		}
	}
	require.Greater(t, apart, 10)
}

// TestPatterns compiles the regular expressions that the program makes only when it needs them.
func TestPatterns(t *testing.T) {
	files, err := filepath.Glob("*/*.go")
	require.NoError(t, err)
	deeper, err := filepath.Glob("*/*/*.go")
	require.NoError(t, err)
	compiled := 0
	for _, path := range append(files, deeper...) {
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			c, ok := n.(*ast.CallExpr)
			if !ok || len(c.Args) != 1 {
				return true
			}
			f, ok := c.Fun.(*ast.SelectorExpr)
			if !ok || f.Sel.Name != "Of" {
				return true
			}
			if text, ok := literal(c.Args[0]); ok {
				_, err := regexp.Compile(text)
				require.NoError(t, err, path)
				compiled++
			}
			return true
		})
	}
	require.Greater(t, compiled, 80)
}

// literal is the text of a constant, or of several that are joined.
func literal(e ast.Expr) (string, bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		text, err := strconv.Unquote(e.Value)
		return text, err == nil
	case *ast.BinaryExpr:
		a, okA := literal(e.X)
		b, okB := literal(e.Y)
		return a + b, okA && okB
	}
	return "", false
}

// TestConfigurationIsPlainData holds that the file's package puts nothing together.
func TestConfigurationIsPlainData(t *testing.T) {
	for path, names := range imports(t, "config") {
		for _, name := range []string{"keep", "dump", "drill", "store", "job"} {
			require.NotContains(t, names, "grainkeep/internal/"+name, path)
		}
	}
}

// TestWarningsAreDocumented holds that every code of a warning stands in the guide: people
// write scripts by it.
func TestWarningsAreDocumented(t *testing.T) {
	guide, err := os.ReadFile("../docs/guide.md")
	require.NoError(t, err)
	codes := map[string]bool{}
	call := regexp.MustCompile(`\b[wW]arn\("([a-z-]+)"|^const \w+ = "([a-z-]+)"$`)
	err = filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		for l := range strings.Lines(string(text)) {
			m := call.FindStringSubmatch(strings.TrimRight(l, "\n"))
			if m != nil && (m[1] != "" || strings.HasPrefix(path, "dump/")) {
				codes[m[1]+m[2]] = true
			}
		}
		return nil
	})
	require.NoError(t, err)
	delete(codes, "*")
	require.Greater(t, len(codes), 20)
	for code := range codes {
		require.Contains(t, string(guide), "`"+code+"`", "the guide does not explain the warning")
	}
}
