//go:build linux

package machine

import (
	"bytes"
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// No image leads to another file of the host: what names one is refused, in every format, and what is
// whole becomes a raw disk of our own making with the same bytes.
func TestImagesLeadToNoOtherFile(t *testing.T) {
	if _, err := exec.LookPath("qemu-img"); err != nil {
		t.Skip("qemu-img is not here")
	}
	dir := t.TempDir()
	secret := filepath.Join(dir, "secret")
	require.NoError(t, os.WriteFile(secret, bytes.Repeat([]byte("secret of the host\n"), 4096), 0o600))
	require.NoError(t, os.Truncate(secret, 1<<20))
	at := func(name string) string { return filepath.Join(dir, name) }
	image := func(args ...string) {
		out, err := exec.Command("qemu-img", args...).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	descriptor := func(extents, more string) []byte {
		return []byte("# Disk DescriptorFile\nversion=1\nCID=1234abcd\nparentCID=ffffffff\ncreateType=\"monolithicFlat\"\n" + more +
			extents + "\nddb.adapterType = \"ide\"\nddb.geometry.cylinders = \"2\"\n")
	}
	write := func(name string, data []byte) { require.NoError(t, os.WriteFile(at(name), data, 0o600)) }

	image("create", "-q", "-f", "qcow2", "-F", "raw", "-b", secret, at("backing.qcow2"))
	image("create", "-q", "-f", "qcow2", "-o", "data_file="+at("apart.raw"), at("data.qcow2"), "1M")
	image("create", "-q", "-f", "vmdk", "-o", "subformat=monolithicFlat", at("flat.vmdk"), "1M")
	image("create", "-q", "-f", "vmdk", "-o", "subformat=twoGbMaxExtentSparse", at("split.vmdk"), "1M")
	write("extent.vmdk", descriptor(`RW 2048 FLAT "`+secret+`" 0`, ""))
	write("device.vmdk", descriptor(`RW 2048 VMFSRAW "/dev/null" 0`, ""))
	write("relative.vmdk", descriptor(`RW 2048 FLAT "../`+filepath.Base(dir)+`/secret" 0`, ""))
	write("parent.vmdk", descriptor(`RW 2048 ZERO`, "parentFileNameHint=\""+secret+"\"\n"))
	image("create", "-q", "-f", "vmdk", at("decoy.vmdk"), "1M") // whole, and its embedded descriptor gets another extent
	decoy, err := os.ReadFile(at("decoy.vmdk"))
	require.NoError(t, err)
	i := bytes.Index(decoy, []byte("RW 2048"))
	require.Positive(t, i)
	end := i + bytes.IndexByte(decoy[i:], '\n')
	copy(decoy[i:end], append([]byte(`RW 2048 FLAT "`+secret+`"`), bytes.Repeat([]byte(" "), end-i)...)[:end-i])
	write("decoy.vmdk", decoy)

	l := &Lab{options: Options{Disks: at("disks"), Beside: dir}}
	m := &plan.Machine{Name: "gate", Appliance: &lab.Appliance{}}
	for _, name := range []string{"backing.qcow2", "data.qcow2", "flat.vmdk", "split.vmdk", "extent.vmdk", "device.vmdk",
		"relative.vmdk", "parent.vmdk"} {
		_, file, err := l.content(m, at(name))
		assert.Error(t, err, name)
		assert.Empty(t, file, name)
	}
	_, file, err := l.content(m, at("decoy.vmdk"))
	if err == nil { // its own grains, and nothing of the other file
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.NotContains(t, string(data), "secret")
	}

	image("convert", "-q", "-f", "raw", "-O", "qcow2", "-c", secret, at("packed.qcow2"))
	for _, format := range []string{"qcow2", "vmdk", "vdi", "vhdx"} {
		image("convert", "-q", "-f", "raw", "-O", format, secret, at("whole."+format))
	}
	want, err := os.ReadFile(secret)
	require.NoError(t, err)
	for _, name := range []string{"packed.qcow2", "whole.qcow2", "whole.vmdk", "whole.vdi", "whole.vhdx"} {
		machine := &plan.Machine{Name: "of-" + name[:5] + filepath.Ext(name)[1:], Appliance: &lab.Appliance{}}
		_, file, err := l.content(machine, at(name))
		require.NoError(t, err, name)
		got, err := os.ReadFile(file)
		require.NoError(t, err, name)
		assert.True(t, bytes.Equal(want, got[:len(want)]), name)
	}

	bomb, err := os.ReadFile(at("packed.qcow2")) // a disk of more than any host has
	require.NoError(t, err)
	binary.BigEndian.PutUint64(bomb[24:], 1<<50)
	write("bomb.qcow2", bomb)
	_, _, err = l.content(&plan.Machine{Name: "bomb", Appliance: &lab.Appliance{}}, at("bomb.qcow2"))
	assert.Error(t, err)
}
