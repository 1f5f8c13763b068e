package atomicfile

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func content(t *testing.T, path string) string {
	t.Helper()
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(data)
}

// Whatever stands at a path, a file is written whole, or what is there stays.
func TestTargets(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(at("there"), []byte("old"), 0o640))
	require.NoError(t, os.Symlink("there", at("link")))
	require.NoError(t, os.Symlink("nothing-yet", at("dangling")))
	require.NoError(t, os.Symlink("round", at("round")))
	require.NoError(t, os.Mkdir(at("folder"), 0o755))
	for _, c := range []struct {
		path   string
		o      Options
		reason error
	}{
		{"new", Options{}, nil},
		{"there", Options{}, ErrThere},
		{"link", Options{}, ErrThere},
		{"there", Options{Replace: true, Inputs: []string{at("link")}}, ErrInput},
		{"link", Options{Replace: true, Inputs: []string{at("there")}}, ErrInput},
		{"link", Options{Replace: true}, nil},
		{"dangling", Options{}, nil},
		{"folder", Options{Replace: true}, ErrFolder},
		{"missing/file", Options{}, os.ErrNotExist},
	} {
		err := Write(at(c.path), []byte("fresh"), c.o)
		assert.ErrorIs(t, err, c.reason, "%s %v", c.path, c.o)
		if err == nil {
			assert.Equal(t, "fresh", content(t, at(c.path)))
		} else {
			assert.ErrorContains(t, err, at(c.path))
		}
	}
	assert.ErrorContains(t, Write(at("round"), nil, Options{}), "back to itself")
	info, err := os.Lstat(at("link"))
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeSymlink, "a link stays one")
	info, err = os.Stat(at("there"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm(), "the mode stays")
	require.NoError(t, Write(os.DevNull, []byte("x"), Options{}), "a device is written to")
	info, err = os.Stat(os.DevNull)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeDevice, "and stays one")
	if _, err := os.Stat("/dev/full"); err == nil {
		assert.ErrorContains(t, Write("/dev/full", []byte("x"), Options{}), "no space left")
	}
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, list, 7, "and nothing half done is left")
}

// A file with two names has both afterwards; a pipe is written to.
func TestLinksAndPipes(t *testing.T) {
	dir := t.TempDir()
	one, two, pipe := filepath.Join(dir, "one"), filepath.Join(dir, "two"), filepath.Join(dir, "pipe")
	require.NoError(t, os.WriteFile(one, []byte("old"), 0o644))
	require.NoError(t, os.Link(one, two))
	require.NoError(t, Write(one, []byte("fresh"), Options{Replace: true}))
	assert.Equal(t, "fresh", content(t, two))
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	got := make(chan string)
	go func() {
		data, _ := os.ReadFile(pipe)
		got <- string(data)
	}()
	require.NoError(t, Write(pipe, []byte("through"), Options{}))
	assert.Equal(t, "through", <-got)
}

// A file that came to be there while another was made stays; an abort leaves
// nothing.
func TestRaces(t *testing.T) {
	path := filepath.Join(t.TempDir(), "file")
	f, err := Create(path, Options{})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte("somebody's"), 0o644))
	assert.ErrorIs(t, f.Commit(), ErrThere)
	f.Abort()
	assert.Equal(t, "somebody's", content(t, path))
	list, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	assert.Len(t, list, 1)
}

// Of many edits that were made from one text one is written, and the others are
// told; each that begins again from what is there comes through.
func TestEditLosesNothing(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	path := filepath.Join(t.TempDir(), "lab.yaml")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	var all sync.WaitGroup
	for i := range 25 {
		all.Add(1)
		go func() {
			defer all.Done()
			for {
				old, err := os.ReadFile(path)
				if err != nil {
					continue
				}
				err = Edit(path, old, fmt.Appendf(old[:len(old):len(old)], "%d\n", i))
				if err == nil {
					return
				}
				assert.True(t, errors.Is(err, ErrChanged), "%v", err)
			}
		}()
	}
	all.Wait()
	seen := map[string]bool{}
	var n int
	for _, c := range content(t, path) {
		if c == '\n' {
			n++
		}
	}
	assert.Equal(t, 25, n)
	assert.Empty(t, seen)
	assert.ErrorIs(t, Edit(path, []byte("what it never was"), nil), ErrChanged)
}
