package image

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type member struct {
	name string
	data []byte
}

// descriptor makes one for a disk in one file.
func descriptor(file, attributes string, capacity int64) []byte {
	return fmt.Appendf(
		nil,
		`<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1" xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1">
<References><File ovf:id="f" ovf:href="%s" %s/></References>
<DiskSection><Disk ovf:diskId="d" ovf:fileRef="f" ovf:capacity="%d"/></DiskSection>
<VirtualSystem ovf:id="gate"/></Envelope>`,
		file,
		attributes,
		capacity,
	)
}

func manifest(of ...member) []byte {
	var b bytes.Buffer
	for _, m := range of {
		fmt.Fprintf(&b, "SHA256(%s)= %x\n", strings.TrimPrefix(m.name, "./"), sha256.Sum256(m.data))
	}
	return b.Bytes()
}

// fixedVHD makes a disk whose descriptor and size can be held against each other:
// its data, and a footer (the VHD format, version 1.0).
func fixedVHD(size int) []byte {
	foot := make([]byte, 512)
	copy(foot, "conectix")
	be := func(at, n int, v uint64) {
		for k := range n {
			foot[at+n-1-k] = byte(v >> (8 * k))
		}
	}
	be(8, 4, 2)
	be(12, 4, 0x10000)
	be(16, 8, 1<<64-1)
	be(40, 8, uint64(size))
	be(48, 8, uint64(size))
	be(60, 4, 2)
	sum := uint32(0)
	for _, b := range foot {
		sum += uint32(b)
	}
	be(64, 4, uint64(^sum))
	return append(make([]byte, size), foot...)
}

// A package in one archive, in every form that it may have: what is missing,
// of another size or left out is told, and what is merely unusual is none of that.
func TestPackages(t *testing.T) {
	disk := member{"d.vhd", fixedVHD(1 << 20)}
	ovf := func(file, attributes string, capacity int64) member {
		return member{"g.ovf", descriptor(file, attributes, capacity)}
	}
	whole := ovf("d.vhd", fmt.Sprintf(`ovf:size="%d"`, len(disk.data)), 1<<20)
	piece := func(k int, size int) member { return member{fmt.Sprintf("d.vhd.%09d", k), make([]byte, size)} }
	for _, c := range []struct {
		what    string
		members []member
		fault   string // part of the only one; empty: none
		note    string
	}{
		{"whole", []member{whole, {"g.mf", manifest(whole, disk)}, disk}, "", ""},
		{"names that lead to where they are", []member{{"./g.ovf", whole.data}, {"./g.mf", manifest(whole, disk)}, {"./d.vhd", disk.data}}, "",
			""},
		{"its descriptor not first", []member{disk, whole, {"g.mf", manifest(whole, disk)}}, "", "is not its first member"},
		{"no manifest", []member{whole, disk}, "", "it has no manifest"},
		{"a manifest of part", []member{whole, {"g.mf", manifest(whole)}, disk}, "", "its manifest omits d.vhd"},
		{"a manifest without the descriptor", []member{whole, {"g.mf", manifest(disk)}, disk}, "", "its manifest omits g.ovf"},
		{"a disk that is not there", []member{whole, {"g.mf", manifest(whole)}}, "names d.vhd, which is not in it", ""},
		{"another size", []member{ovf("d.vhd", `ovf:size="77"`, 1<<20), disk}, "d.vhd has 1049088 bytes, but the descriptor says 77", ""},
		{"another capacity", []member{ovf("d.vhd", "", 5<<20), disk}, "a disk of 1048576 bytes, but the descriptor says 5242880", ""},
		{"altered", []member{whole, {"g.mf", manifest(whole, member{"d.vhd", disk.data[1:]})}, disk}, "d.vhd does not match the manifest",
			""},
		{"pieces", []member{ovf("d.vhd", `ovf:size="2500" ovf:chunkSize="1000"`, 0), piece(0, 1000), piece(1, 1000), piece(2, 500)}, "", ""},
		{"a piece missing", []member{ovf("d.vhd", `ovf:size="2500" ovf:chunkSize="1000"`, 0), piece(0, 1000), piece(2, 500)},
			"the piece d.vhd.000000001 is not in it", ""},
		{"a piece too short", []member{ovf("d.vhd", `ovf:size="2500" ovf:chunkSize="1000"`, 0), piece(0, 1000), piece(1, 1000), piece(2, 5)},
			"d.vhd has 2005 bytes, but the descriptor says 2500", ""},
	} {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, m := range c.members {
			require.NoError(t, w.WriteHeader(&tar.Header{Name: m.name, Size: int64(len(m.data)), Mode: 0o600}))
			_, err := w.Write(m.data)
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
		got := Inspect("g.ova", bytes.NewReader(b.Bytes()), int64(b.Len()), Options{})
		assert.Equal(t, Archive, got.Kind, c.what)
		judged(t, c.what, c.fault, c.note, got.Faults, got.Notes)

		if strings.HasPrefix(c.members[0].name, "./") || c.members[0].name != "g.ovf" {
			continue
		}
		dir := fstest.MapFS{} // and as files beside each other
		for _, m := range c.members {
			dir[m.name] = &fstest.MapFile{Data: m.data}
		}
		got = Inspect(
			"g.ovf",
			bytes.NewReader(c.members[0].data),
			int64(len(c.members[0].data)),
			Options{Siblings: dir},
		)
		faults := strings.ReplaceAll(
			strings.Join(got.Faults, "|"),
			"d.vhd belongs to it and is not in its folder",
			"names d.vhd, which is not in it",
		)
		judged(t, c.what, c.fault, strings.ReplaceAll(c.note, "it has no manifest", "no manifest"),
			[]string{strings.ReplaceAll(faults, "not in its folder", "not in it")}, got.Notes)
	}
}

func judged(t *testing.T, what, fault, note string, faults, notes []string) {
	if all := strings.Join(faults, " | "); fault == "" {
		assert.Empty(t, all, what)
	} else {
		assert.Contains(t, all, fault, what)
	}
	assert.Contains(t, strings.Join(notes, " | "), note, what)
}
