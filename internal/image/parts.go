package image

import (
	"fmt"
	"io"
	"io/fs"
	"regexp"
	"sort"
	"strconv"
	"strings"
	"sync"
)

// partName matches a file that is a numbered part of a split one.
var partName = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)^(.+\.(?:part)?)(\d{1,3})$`)
})

// maxParts bounds how many parts are joined.
const maxParts = 1000

// part is one part of a split file, with its number as written.
type part struct {
	name   string
	number int
	size   int64
	r      io.ReaderAt
}

// joined is the parts of a split file as one, in their order.
type joined []part

// ReadAt reads across the parts.
func (j joined) ReadAt(b []byte, at int64) (n int, err error) {
	for _, p := range j {
		if at >= p.size {
			at -= p.size
			continue
		}
		m, err := p.r.ReadAt(b[n:min(int64(len(b)), int64(n)+p.size-at)], at)
		n += m
		if err != nil && err != io.EOF || n == len(b) {
			return n, nilEOF(err, n == len(b))
		}
		at = 0
	}
	return n, io.EOF
}

// nilEOF forgives the end of a part where all that was asked for came.
func nilEOF(err error, full bool) error {
	if full && err == io.EOF {
		return nil
	}
	return err
}

// partsOf finds the parts beside a file that is named as one, by number, and the
// numbers that are missing between them. There are none when the file stands alone.
func partsOf(dir fs.FS, name string) (list []part, missing []string) {
	m := partName().FindStringSubmatch(name)
	if dir == nil || m == nil {
		return nil, nil
	}
	entries, err := fs.ReadDir(dir, ".")
	if err != nil {
		return nil, nil
	}
	for _, e := range entries {
		x := partName().FindStringSubmatch(e.Name())
		if x == nil || x[1] != m[1] || len(x[2]) != len(m[2]) && strings.HasPrefix(x[2], "0") {
			continue
		}
		number, err := strconv.Atoi(x[2])
		info, e2 := fs.Stat(dir, e.Name())
		if err == nil && e2 == nil && info.Mode().IsRegular() && len(list) < maxParts {
			list = append(list, part{name: e.Name(), number: number, size: info.Size()})
		}
	}
	sort.Slice(list, func(i, j int) bool { return list[i].number < list[j].number })
	if len(list) == 0 || len(list) == 1 && list[0].number > 1 || list[len(list)-1].number > maxParts {
		return nil, nil
	}
	at := min(list[0].number, 1)
	for _, p := range list {
		for ; at < p.number; at++ {
			missing = append(missing, fmt.Sprintf("%s%0*d", m[1], len(m[2]), at))
		}
		at++
	}
	return list, missing
}

// inspectParts looks at a split file as one, by its first part.
func inspectParts(name string, file io.ReaderAt, o Options, list []part, missing []string) *Content {
	c := &Content{Name: name}
	var all joined
	for _, p := range list {
		if p.name == name {
			p.r = file
		} else if f, err := o.Siblings.Open(p.name); err == nil {
			defer f.Close()
			p.r, _ = f.(io.ReaderAt)
		}
		if p.r == nil {
			missing = append(missing, p.name)
			continue
		}
		all = append(all, p)
		c.Size += p.size
	}
	o.file = c.Size
	own := *c
	own.Name = wholeName(name)
	inspect(&own, all, o, 0)
	own.Name = name
	own.Mismatch = ""
	for _, p := range list {
		own.Companions = append(own.Companions, Companion{p.name, "part", true})
	}
	for _, m := range missing {
		own.Companions = append(own.Companions, Companion{m, "part", false})
		own.fault("%s, a part of it, is missing from its folder", m)
	}
	if own.Next = own.next(); len(missing) == 0 {
		own.Next = fmt.Sprintf(
			"one of %d parts: join them first, as with cat %s… > %s",
			len(list),
			strings.TrimRight(list[0].name, "0123456789"),
			wholeName(name),
		)
	}
	return &own
}

// wholeName returns the name that the parts have in common.
func wholeName(name string) string {
	common := strings.TrimSuffix(partName().FindStringSubmatch(name)[1], ".")
	return strings.TrimSuffix(common, ".part")
}
