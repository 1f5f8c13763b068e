package iso

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Bounds on what is walked over of an image's folders.
const (
	maxWalked    = 16 << 20 // bytes of folders
	maxPathTable = 1 << 20  // bytes of a path table
)

// check holds an image's folders against what it says of them twice: numbers in
// both byte orders, path tables in both, folders by their own first record
// (ECMA-119, sections 7.3.3, 9.1 and 9.4). primary is the primary descriptor. It
// gives what is damaged; nil when nothing that was looked at is.
func check(r io.ReaderAt, size int64, primary []byte) error {
	le, be := binary.LittleEndian, binary.BigEndian
	block := int64(le.Uint16(primary[128:]))
	root := int64(le.Uint32(primary[156+2:]))
	if err := pathTables(r, size, primary, block, root); err != nil {
		return err
	}
	type folder struct{ at, size int64 }
	queue := []folder{{root, int64(le.Uint32(primary[156+10:]))}}
	seen := map[int64]bool{root: true}
	left := int64(maxWalked)
	for ; len(queue) > 0 && left > 0; queue = queue[1:] {
		f := queue[0]
		b := make([]byte, min(f.size, left))
		left -= int64(len(b))
		if f.at*block+int64(len(b)) > size { // that it is cut short is told otherwise
			continue
		}
		if _, err := r.ReadAt(b, f.at*block); err != nil {
			return fmt.Errorf("a folder cannot be read: %w", err)
		}
		if len(b) < 34 || b[0] < 34 || b[33] != 0 || int64(le.Uint32(b[2:])) != f.at {
			return errors.New("a folder does not begin with itself: it is damaged")
		}
		for k := 0; k+33 < len(b); {
			length := int(b[k])
			if length == 0 {
				k = (k/Sector + 1) * Sector
				continue
			}
			if length < 34 || k+length > len(b) || 33+int(b[k+32]) > length {
				return errors.New("a folder contains an impossible record: it is damaged")
			}
			e := b[k : k+length]
			if k += length; le.Uint32(e[2:]) != be.Uint32(e[6:]) || le.Uint32(e[10:]) != be.Uint32(e[14:]) {
				return errors.New("a folder's numbers in their two byte orders differ: it is damaged")
			}
			at := int64(le.Uint32(e[2:]))
			if e[25]&2 != 0 && !seen[at] && len(seen) < maxWalked/Sector {
				seen[at] = true
				queue = append(queue, folder{at, int64(le.Uint32(e[10:]))})
			}
		}
	}
	return nil
}

// pathTables holds the path tables of both byte orders against each other.
func pathTables(r io.ReaderAt, size int64, primary []byte, block, root int64) error {
	le, be := binary.LittleEndian, binary.BigEndian
	length := min(int64(le.Uint32(primary[132:])), maxPathTable)
	one, two := int64(le.Uint32(primary[140:]))*block, int64(be.Uint32(primary[148:]))*block
	if length < 10 || one == 0 || two == 0 || max(one, two)+length > size {
		return nil
	}
	a, b := make([]byte, length), make([]byte, length)
	if _, err := r.ReadAt(a, one); err != nil {
		return fmt.Errorf("a path table cannot be read: %w", err)
	}
	if _, err := r.ReadAt(b, two); err != nil {
		return fmt.Errorf("a path table cannot be read: %w", err)
	}
	if int64(le.Uint32(a[2:])) != root {
		return errors.New("its path table does not begin with its top folder: it is damaged")
	}
	for k := 0; k+8 < len(a) && a[k] > 0; k += 8 + (int(a[k])+1)/2*2 {
		end := min(k+8+int(a[k]), len(a))
		if a[k] != b[k] || le.Uint32(a[k+2:]) != be.Uint32(b[k+2:]) || string(a[k+8:end]) != string(b[k+8:end]) {
			return errors.New("its path tables in their two byte orders differ: one is damaged")
		}
	}
	return nil
}
