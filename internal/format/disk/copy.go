package disk

import (
	"bytes"
	"fmt"
	"io"
)

// Alone reports whether the one file that the header was read from holds the whole disk, and returns
// what else it names: a base, a data file, extents, or a parent that only an identifier names.
func (v *Virtual) Alone() (names []string, alone bool) {
	if v.Backing != "" {
		names = append(names, v.Backing)
	}
	if v.Data != "" {
		names = append(names, v.Data)
	}
	for _, x := range v.Extents {
		if x.File != "" {
			names = append(names, x.File)
		}
	}
	return names, len(names) == 0 && v.Extents == nil && v.Layout != "differencing" && v.Layout != "split"
}

// CopyTo writes what a guest sees of the disk, and leaves out blocks that are zeros. It stops with an
// error once more than most bytes were written: a packed disk can stand for many times its file.
func (w *View) CopyTo(to io.WriterAt, most int64) (written int64, err error) {
	const least = 64 << 10 // so that blocks of a sector are not read one by one
	step := w.block
	if step < least {
		step = least / step * step
	}
	buffer := make([]byte, step)
	zeros := make([]byte, step)
	for at := int64(0); at < w.Size; at += step {
		if step == w.block && w.beneath == nil {
			p, err := w.find(at / w.block)
			if err != nil {
				return written, err
			}
			if p.zero || p.in == nil && p.unpack == nil && p.holes == 0 {
				continue
			}
		}
		part := buffer[:min(step, w.Size-at)]
		if n, err := w.ReadAt(part, at); err != nil && n < len(part) {
			return written, err
		}
		if bytes.Equal(part, zeros[:len(part)]) {
			continue
		}
		if written += int64(len(part)); written > most {
			return written, fmt.Errorf("disk: it holds more than %d bytes, which its file cannot stand for", most)
		}
		if _, err := to.WriteAt(part, at); err != nil {
			return written, err
		}
	}
	return written, nil
}
