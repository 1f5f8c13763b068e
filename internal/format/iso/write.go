package iso

import (
	"encoding/binary"
	"fmt"
	"strings"
	"unicode/utf16"
)

// File is a file of an image that is written: in its top folder.
type File struct {
	Name string // as Joliet shows it; at most 64 characters
	Data []byte
}

// The sectors of an image that is written.
const (
	primaryAt = 16 + iota
	jolietAt
	endAt
	primaryPaths // little endian, and big endian behind it
	_
	jolietPaths
	_
	primaryRoot
	jolietRoot
	dataAt
)

// Write returns an image of a few files with a volume label: names as they are
// (Joliet), and for old readers shortened to capitals, digits and underscores.
// The same files give the same bytes: nothing in it says when it was made.
func Write(label string, files []File) ([]byte, error) {
	extent := dataAt
	var short, long []entry
	taken := map[string]bool{}
	for _, f := range files {
		if f.Name == "" || len(f.Name) > 64 || strings.ContainsAny(f.Name, "*/:;?\\") {
			return nil, fmt.Errorf("iso: %q is not a valid file name in an image", f.Name)
		}
		name := shorten(f.Name)
		if taken[name] {
			return nil, fmt.Errorf("iso: another file is called %s by old readers, like %s", name, f.Name)
		}
		taken[name] = true
		short = append(short, entry{[]byte(name + ".;1"), extent, len(f.Data), 0})
		long = append(long, entry{ucs2(f.Name), extent, len(f.Data), 0})
		extent += (len(f.Data) + Sector - 1) / Sector
	}
	b := make([]byte, extent*Sector)
	at := func(sector int) []byte { return b[sector*Sector:] }
	for _, v := range []struct {
		sector, paths, root int
		label               []byte
		files               []entry
		kind                byte
		escape              string
	}{
		{primaryAt, primaryPaths, primaryRoot, []byte(strings.ToUpper(label)), short, 1, ""},
		{jolietAt, jolietPaths, jolietRoot, ucs2(label), long, 2, "%/E"}, // UCS-2, level 3
	} {
		d := at(v.sector)
		d[0] = v.kind
		copy(d[1:], "CD001\x01")
		blank := []byte(" ")
		if v.escape != "" {
			blank = []byte{0, ' '}
		}
		for _, field := range [][2]int{{8, 32}, {40, 32}, {190, 128}, {318, 128}, {446, 128}, {574, 128}, {702, 37}, {739, 37}, {776, 37}} {
			for i := range field[1] {
				d[field[0]+i] = blank[i%len(blank)]
			}
		}
		if v.kind == 1 && strings.ToLower(label) == label {
			copy(d[40:], label) // readers look for it as it is written
		} else {
			copy(d[40:72], v.label)
		}
		both32(d[80:], extent)
		copy(d[88:], v.escape)
		both16(d[120:], 1)
		both16(d[124:], 1)
		both16(d[128:], Sector)
		both32(d[132:], 10) // of the path table: the root alone
		binary.LittleEndian.PutUint32(d[140:], uint32(v.paths))
		binary.BigEndian.PutUint32(d[148:], uint32(v.paths+1))
		root := entry{[]byte{0}, v.root, Sector, 2}
		root.put(d[156:])
		for _, date := range []int{813, 830, 847, 864} { // not said
			copy(d[date:], "0000000000000000")
		}
		d[881] = 1

		path := at(v.paths)
		path[0], path[6] = 1, 1
		binary.LittleEndian.PutUint32(path[2:], uint32(v.root))
		path = at(v.paths + 1)
		path[0], path[7] = 1, 1
		binary.BigEndian.PutUint32(path[2:], uint32(v.root))

		n := root.put(at(v.root))
		n += entry{[]byte{1}, v.root, Sector, 2}.put(at(v.root)[n:])
		for _, f := range v.files {
			if n+33+len(f.name)+1 > Sector {
				return nil, fmt.Errorf("iso: %d files are too many for one folder", len(files))
			}
			n += f.put(at(v.root)[n:])
		}
	}
	end := at(endAt)
	end[0] = 255
	copy(end[1:], "CD001\x01")
	for i, f := range files {
		copy(at(short[i].extent), f.Data)
	}
	return b, nil
}

// entry is a record of a folder (ECMA-119, section 9.1).
type entry struct {
	name   []byte
	extent int
	size   int
	flags  byte // 2: a folder
}

// put writes the record and gives its length.
func (r entry) put(b []byte) int {
	n := 33 + len(r.name)
	n += n % 2
	b[0] = byte(n)
	both32(b[2:], r.extent)
	both32(b[10:], r.size)
	b[25] = r.flags
	both16(b[28:], 1)
	b[32] = byte(len(r.name))
	copy(b[33:], r.name)
	return n
}

// both32 writes a number in both byte orders, one behind the other.
func both32(b []byte, v int) {
	binary.LittleEndian.PutUint32(b, uint32(v))
	binary.BigEndian.PutUint32(b[4:], uint32(v))
}

func both16(b []byte, v int) {
	binary.LittleEndian.PutUint16(b, uint16(v))
	binary.BigEndian.PutUint16(b[2:], uint16(v))
}

func ucs2(s string) []byte {
	var b []byte
	for _, u := range utf16.Encode([]rune(s)) {
		b = binary.BigEndian.AppendUint16(b, u)
	}
	return b
}

// shorten makes a name that the first edition of the format allows.
func shorten(name string) string {
	name = strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z':
			return r - 'a' + 'A'
		case r >= 'A' && r <= 'Z', r >= '0' && r <= '9':
			return r
		}
		return '_'
	}, name)
	return name[:min(len(name), 8)]
}
