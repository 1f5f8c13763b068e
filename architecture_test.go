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
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pure is what runs the same everywhere: no files, sockets, clocks, environment, terminals,
// commands or goroutines. Every other folder under internal may have them.
var pure = []string{"model", "netsim", "filter", "verify", "simulator", "observe", "diagnose", "classroom"}

// layers says for each folder under internal which others it may import, besides itself.
// docs/architecture.md says what each of them is; [TestArchitectureIsWritten] holds the two together.
var layers = map[string][]string{
	"model":      {},
	"netsim":     {"model"},
	"filter":     {"model"},
	"verify":     {"model", "netsim", "filter"},
	"simulator":  {"model", "netsim", "filter", "verify"},
	"observe":    {"model", "netsim"},
	"diagnose":   {"model", "netsim", "filter", "verify", "simulator", "observe"},
	"classroom":  {"model", "verify"},
	"atomicfile": {},
	"sampling":   {},
	"format":     {},
	"image":      {"model", "observe", "format", "atomicfile"},
	"export":     {"model", "filter", "format", "atomicfile"},
	"hostinfo":   {"model"},
	"render":     {"model", "netsim", "verify", "observe", "classroom", "image", "format"},
	"testbed": {
		"model",
		"netsim",
		"filter",
		"verify",
		"simulator",
		"classroom",
		"export",
		"image",
		"format",
		"atomicfile",
	},
	"api": {"model", "verify", "simulator", "observe", "diagnose", "classroom", "image", "hostinfo", "testbed"},
	"cli": {
		"api",
		"model",
		"netsim",
		"filter",
		"verify",
		"simulator",
		"observe",
		"diagnose",
		"classroom",
		"atomicfile",
		"format",
		"image",
		"export",
		"hostinfo",
		"render",
		"testbed",
	},
}

// impure is what a pure package may not import.
var impure = []string{
	"os",
	"os/exec",
	"net/http",
	"syscall",
	"math/rand",
	"crypto/rand",
	"log",
	"github.com/spf13/cobra",
	"golang.org/x/term",
}

// Of net only the plain types are used, as the DHCP library speaks in them.
var netTypes = map[string]bool{"IP": true, "IPMask": true, "HardwareAddr": true, "CIDRMask": true, "IPv4zero": true}

// Of time only what does not read the clock.
var clock = map[string]bool{
	"Now":       true,
	"Since":     true,
	"Until":     true,
	"Sleep":     true,
	"After":     true,
	"Tick":      true,
	"NewTimer":  true,
	"NewTicker": true,
	"AfterFunc": true,
}

// sources calls fn with every Go file of the program below a folder, tests left out.
func sources(t *testing.T, dir string, fn func(path string, f *ast.File)) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		fn(path, f)
		return nil
	}))
}

// Every folder under internal has its place, and imports only what it may.
func TestLayers(t *testing.T) {
	seen := map[string]bool{}
	sources(t, "internal", func(path string, f *ast.File) {
		layer := strings.Split(filepath.ToSlash(path), "/")[1]
		seen[layer] = true
		allowed, known := layers[layer]
		require.True(t, known, "internal/%s has no place among the layers", layer)
		for _, i := range f.Imports {
			name, _ := strconv.Unquote(i.Path.Value)
			other, inside := strings.CutPrefix(name, "openbastion/internal/")
			if !inside {
				assert.False(
					t,
					strings.HasPrefix(name, "openbastion/") && slices.Contains(pure, layer),
					"%s imports %s",
					path,
					name,
				)
				continue
			}
			other, _, _ = strings.Cut(other, "/")
			assert.True(
				t,
				other == layer || slices.Contains(allowed, other),
				"%s imports %s: internal/%s may not import internal/%s",
				path,
				name,
				layer,
				other,
			)
		}
	})
	for layer := range layers {
		assert.True(t, seen[layer], "internal/%s is not there", layer)
	}
}

func TestPureStaysPure(t *testing.T) {
	files := 0
	for _, dir := range pure {
		sources(t, filepath.Join("internal", dir), func(path string, f *ast.File) {
			files++
			for _, i := range f.Imports {
				name, _ := strconv.Unquote(i.Path.Value)
				assert.NotContains(t, impure, name, path)
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
		})
	}
	require.Greater(t, files, 100, "the walk found the pure packages")
}

// The page on the architecture has a line for every package, and for no other.
func TestArchitectureIsWritten(t *testing.T) {
	page, err := os.ReadFile("docs/architecture.md")
	require.NoError(t, err)
	var have, written []string
	seen := map[string]bool{}
	sources(t, "internal", func(path string, _ *ast.File) {
		if dir := strings.TrimPrefix(filepath.ToSlash(filepath.Dir(path)), "internal/"); !seen[dir] {
			seen[dir] = true
			have = append(have, dir)
		}
	})
	for _, m := range regexp.MustCompile("(?m)^\\| `([a-z0-9/]+)` \\| [^`]").FindAllStringSubmatch(string(page), -1) {
		written = append(written, m[1])
	}
	assert.ElementsMatch(t, have, written)
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
