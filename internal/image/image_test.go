package image

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/atomicfile"
	"openbastion/internal/format/disk"
	"openbastion/internal/format/iso"
	"openbastion/internal/format/ovf"
	"openbastion/internal/format/stream"
)

// tools makes files in dir with real programs; without one of them the test is
// skipped.
func tools(t testing.TB, dir, script string, need ...string) {
	for _, n := range need {
		if _, err := exec.LookPath(n); err != nil {
			t.Skip(n + " is not here")
		}
	}
	c := exec.Command("sh", "-ec", script)
	c.Dir = dir
	ovf, err := filepath.Abs("../format/ovf/testdata/sluice.ovf")
	require.NoError(t, err)
	c.Env = append(os.Environ(), "OVF="+ovf, "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
}

// told writes what a content is in one line.
func told(c *Content) string {
	parts := []string{string(c.Kind)}
	if c.Virtual != nil {
		parts = append(parts, c.Virtual.Format, c.Virtual.Layout, fmt.Sprint(c.Virtual.Size>>20)+"M")
		if c.Virtual.Compressed {
			parts = append(parts, "compressed")
		}
		if c.Virtual.Backing != "" {
			parts = append(parts, "on "+c.Virtual.Backing)
		}
	}
	if c.Optical != nil {
		parts = append(parts, c.Optical.Volume, "boots "+c.Bootable(), "for "+strings.Join(c.Processors(), "+"))
		if c.Table != nil {
			parts = append(parts, "and stick")
		}
	} else if c.Table != nil {
		parts = append(parts, c.Table.Scheme, "boots "+c.Table.Boots)
		for _, p := range c.Table.Partitions {
			parts = append(parts, fmt.Sprintf("%s %dM", p.Kind, p.Size>>20))
		}
	}
	if c.Mismatch != "" {
		parts = append(parts, "! "+c.Mismatch)
	}
	for _, x := range c.Inside {
		parts = append(parts, "{"+told(x)+"}")
	}
	for _, f := range c.Faults {
		parts = append(parts, "✗ "+f)
	}
	return strings.Join(parts, ", ")
}

const makeImages = `
mkdir -p tree/EFI/BOOT tree/boot
seq 60000 > tree/boot/kernel; echo x > tree/EFI/BOOT/BOOTX64.EFI; seq 600 | head -c 2048 > tree/boot/bios.img
truncate -s 1440K tree/boot/efi.img; mkfs.vfat tree/boot/efi.img >/dev/null
mmd -i tree/boot/efi.img ::/EFI ::/EFI/BOOT; mcopy -i tree/boot/efi.img tree/EFI/BOOT/BOOTX64.EFI ::/EFI/BOOT/BOOTAA64.EFI
genisoimage -quiet -V GATE -publisher 'Made up' -J -R -b boot/bios.img -no-emul-boot -c boot/boot.cat -boot-load-size 4 -eltorito-alt-boot -e boot/efi.img -no-emul-boot -o gate.iso tree 2>/dev/null
genisoimage -quiet -V FILES -o files.iso tree/EFI 2>/dev/null
xorriso -as mkisofs -quiet -V HYBRID -b boot/bios.img -no-emul-boot -boot-load-size 4 -c boot.cat -eltorito-alt-boot -e boot/efi.img -no-emul-boot -isohybrid-gpt-basdat -partition_offset 16 -append_partition 2 0xef tree/boot/efi.img -appended_part_as_gpt -o hybrid.iso tree >/dev/null 2>&1
gzip -nk gate.iso; bzip2 -k gate.iso; xz -k gate.iso; zstd -q gate.iso; xz -T2 --block-size=262144 -kc hybrid.iso > blocks.iso.xz
cp gate.iso gate.img; cp gate.iso.gz renamed.iso; zip -q two.zip gate.iso hybrid.iso tree/EFI/BOOT/BOOTX64.EFI
tar cf a.tar gate.iso; tar cJf a.txz gate.iso; head -c 300000 gate.iso > cut.iso; head -c -60000 gate.iso.gz > cut.gz; head -c -600 gate.iso.xz > cut.xz; head -c -60000 two.zip > cut.zip; head -c 400000 a.tar > cut.tar
truncate -s 40M gpt.img; printf 'label: gpt\n,20M,U,*\n,,L\n' | sfdisk -q gpt.img; truncate -s 40M mbr.img; printf 'label: dos\n,20M,c,*\n,,83\n' | sfdisk -q mbr.img
head -c 5M gpt.img > cut.img; cp gpt.img bad.img; printf x | dd of=bad.img bs=1 seek=1100 conv=notrunc 2>/dev/null
for f in qcow2 vmdk vdi vhdx; do qemu-img convert -O $f gpt.img d.$f; done; qemu-img convert -O vpc -o force_size=on gpt.img d.vhd; qemu-img convert -O vpc -o subformat=fixed,force_size=on gpt.img fixed.vhd
qemu-img convert -c -O qcow2 gate.iso packed.qcow2; qemu-img create -q -f qcow2 -b d.qcow2 -F qcow2 over.qcow2
qemu-img convert -O vmdk -o subformat=streamOptimized gpt.img stream.vmdk; qemu-img convert -O vmdk -o subformat=monolithicFlat gpt.img flat.vmdk; qemu-img convert -O vmdk -o subformat=twoGbMaxExtentSparse gpt.img split.vmdk
cp "$OVF" sluice.ovf; tar cf gate.ova sluice.ovf gate.iso
cp d.vdi x.qcow2; head -c 100000 d.qcow2 > cut.qcow2; : > nil.iso; sha256sum gate.iso > sums.txt; seq 9000 > seq.bin
`

func TestInspectRealFiles(t *testing.T) {
	dir := t.TempDir()
	tools(
		t,
		dir,
		makeImages,
		"genisoimage",
		"xorriso",
		"qemu-img",
		"zstd",
		"xz",
		"bzip2",
		"zip",
		"mcopy",
		"/sbin/mkfs.vfat",
		"/sbin/sfdisk",
	)
	const gate, hybrid = "optical image, GATE, boots uefi, for ARM, 64 bits+x86, 64 bits",
		"optical image, HYBRID, boots uefi, for ARM, 64 bits+x86, 64 bits, and stick"
	for name, want := range map[string]string{
		"gate.iso":      gate,
		"files.iso":     "optical image, FILES, boots , for ",
		"hybrid.iso":    hybrid,
		"gate.iso.gz":   "gzip, {" + gate + "}",
		"gate.iso.bz2":  "bzip2, {" + gate + "}",
		"gate.iso.xz":   "xz, {" + gate + "}",
		"gate.iso.zst":  "zstd, {" + gate + "}",
		"blocks.iso.xz": "xz, {" + hybrid + "}",
		"gate.img":      gate + ", ! the name says a disk image, but the content is an optical image",
		"renamed.iso":   "gzip, ! the name says an optical image, but the content is gzip, {" + gate + "}",
		"two.zip":       "zip, {" + gate + "}, {" + hybrid + "}, {unknown}",
		"a.tar":         "tar, {" + gate + "}",
		"a.txz":         "xz, {tar, {" + gate + "}}",
		"cut.iso":       gate + ", ✗ it is cut short: the volume promises",
		"cut.gz":        "gzip, {" + gate + "}, ✗ it breaks off after",
		"cut.xz":        "xz, {" + gate + "}, ✗ it",
		"cut.zip":       "zip, ✗ its directory cannot be read",
		"cut.tar":       "tar, {" + gate + "}, ✗ it breaks off after 1 members",
		"gpt.img":       "disk image, gpt, boots , EFI system 20M, Linux 18M",
		"mbr.img":       "disk image, mbr, boots , FAT32 20M, Linux 19M",
		"cut.img":       "disk image, gpt, boots , EFI system 20M, Linux 18M, ✗ it is cut short: the partition table promises 41943040 bytes, and 5242880 are here",
		"bad.img":       "disk image, gpt, boots , EFI system 20M, Linux 18M, ✗ the table's checksum is wrong",
		"d.qcow2":       "virtual disk, qcow2, growing, 40M, gpt, boots , EFI system 20M, Linux 18M",
		"d.vmdk":        "virtual disk, vmdk, growing, 40M, gpt, boots , EFI system 20M, Linux 18M",
		"d.vdi":         "virtual disk, vdi, growing, 40M, gpt, boots , EFI system 20M, Linux 18M",
		"d.vhdx":        "virtual disk, vhdx, growing, 40M, gpt, boots , EFI system 20M, Linux 18M",
		"d.vhd":         "virtual disk, vhd, growing, 40M, gpt, boots , EFI system 20M, Linux 18M",
		"fixed.vhd":     "virtual disk, vhd, fixed, 40M, gpt, boots , EFI system 20M, Linux 18M",
		"stream.vmdk":   "virtual disk, vmdk, streamed, 40M, compressed, gpt, boots , EFI system 20M, Linux 18M",
		"flat.vmdk":     "virtual disk, vmdk, fixed, 40M, gpt, boots , EFI system 20M, Linux 18M",
		"split.vmdk":    "virtual disk, vmdk, split, 40M, gpt, boots , EFI system 20M, Linux 18M",
		"packed.qcow2":  "virtual disk, qcow2, growing, 2M, compressed",
		"over.qcow2":    "virtual disk, qcow2, differencing, 40M, on d.qcow2, gpt, boots , EFI system 20M, Linux 18M",
		"x.qcow2":       "virtual disk, vdi, growing, 40M, gpt, boots , EFI system 20M, Linux 18M, ! the name says qcow2, but the content is vdi",
		"cut.qcow2":     "virtual disk, qcow2, growing, 40M, ✗ it is cut short: qcow2: the first table lies beyond its end",
		"nil.iso":       "empty, ✗ it is empty",
		"sums.txt":      "checksum list",
		"seq.bin":       "unknown",
	} {
		f, err := os.Open(filepath.Join(dir, name))
		require.NoError(t, err)
		info, err := f.Stat()
		require.NoError(t, err)
		c := Inspect(name, f, info.Size(), Options{Siblings: Folder(dir)})
		if got := told(c); strings.Contains(want, "✗") {
			assert.True(t, strings.HasPrefix(got, want), "%s\nwant %s\ngot  %s", name, want, got)
		} else {
			assert.Equal(t, want, got, name)
			assert.False(t, c.Broken(), name)
			if name != "packed.qcow2" {
				notes := slices.DeleteFunc(slices.Clone(c.Notes), func(n string) bool { return strings.Contains(n, "without a readable FAT volume") })
				assert.Empty(t, notes, name)
			}
		}
		assert.NotEmpty(t, c.Next, name)
		f.Close()
	}
	t.Run("unpack", func(t *testing.T) { unpackReal(t, dir) })
}

// unpackReal unpacks what the tools packed and compares with what they packed.
func unpackReal(t *testing.T, dir string) {
	gate, err := os.ReadFile(filepath.Join(dir, "gate.iso"))
	require.NoError(t, err)
	hybrid, err := os.ReadFile(filepath.Join(dir, "hybrid.iso"))
	require.NoError(t, err)
	for _, c := range []struct {
		name, member string
		want         []byte
		err          string
	}{
		{"gate.iso.gz", "", gate, ""},
		{"gate.iso.bz2", "", gate, ""},
		{"gate.iso.xz", "", gate, ""},
		{"blocks.iso.xz", "", hybrid, ""},
		{"gate.iso.zst", "", gate, ""},
		{"a.tar", "", gate, ""},
		{"a.txz", "", gate, ""},
		{"two.zip", "hybrid.iso", hybrid, ""},
		{"two.zip", "", nil, "more than one to choose from: gate.iso, hybrid.iso"},
		{"two.zip", "gates.iso", nil, "no member gates.iso"},
		{"gate.iso", "", nil, "nothing to unpack: it is an optical image"},
		{"gate.ova", "", gate, ""},
		{"cut.gz", "", nil, "it breaks off after"},
		{"cut.xz", "", nil, "it breaks off after"},
	} {
		to := filepath.Join(t.TempDir(), "out")
		err := unpack(filepath.Join(dir, c.name), c.member, to)
		if c.err != "" {
			assert.ErrorContains(t, err, c.err, c.name)
			list, _ := os.ReadDir(filepath.Dir(to))
			assert.Empty(t, list, "nothing is left behind")
			continue
		}
		require.NoError(t, err, c.name)
		got, err := os.ReadFile(to)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(c.want, got), "%s: %d bytes", c.name, len(got))
		assert.ErrorContains(t, unpack(filepath.Join(dir, c.name), c.member, to), "is unchanged")
	}
	// What a killed run left behind is not in the way.
	to := filepath.Join(t.TempDir(), "out")
	require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(to), ".out.bastion-123"), nil, 0o600))
	assert.NoError(t, unpack(filepath.Join(dir, "gate.iso.gz"), "", to))
}

func unpack(file, member, to string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	choice, err := Inspect(filepath.Base(file), f, info.Size(), Options{}).Pick(member)
	if err != nil {
		return err
	}
	r, err := choice.Open(f, info.Size(), true)
	if err != nil {
		return err
	}
	defer r.Close()
	target, err := atomicfile.Create(to, atomicfile.Options{Inputs: []string{file}})
	if err != nil {
		return err
	}
	defer target.Abort()
	_, err = Write(target, r)
	return err
}

// Bombs and crafted files give an error in bounded time and memory.
func TestBombs(t *testing.T) {
	dir := t.TempDir()
	tools(t, dir, `
head -c 100M /dev/zero | zstd -q -o zeros.zst
mkdir -p a; echo x > a/x; tar -cPf up.tar --transform 's,a/x,../../up.iso,' a/x; zip -q up.zip a/x
cp zeros.zst n1.zst; for k in 1 2 3; do gzip -k n$k.zst; zstd -q n$k.zst.gz -o n$((k+1)).zst; done
zstd -q zeros.zst -o same.zst.zst
`, "zstd", "zip", "tar")
	defer func(n int64) { freeRatio = n }(freeRatio)
	freeRatio = 16 << 20
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	for name, want := range map[string]string{
		"zeros.zst": "unpacks to more than", "up.tar": "points outside the folder", "same.zst.zst": "once more",
	} {
		assert.ErrorContains(t, unpack(filepath.Join(dir, name), "", filepath.Join(dir, "out")), want, name)
		assert.NoFileExists(t, filepath.Join(dir, "out.part"))
	}
	f, err := os.Open(filepath.Join(dir, "n4.zst"))
	require.NoError(t, err)
	defer f.Close()
	info, _ := f.Stat()
	assert.Contains(
		t,
		fmt.Sprint(deepest(Inspect("n4.zst", f, info.Size(), Options{})).Notes),
		"compressed more than 4 times",
	)
	runtime.ReadMemStats(&after)
	assert.Less(t, after.Sys-before.Sys, uint64(200<<20))
}

func deepest(c *Content) *Content {
	for len(c.Inside) > 0 {
		c = c.Inside[0]
	}
	return c
}

// Every header reader takes any bytes, whole and in a stream, in bounded time.
func FuzzInspect(f *testing.F) {
	var z bytes.Buffer
	w := gzip.NewWriter(&z)
	_, _ = w.Write(make([]byte, 40000))
	w.Close()
	f.Add(z.Bytes(), 0, "x.iso.gz", "SHA256SUMS")
	optical := make([]byte, 20*iso.Sector)
	copy(optical[16*iso.Sector:], "\x01CD001")
	copy(optical[17*iso.Sector:], "\x00CD001\x01EL TORITO SPECIFICATION")
	f.Add(optical, 16*iso.Sector, "x.iso", "x.mf")
	for _, head := range []string{"QFI\xfb\x00\x00\x00\x03", "KDMV\x01\x00\x00\x00", "# Disk DescriptorFile\nRW 20480 FLAT \"x\"\n",
		"vhdxfile", "PK\x03\x04", "\xfd7zXZ\x00\x00\x04", "BZh91AY", "\x28\xb5\x2f\xfd"} {
		f.Add(append([]byte(head), make([]byte, 2048)...), 512, "x.vmdk", "heron-0.ovf")
	}
	data, err := os.ReadFile("../format/ovf/testdata/sluice.ovf")
	require.NoError(f, err)
	f.Add(data, 0, "sluice.ovf", "sluice.mf")
	f.Add(data[:len(data)/2], 0, "sluice.ovf", "sluice.mf")
	f.Fuzz(func(t *testing.T, data []byte, shift int, name, sibling string) {
		began := time.Now()
		defer func() {
			if spent := time.Since(began); spent > 5*time.Second {
				t.Errorf("%d bytes took %v", len(data), spent)
			}
		}()
		beside := fstest.MapFS{}
		if fs.ValidPath(sibling) {
			beside[sibling] = &fstest.MapFile{Data: data}
		}
		c := Inspect(name, bytes.NewReader(data), int64(len(data)), Options{Whole: shift%2 == 1, Siblings: beside})
		c.Bootable()
		c.Processors()
		if choice, err := c.Pick(""); err == nil {
			if r, err := choice.Open(bytes.NewReader(data), int64(len(data)), true); err == nil {
				_, _ = io.CopyN(io.Discard, r, 1<<20)
				r.Close()
			}
		}
		if shift < 0 || shift > len(data) {
			return
		}
		for _, r := range []io.ReaderAt{bytes.NewReader(data[shift:]), newWindow(bytes.NewReader(data[shift:]), 1<<20)} {
			_, _ = disk.ReadVirtual(r, int64(len(data)-shift))
			_, _ = disk.ReadTable(r, int64(len(data)-shift))
			_, _ = iso.Read(r, int64(len(data)-shift))
		}
		_, _ = ovf.Read(data[shift:])
		stream.Length(stream.XZ, bytes.NewReader(data[shift:]), int64(len(data)-shift))
	})
}
