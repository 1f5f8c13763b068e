// Package openbastion holds the rules of the whole tree as tests.
package openbastion

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
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What core may not import, directly or through other packages of the module:
// it has no files, sockets, clocks, environment, terminals or commands.
var impure = []string{"os", "os/exec", "net/http", "syscall", "math/rand", "crypto/rand", "log", "openbastion/cli", "openbastion/engine",
	"github.com/spf13/cobra", "golang.org/x/term"}

// Of net only the plain types are used, as the lease library speaks in them.
var netTypes = map[string]bool{"IP": true, "IPMask": true, "HardwareAddr": true, "CIDRMask": true, "IPv4zero": true}

// Of time only what does not read the clock.
var clock = map[string]bool{"Now": true, "Since": true, "Until": true, "Sleep": true, "After": true, "Tick": true, "NewTimer": true,
	"NewTicker": true, "AfterFunc": true}

func TestCoreIsPure(t *testing.T) {
	files := 0
	err := filepath.WalkDir("core", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		for _, i := range f.Imports {
			name, _ := strconv.Unquote(i.Path.Value)
			assert.NotContains(t, impure, name, path)
			if strings.HasPrefix(name, "openbastion/") {
				assert.True(t, strings.HasPrefix(name, "openbastion/core/"), "%s imports %s: core imports only core", path, name)
			}
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.SelectorExpr:
				if pkg, ok := n.X.(*ast.Ident); ok && pkg.Obj == nil {
					assert.False(t, pkg.Name == "net" && !netTypes[n.Sel.Name], "%s uses net.%s", path, n.Sel.Name)
					assert.False(t, pkg.Name == "time" && clock[n.Sel.Name], "%s uses time.%s", path, n.Sel.Name)
					assert.False(t, pkg.Name == "fmt" && strings.HasPrefix(n.Sel.Name, "Print"), "%s prints", path)
				}
			case *ast.GoStmt:
				t.Errorf("%s starts a goroutine", path)
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, files, 20, "the walk found the core")
}

func TestFilesAreShort(t *testing.T) {
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		data, err := os.ReadFile(path)
		assert.LessOrEqual(t, strings.Count(string(data), "\n"), 520, path)
		assert.NotRegexp(t, `(?m)^(?:var |\t)\w+ += (?:\[\]\*regexp\.Regexp\{)?regexp\.MustCompile`, string(data),
			"%s: what is made at start costs every command, also those that never use it", path)
		for i, line := range strings.Split(string(data), "\n") {
			if !long.MatchString(line) { // a sentence is not cut
				assert.LessOrEqual(t, utf8.RuneCountInString(line), 140, "%s:%d", path, i+1)
			}
		}
		return err
	}))
}

// long finds a sentence, or another text that is one piece.
var long = regexp.MustCompile(`"([^"\\]|\\.){60,}|// .{60,}` + "|`[^`]{60,}")

// Every module that go.mod takes directly, or as a tool, has its line in the list
// of dependencies, and no other has one.
func TestDependenciesAreListed(t *testing.T) {
	mod, err := os.ReadFile("go.mod")
	require.NoError(t, err)
	page, err := os.ReadFile("docs/dependencies.md")
	require.NoError(t, err)
	tools := regexp.MustCompile(`(?m)^(?:tool )?\s*([\w./-]+)/cmd/\w+$`).FindAllStringSubmatch(string(mod), -1)
	var wanted, listed []string
	for _, m := range tools {
		wanted = append(wanted, m[1])
	}
	for _, m := range regexp.MustCompile(`(?m)^(?:require )?\s*(\S+\.\S+/\S+) v\S+$`).FindAllStringSubmatch(string(mod), -1) {
		wanted = append(wanted, m[1])
	}
	for _, m := range regexp.MustCompile("(?m)^\\| `([^`]+)`").FindAllStringSubmatch(string(page), -1) {
		listed = append(listed, m[1])
	}
	assert.ElementsMatch(t, wanted, listed)
}
