package cli

import (
	"fmt"
	"image"
	"image/draw"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"

	"openbastion/internal/sampling"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){
		"bastion": func() { os.Exit(Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) },
	})
}

// picture FILE PNG paints a screen of text whose cells are blocks, half blocks or blanks; letters
// are dots.
func picture(ts *testscript.TestScript, _ bool, args []string) {
	rows := strings.Split(ts.ReadFile(args[0]), "\n")
	p := image.NewGray(image.Rect(0, 0, 9*120, 18*len(rows)))
	for y, row := range rows {
		for x, c := range []rune(row) {
			cell := image.Rect(9*x, 18*y, 9*x+9, 18*y+18)
			switch c {
			case '█':
			case '▀':
				cell.Max.Y -= 9
			case '▄':
				cell.Min.Y += 9
			case ' ':
				continue
			default:
				cell = cell.Inset(3)
			}
			draw.Draw(p, cell, image.White, image.Point{}, draw.Src)
		}
	}
	f, err := os.Create(ts.MkAbs(args[1]))
	ts.Check(err)
	ts.Check(png.Encode(f, p))
	ts.Check(f.Close())
}

// Each script drives the built program on files in a folder of its own.
func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir: "testdata",
		// UPDATE=1 go test ./cli writes what the program says now into the scripts.
		UpdateScripts: os.Getenv("UPDATE") != "",
		// ALL=1 goes on after a failure, to show them all.
		ContinueOnError: os.Getenv("ALL") != "",
		Cmds:            map[string]func(*testscript.TestScript, bool, []string){"picture": picture},
		Condition: func(name string) (bool, error) {
			if name == "root" {
				return runtime.GOOS == "linux" && os.Getuid() == 0, nil
			}
			if name == "machines" {
				return insideProgram() != "", nil
			}
			if variable, is := strings.CutPrefix(name, "env:"); is {
				return os.Getenv(variable) != "", nil
			}
			if turn, is := strings.CutPrefix(name, "turn:"); is { // one of three scripts that take long, each day another
				n, err := strconv.Atoi(turn)
				return sampling.Turn(n, 3), err
			}
			return false, fmt.Errorf("no condition %q", name)
		},
		Setup: func(e *testscript.Env) error {
			examples, err := filepath.Abs("../../examples")
			if err != nil {
				return err
			}
			e.Setenv("EXAMPLES", examples)
			e.Setenv("GORACE", "atexit_sleep_ms=0") // the race detector's second at the end of each call
			e.Defer(func() {                        // also when the script fails
				if _, err := os.Stat(filepath.Join(e.WorkDir, "state")); err == nil {
					c := exec.Command(os.Args[0], "stop", "--all")
					c.Args[0], c.Env = "bastion", append(
						os.Environ(),
						"XDG_STATE_HOME="+filepath.Join(e.WorkDir, "state"),
					)
					_ = c.Run()
				}
			})
			e.Setenv("KERNEL", kernelPackage())
			if cache, err := os.UserCacheDir(); err == nil {
				e.Setenv("REALCACHE", cache)
			}
			e.Setenv(
				"ROUTER",
				filepath.Join(filepath.Dir(examples), "internal", "testbed", "machine", "testdata", "router.sh"),
			)
			if kernelPackage() != "" {
				e.Setenv("INSIDE", insideProgram())
			}
			e.Setenv("XDG_DATA_HOME", filepath.Join(e.WorkDir, "data"))
			e.Setenv("XDG_CACHE_HOME", filepath.Join(e.WorkDir, ".cache"))
			for _, j := range walkJobs {
				if err := j.write(e.WorkDir); err != nil {
					return err
				}
			}
			for _, d := range []string{"examples/saltmarsh.yaml", "examples/saltmarsh-leaky.yaml", "internal/format/ovf/testdata/sluice.ovf"} {
				data, err := os.ReadFile("../../" + d)
				if err == nil {
					err = os.WriteFile(filepath.Join(e.WorkDir, filepath.Base(d)), data, 0o644)
				}
				if err != nil {
					return err
				}
			}
			return nil
		},
	})
}

// What a package of ours fills at start every call pays for: tables are made when they are first
// looked into.
func TestStartFillsNoTables(t *testing.T) {
	c := exec.Command(os.Args[0], "version")
	c.Args[0], c.Env = "bastion", append(os.Environ(), "GODEBUG=inittrace=1")
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	seen := 0
	for line := range strings.SplitSeq(string(out), "\n") {
		var at, took float64
		var name string
		var bytes int
		if n, _ := fmt.Sscanf(line, "init %s @%f ms, %f ms clock, %d bytes", &name, &at, &took, &bytes); n == 4 &&
			strings.HasPrefix(name, "openbastion/") &&
			name != "openbastion/internal/cli" { // which holds these tests too
			seen++
			assert.LessOrEqual(t, bytes, 4<<10, name)
		}
	}
	assert.Greater(t, seen, 5)
}
