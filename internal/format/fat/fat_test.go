package fat

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func tool(t *testing.T, name string, args ...string) {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		if path = "/usr/sbin/" + name; func() bool { _, err := os.Stat(path); return err != nil }() {
			t.Skip(name + " is not here")
		}
	}
	out, err := exec.Command(path, args...).CombinedOutput()
	require.NoError(t, err, "%s %v\n%s", name, args, out)
}

// Volumes of every width, made and filled by the usual tools: folders far down, long
// names, more than a cluster of entries, and nothing that was deleted.
func TestVolumes(t *testing.T) {
	for _, c := range []struct {
		bits, kib int
	}{{12, 2000}, {16, 33000}, {32, 70000}} {
		file := filepath.Join(t.TempDir(), "volume.img")
		require.NoError(t, os.WriteFile(file, nil, 0o600))
		require.NoError(t, os.Truncate(file, int64(c.kib)<<10))
		tool(t, "mkfs.vfat", "-F", fmt.Sprint(c.bits), "-n", "MARSH", file)
		tool(t, "mmd", "-i", file, "::/EFI", "::/EFI/BOOT", "::/EFI/BOOT/a folder with a long name")
		some := filepath.Join(t.TempDir(), "some")
		require.NoError(t, os.WriteFile(some, bytes.Repeat([]byte("x"), 700), 0o600))
		names := []string{"bootx64.efi", "BOOTAA64.EFI", "bootia32.efi", "grub.cfg"}
		for i := range 60 {
			names = append(names, fmt.Sprintf("another file with a name that is long %d.txt", i))
		}
		for _, n := range names {
			tool(t, "mcopy", "-i", file, some, "::/EFI/BOOT/"+n)
		}
		tool(t, "mdel", "-i", file, "::/EFI/BOOT/bootia32.efi")
		f, err := os.Open(file)
		require.NoError(t, err)
		defer f.Close()
		v, err := Open(f)
		require.NoError(t, err)
		assert.Equal(t, c.bits, v.Bits)
		assert.Equal(t, "MARSH", v.Label)
		assert.ElementsMatch(t, []string{"BOOTX64.EFI", "BOOTAA64.EFI"}, v.Loaders(), "FAT%d", c.bits)
		list, err := v.Folder("efi", "boot")
		require.NoError(t, err)
		found := map[string]int64{}
		for _, e := range list {
			found[e.Name] = e.Size
		}
		assert.Len(t, found, len(names)-1+1)
		assert.Equal(t, int64(700), found["another file with a name that is long 59.txt"])
		_, err = v.Folder("EFI", "BOOT", "a folder with a long name")
		assert.NoError(t, err)
		_, err = v.Folder("EFI", "NONE")
		assert.ErrorContains(t, err, "no folder")
	}
}

func FuzzOpen(f *testing.F) {
	sector := make([]byte, 4096)
	copy(sector, "\xeb\x3c\x90mkfs.fat\x00\x02\x01\x01\x00\x02\x40\x00\x08\x00\xf8\x01\x00")
	sector[510], sector[511] = 0x55, 0xaa
	f.Add(sector)
	f.Fuzz(func(t *testing.T, data []byte) {
		v, err := Open(bytes.NewReader(data))
		if err != nil {
			return
		}
		for _, l := range v.Loaders() {
			assert.True(t, strings.HasPrefix(l, "BOOT"))
		}
		_, _ = v.Folder("EFI", "BOOT", "X")
	})
}
