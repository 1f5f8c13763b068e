package fat

import (
	"bytes"
	"errors"
	"fmt"
)

// maxTable bounds how much of each table is held against its copy, in bytes.
const maxTable = 4 << 20

// Check holds the volume against what it says twice: its tables against each other
// and against the boot sector, and its top folder against what folders can hold. It
// reads at most 8 MiB and one folder.
func (v *Volume) Check() error {
	first := make([]byte, min(v.table, maxTable))
	if _, err := v.r.ReadAt(first, v.fat); err != nil {
		return fmt.Errorf("fat: its table: %w", err)
	}
	if v.media != 0 && first[0] != v.media {
		return errors.New("fat: its table does not match its boot sector")
	}
	if v.tables == 2 {
		second := make([]byte, len(first))
		if _, err := v.r.ReadAt(second, v.fat+v.table); err != nil {
			return fmt.Errorf("fat: its second table: %w", err)
		}
		if !bytes.Equal(first, second) {
			return errors.New("fat: its two tables differ")
		}
	}
	top := make([]byte, v.cluster)
	at := v.data + (v.root-2)*v.cluster
	if v.Bits != 32 {
		top, at = make([]byte, min(v.rootSize, maxFolder)), v.root
	}
	if _, err := v.r.ReadAt(top, at); err != nil {
		return fmt.Errorf("fat: the top folder: %w", err)
	}
	for k := 0; k+entrySize <= len(top) && top[k] != 0; k += entrySize {
		if top[k] != 0xe5 && top[k+11]&0xc0 != 0 { // two bits of the attributes are reserved
			return errors.New("fat: its root folder is invalid")
		}
	}
	return nil
}
