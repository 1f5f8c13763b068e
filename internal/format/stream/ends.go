package stream

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/big"

	"github.com/klauspost/compress/zstd"
)

// Ends reports whether a file ends as its stream must, by its structure alone and
// without unpacking it: the footer of xz (file format 1.2, section 2.2), the end
// mark of bzip2, the frames and blocks of Zstandard (RFC 8878 section 3.1.1). Of
// gzip nothing shows without unpacking, and the answer is no error.
func Ends(k Kind, r io.ReaderAt, size int64) error {
	switch k {
	case XZ:
		if size >= 12 && !bytes.HasSuffix(bytes.TrimRight(tail(r, size, 4096), "\x00"), []byte("YZ")) {
			return errors.New("it does not end as an xz stream does: it is cut short, or something was added")
		}
	case Bzip2:
		if size >= 14 && !bzip2Ends(tail(r, size, 11)) {
			return errors.New("it does not end as a bzip2 stream does: it is cut short, or something was added")
		}
	case Zstd:
		return zstdEnds(r, size)
	}
	return nil
}

func tail(r io.ReaderAt, size, n int64) []byte {
	b := make([]byte, min(size, n))
	if _, err := r.ReadAt(b, size-int64(len(b))); err != nil && err != io.EOF {
		return nil
	}
	return b
}

// bzip2Ends finds the end mark, 48 bits, which stands before the 32 bits of the
// checksum and at most 7 of padding.
func bzip2Ends(last []byte) bool {
	const mark = 0x177245385090
	if len(last) != 11 {
		return false
	}
	bits := new(big.Int).SetBytes(last)
	low48 := big.NewInt(1<<48 - 1)
	for pad := range uint(8) { // from its end: padding, 32 bits of checksum, the mark
		if new(big.Int).And(new(big.Int).Rsh(bits, pad+32), low48).Uint64() == mark {
			return true
		}
	}
	return false
}

// maxZstdBlocks bounds how many blocks are walked over: those of 128 KiB of a
// file of 2 TiB.
const maxZstdBlocks = 1 << 24

// zstdEnds walks over frames and blocks without unpacking them.
func zstdEnds(r io.ReaderAt, size int64) error {
	head := make([]byte, zstd.HeaderMaxSize)
	for at, left := int64(0), maxZstdBlocks; at < size; {
		n, _ := r.ReadAt(head, at)
		var h zstd.Header
		if err := h.Decode(head[:n]); err != nil {
			return fmt.Errorf("no frame of Zstandard begins at byte %d: it is cut short, or something was added", at)
		}
		if at += int64(h.HeaderSize); h.Skippable {
			at += int64(h.SkippableSize)
		} else {
			for last := false; !last; left-- {
				var b [3]byte
				if _, err := r.ReadAt(b[:], at); err != nil || left == 0 {
					return fmt.Errorf("its last frame breaks off at byte %d: it is cut short", min(at, size))
				}
				v := uint32(b[0]) | uint32(b[1])<<8 | uint32(b[2])<<16
				last = v&1 == 1
				if at += 3 + int64(v>>3); v>>1&3 == 1 { // one byte, repeated
					at += 1 - int64(v>>3)
				}
			}
			if h.HasCheckSum {
				at += 4
			}
		}
		if at > size {
			return fmt.Errorf("its last frame promises %d bytes more: it is cut short", at-size)
		}
	}
	return nil
}
