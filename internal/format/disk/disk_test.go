package disk

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func put32(b []byte, at int, v uint32) { binary.BigEndian.PutUint32(b[at:], v) }
func put64(b []byte, at int, v uint64) { binary.BigEndian.PutUint64(b[at:], v) }

// qcow2 returns the header of a disk of 1 GiB with one table of one cluster.
func qcow2() []byte {
	b := make([]byte, 4*65536)
	copy(b, "QFI\xfb")
	put32(b, 4, 3)
	put32(b, 20, 16)
	put64(b, 24, 1<<30)
	put32(b, 36, 2)
	put64(b, 40, 65536)
	put64(b, 65536, 2*65536|1<<63)
	put64(b, 2*65536, 3*65536|1<<63)
	return b
}

// Crafted headers are refused by name, or read for what they are worth.
func TestCraftedHeaders(t *testing.T) {
	v, err := ReadVirtual(bytes.NewReader(qcow2()), 4*65536)
	require.NoError(t, err)
	assert.Equal(
		t,
		[]any{int64(1 << 30), "growing", false, int64(3*65536 + 512)},
		[]any{v.Size, v.Layout, v.Compressed, v.End},
	)
	for _, c := range []struct {
		what   string
		change func(b []byte) []byte
		want   string
	}{
		{"a version that is none", func(b []byte) []byte { put32(b, 4, 9); return b }, "version 9 is not known"},
		{"clusters of no size", func(b []byte) []byte { put32(b, 20, 63); return b }, "clusters of 2^63"},
		{"a disk beyond any", func(b []byte) []byte { put64(b, 24, 1<<60); return b }, "a first table of"},
		{"a table beyond memory", func(b []byte) []byte { put32(b, 36, 1<<31); return b }, "a first table of"},
		{"a long backing name", func(b []byte) []byte { put64(b, 8, 512); put32(b, 16, 1<<30); return b }, "a backing file's name of"},
		{"a backing name beyond the file", func(b []byte) []byte { put64(b, 8, 1<<40); put32(b, 16, 9); return b }, "the backing file's name"},
		{"a VHD with a wrong sum", func([]byte) []byte { b := make([]byte, 512); put64(b, 0, vhdCookie); return b }, "checksum is wrong"},
		{"a VHDX without regions", func([]byte) []byte { return append([]byte("vhdxfile"), make([]byte, 1<<19)...) }, "no region table"},
		{"a VMDK beyond any", func([]byte) []byte {
			b := append([]byte("KDMV"), make([]byte, 600)...)
			binary.LittleEndian.PutUint64(b[12:], 1<<60)
			return b
		}, "sectors"},
		{"a VDI of no kind", func([]byte) []byte {
			b := make([]byte, 600)
			binary.LittleEndian.PutUint32(b[64:], 0xbeda107f)
			return b
		}, "image type 0"},
		{"nothing", func([]byte) []byte { return nil }, ErrNot.Error()},
		{"text", func([]byte) []byte { return []byte("QFI") }, ErrNot.Error()},
	} {
		b := c.change(qcow2())
		_, err := ReadVirtual(bytes.NewReader(b), int64(len(b)))
		assert.ErrorContains(t, err, c.want, c.what)
	}
	over := qcow2()
	put64(over, 8, 512)
	put32(over, 16, 8)
	copy(over[512:], "base.img")
	v, err = ReadVirtual(bytes.NewReader(over), int64(len(over)))
	require.NoError(t, err)
	assert.Equal(t, "differencing base.img", v.Layout+" "+v.Backing)
	packed := qcow2()
	put64(packed, 2*65536, 1<<62|4096)
	v, err = ReadVirtual(bytes.NewReader(packed), int64(len(packed)))
	require.NoError(t, err)
	assert.True(t, v.Compressed)
}

// Partition tables by hand: entries that overrun, overlap nothing and lie are
// told, and a file system's boot sector is no table.
func TestCraftedTables(t *testing.T) {
	record := func(entries ...[4]uint32) []byte { // state, type, start, sectors
		b := make([]byte, 4096)
		b[510], b[511] = 0x55, 0xaa
		for k, e := range entries {
			at := 446 + 16*k
			b[at], b[at+4] = byte(e[0]), byte(e[1])
			binary.LittleEndian.PutUint32(b[at+8:], e[2])
			binary.LittleEndian.PutUint32(b[at+12:], e[3])
		}
		return b
	}
	for _, c := range []struct {
		what string
		b    []byte
		want string
	}{
		{"two", record([4]uint32{0x80, 0x83, 2048, 100}, [4]uint32{0, 0x82, 4096, 100}), "mbr 2 end 2148352 boots  fault "},
		{"one for UEFI, with code", append([]byte{0xeb, 0x3c}, record([4]uint32{0, 0xef, 2048, 100})[2:]...),
			"mbr 1 end 1099776 boots  fault "},
		{"an unknown type", record([4]uint32{0, 0x7f, 1, 1}), "mbr 1 end 1024 boots  fault "},
		{"the last sectors there are", record([4]uint32{0, 0x83, 0xffffffff, 0xffffffff}), "mbr 1 end 4398046510080 boots  fault "},
		{"a boot sector of a file system", record([4]uint32{0x41, 0x83, 1, 1}), "none"},
		{"empty", record(), "mbr 0 end 0 boots  fault "},
		{"a promise of a GPT", record([4]uint32{0, 0xee, 1, 1}),
			"gpt 0 end 0 boots  fault the record promises a GUID partition table and none is there"},
		{"a GPT with a mad header", func() []byte {
			b := record([4]uint32{0, 0xee, 1, 1})
			copy(b[512:], "EFI PART")
			binary.LittleEndian.PutUint32(b[512+12:], 9999)
			return b
		}(), "gpt 0 end 0 boots  fault the table's header claims 9999 bytes"},
		{"a GPT with mad entries", func() []byte {
			b := record([4]uint32{0, 0xee, 1, 1})
			copy(b[512:], "EFI PART")
			binary.LittleEndian.PutUint32(b[512+12:], 92)
			binary.LittleEndian.PutUint32(b[512+80:], 1<<31)
			binary.LittleEndian.PutUint32(b[512+84:], 128)
			return b
		}(), "gpt 0 end 512 boots  fault the table claims 2147483648 entries of 128 bytes"},
	} {
		got := "none"
		if table, err := ReadTable(bytes.NewReader(c.b), int64(len(c.b))); err == nil {
			got = fmt.Sprintf(
				"%s %d end %d boots %s fault %s",
				table.Scheme,
				len(table.Partitions),
				table.End,
				table.Boots,
				table.Fault,
			)
		}
		assert.Equal(t, c.want, got, c.what)
	}
}
