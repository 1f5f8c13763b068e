package boot

import (
	"bytes"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/cavaliergopher/cpio"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// packaged returns the package of a kernel that was fetched, or skips.
func packaged(t *testing.T) string {
	if Cached() == "" {
		t.Skip("no package of a kernel was fetched")
	}
	return Cached()
}

// A kernel is the same from its package and from where that was unpacked to, also with its
// modules packed; each module comes after those that it depends on.
func TestKernel(t *testing.T) {
	from := packaged(t)
	k, err := Find(from, Keep)
	require.NoError(t, err)
	assert.NotEmpty(t, k.Release)
	assert.Greater(t, len(k.Image), 1<<20)
	assert.True(t, k.Builtin["binfmt_script"] || len(k.Builtin) > 0)
	list, err := k.Order(Wanted)
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, m := range list {
		needs, err := depends(m.Data)
		require.NoError(t, err)
		for _, n := range needs {
			assert.True(t, seen[Normal(n)] || k.Modules[Normal(n)] == nil, "%s before %s", m.Name, n)
		}
		assert.False(t, seen[m.Name], "%s twice", m.Name)
		seen[m.Name] = true
	}
	for _, name := range []string{"virtio_net", "nft_chain_nat", "8021q", "virtio_console"} {
		assert.True(t, seen[name] || k.Builtin[name], name)
	}

	if _, err := exec.LookPath("dpkg-deb"); err != nil {
		return
	}
	dir := t.TempDir()
	require.NoError(t, exec.Command("dpkg-deb", "-x", from, dir).Run())
	one, _ := filepath.Glob(dir + "/lib/modules/*/kernel/net/8021q/8021q.ko")
	if _, err := exec.LookPath("xz"); err == nil && len(one) == 1 {
		require.NoError(t, exec.Command("xz", one[0]).Run())
	}
	again, err := Find(dir, Keep)
	require.NoError(t, err)
	assert.Equal(t, k.Release, again.Release)
	assert.Equal(t, len(k.Modules), len(again.Modules))
	assert.Equal(t, k.Modules["8021q"], again.Modules["8021q"])
}

// What is no kernel is told as that.
func TestNoKernel(t *testing.T) {
	dir := t.TempDir()
	_, err := Find(dir, Keep)
	assert.ErrorIs(t, err, ErrNoKernel)
	_, err = Find(dir+"/nowhere", Keep)
	assert.ErrorIs(t, err, os.ErrNotExist)
	for name, text := range map[string]string{"empty": "", "text": "no package at all\n", "ar": "!<arch>\n"} {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := Find(file, Keep)
		assert.Error(t, err, name)
	}
	if from := packaged(t); from != "" {
		data, err := os.ReadFile(from)
		require.NoError(t, err)
		for _, cut := range []int{100, 5000, len(data) / 8} {
			file := filepath.Join(dir, "cut")
			require.NoError(t, os.WriteFile(file, data[:cut], 0o600))
			_, err := Find(file, Keep)
			assert.Error(t, err, "cut at %d", cut)
		}
	}
}

// The initial file system holds the program and the modules in their order.
func TestWrite(t *testing.T) {
	var out bytes.Buffer
	require.NoError(t, Write(&out, []byte("#!program"), []Module{{"one", []byte("1")}, {"two", []byte("22")}}))
	var names []string
	for in := cpio.NewReader(&out); ; {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		names = append(names, h.Name)
		data, err := io.ReadAll(in)
		require.NoError(t, err)
		assert.Len(t, data, int(h.Size))
	}
	assert.Equal(
		t,
		[]string{"dev", "proc", "sys", "tmp", "etc", "modules", "init", "modules/000-one.ko", "modules/001-two.ko"},
		names,
	)
}

// A program that needs libraries is refused before a machine would fail on it.
func TestAlone(t *testing.T) {
	assert.ErrorContains(t, Alone([]byte("#!/bin/sh\n")), "not a Linux program")
	shell, err := os.ReadFile("/bin/sh")
	if err != nil {
		t.Skip("no shell to drive")
	}
	assert.ErrorContains(t, Alone(shell), "CGO_ENABLED=0")
}
