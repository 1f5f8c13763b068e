package image

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"path"
	"strings"
	"sync"

	"openbastion/internal/format/disk"
	"openbastion/internal/format/fat"
	"openbastion/internal/format/iso"
	"openbastion/internal/format/ovf"
	"openbastion/internal/format/stream"
	"openbastion/internal/format/sums"
)

// Options say how far an inspection goes. The zero value is good.
type Options struct {
	Whole    bool  // read compressed streams to their end, so that every checksum in them is tried
	Siblings fs.FS // the folder that the file lies in, see Folder; a package's other files are looked for there

	file int64 // size of the file in which everything lies
}

// budget is how many bytes of a stream are looked at.
func (o Options) budget() int64 {
	if o.Whole {
		return wholeBudget
	}
	return peekBudget
}

// packed returns the packed size by which what comes out is judged: what is said
// of it, as no part of a file is larger than the file.
func (o Options) packed(said int64) int64 {
	if said < 0 {
		return o.file
	}
	return min(said, o.file)
}

// judgeTwins tells members that are written to one name, as nobody can say which
// of them is meant.
func (c *Content) judgeTwins() {
	seen := map[string]int{}
	for _, x := range c.Inside {
		name := strings.ToLower(path.Clean(strings.ReplaceAll(x.Name, `\`, "/")))
		if seen[name]++; seen[name] == 2 {
			c.fault("it has more than one member %s: which one is meant is unclear", x.Name)
		}
	}
}

// readWhole is up to which size, in bytes, a compressed file is read to its end unasked.
const readWhole = 48 << 20

// Bounds on what crafted files can make us read.
const (
	maxDepth    = 4
	maxMembers  = 10_000
	peekBudget  = 256 << 20 // unpacked bytes that are looked at without Whole
	wholeBudget = 1 << 60   // with Whole: as long as the ratio stays sane
	maxRatio    = 1100      // what deflate can do at most is 1032; see Guard
)

// ErrNotPlain says that a name is one of a device, a pipe or a folder.
var ErrNotPlain = errors.New("not a regular file")

// freeRatio is the size under which no ratio is absurd: an empty disk packs well.
var freeRatio int64 = 1 << 30

// Inspect returns what a file of a size is.
func Inspect(name string, file io.ReaderAt, size int64, o Options) *Content {
	if list, missing := partsOf(o.Siblings, name); len(list)+len(missing) > 1 {
		return inspectParts(name, file, o, list, missing)
	}
	c := &Content{Name: name, Size: size}
	o.file = size
	inspect(c, file, o, 0)
	if c.Kind == Descriptor && o.Siblings != nil {
		c.siblings(o.Siblings)
	}
	return c
}

func (c *Content) fault(format string, args ...any) {
	c.Faults = append(c.Faults, fmt.Sprintf(format, args...))
}

// unpackFault returns why a stream did not unpack: damaged, or merely packed in a way
// that is not read here.
func (c *Content) unpackFault(err error, format string, args ...any) {
	var unsupported *stream.UnsupportedError
	if errors.As(err, &unsupported) {
		c.Unsupported = unsupported.Why
		return
	}
	c.fault(format, args...)
}

func (c *Content) note(format string, args ...any) {
	c.Notes = append(c.Notes, fmt.Sprintf(format, args...))
}

// inspect fills a content whose name and size (or -1) are set.
func inspect(c *Content, r io.ReaderAt, o Options, depth int) {
	c.Faults, c.Notes = []string{}, []string{}
	head := make([]byte, headLooked)
	n, err := r.ReadAt(head, 0)
	head = head[:n]
	if n == 0 && err != nil && err != io.EOF {
		c.fault("it cannot be read: %v", err)
	}
	c.Kind = c.tell(head, r, o)
	switch {
	case compressed(c.Kind):
		c.inspectStream(r, o, depth)
	case c.Kind == Zip:
		c.inspectZip(r, o, depth)
	case c.Kind == Tar:
		c.inspectTar(r, o, depth)
	case c.Kind == Descriptor:
		c.inspectDescriptor(r)
	case c.Kind == Empty:
		c.fault("it is empty")
	}
	if c.Kind == Unknown && c.Is == "" {
		c.Is, c.what = recognise(head)
	}
	c.judgeName()
	c.judgeSize()
	c.Boots, c.Made, c.System = c.Bootable(), c.Processors(), c.family()
	c.Next = c.next()
}

// headLooked is how much of a file's beginning is looked at for what it is.
const headLooked = 68 << 10

// tell finds the kind, and reads the headers of plain images.
func (c *Content) tell(head []byte, r io.ReaderAt, o Options) Kind {
	if len(head) == 0 {
		return Empty
	}
	if k := stream.Detect(head); k != "" {
		return Kind(k)
	}
	if bytes.HasPrefix(head, []byte("PK\x03\x04")) || bytes.HasPrefix(head, []byte("PK\x05\x06")) {
		return Zip
	}
	if len(head) >= 512 && (string(head[257:262]) == "ustar" || oldTar(head[:512])) {
		return Tar
	}
	size := c.Size
	if _, forward := r.(*window); forward {
		size = -1 // to look at its end is to unpack it all
	}
	if v, err := disk.ReadVirtual(r, size); err == nil {
		c.Virtual = v
		c.lookInto(r, o)
		return VirtDisk
	} else if !errors.Is(err, disk.ErrNot) {
		c.fault("%s", plainly(err))
		return VirtDisk
	}
	var errTable error
	if i, err := iso.Read(r, size); err == nil {
		c.Optical, c.loaders, c.boots = i, i.Loaders, i.Boots()
		c.Table, _ = disk.ReadTable(r, size)
		return Optical
	} else if !errors.Is(err, iso.ErrNot) {
		c.fault("%s", plainly(err))
		return Optical
	}
	if c.Table, errTable = disk.ReadTable(r, size); errTable == nil {
		c.boots, c.loaders = c.Table.Boots, c.Table.Loaders
		if c.Table.Remark != "" {
			c.note("%s", c.Table.Remark)
		}
		return RawDisk
	}
	if v, err := fat.Open(r); err == nil && size >= 0 {
		if fault := v.Check(); fault != nil && v.Size <= size {
			c.fault("%s", plainly(fault))
		}
		if c.loaders = v.Loaders(); len(c.loaders) > 0 {
			c.boots = "uefi"
			if v.Size > size {
				c.fault("it is cut short: the volume promises %d bytes, and %d are here", v.Size, size)
			}
			c.note("a FAT volume without partitions: firmware that looks for its loader there starts it")
			return RawDisk
		}
		c.Is, c.what = "file system", "a FAT volume without a loader: no machine starts from it; attach it as a drive with files"
		return Unknown
	}
	if text := bytes.TrimSpace(head); bytes.HasPrefix(text, []byte("<?xml")) ||
		bytes.HasPrefix(text, []byte("<Envelope")) {
		return Descriptor
	}
	if list, err := sums.Read("", head[:bytes.LastIndexByte(head, '\n')+1]); err == nil && len(list.Sums) > 0 {
		return List
	}
	return Unknown
}

// plainly takes the package's name off an error.
func plainly(err error) string {
	text := err.Error()
	for _, p := range []string{"disk: ", "iso: ", "ovf: ", "sums: ", "fat: "} {
		text = strings.TrimPrefix(text, p)
	}
	return text
}

// oldTar reports whether it is a header of the oldest form by its checksum.
func oldTar(h []byte) bool {
	var sum, want int
	for k, b := range h {
		if k >= 148 && k < 156 {
			b = ' '
		}
		sum += int(b)
	}
	for _, b := range h[148:156] {
		if b >= '0' && b <= '7' {
			want = want*8 + int(b-'0')
		}
	}
	return sum == want && want > 8*' ' && h[0] > ' '
}

// judgeSize finds what is cut short.
func (c *Content) judgeSize() {
	if c.Size < 0 {
		return
	}
	short := func(what string, end int64) {
		if end > c.Size {
			c.fault("it is cut short: %s promises %d bytes, and %d are here", what, end, c.Size)
		}
	}
	switch {
	case c.Optical != nil:
		short("the volume", c.Optical.Size)
		for _, e := range c.Optical.Boot {
			if e.At+e.Size > c.Size && c.Optical.Size <= c.Size {
				c.fault("it is cut short: a boot image ends at byte %d, and %d are here", e.At+e.Size, c.Size)
			}
		}
		if c.Table != nil && c.Optical.Size <= c.Size {
			short("its partition table", c.Table.End)
		}
		if c.Optical.Fault != "" {
			c.fault("%s", c.Optical.Fault)
		}
		if c.Optical.Partial != "" && c.Optical.Size <= c.Size {
			c.note("%s", c.Optical.Partial)
		}
	case c.Table != nil && c.Virtual != nil:
		if c.Table.Fault != "" {
			c.fault("%s", c.Table.Fault)
		} else if c.Table.End > c.Virtual.Size {
			c.fault("its partition table is for %d bytes, but the disk has %d", c.Table.End, c.Virtual.Size)
		}
	case c.Table != nil:
		if c.Table.Fault != "" {
			c.fault("%s", c.Table.Fault)
		}
		short("the partition table", c.Table.End)
	case c.Virtual != nil && len(c.Faults) == 0 && len(c.Companions) == 0:
		short("the header", c.Virtual.End)
	}
}

// inspectStream looks into a compressed stream.
func (c *Content) inspectStream(r io.ReaderAt, o Options, depth int) {
	_, name := Promised(c.Name)
	if name == c.Name {
		name += " (unpacked)"
	}
	inner := &Content{Name: name, Size: -1}
	packed := int64(math.MaxInt64)
	if c.Size >= 0 {
		packed = c.Size
		if n, ok := stream.Length(stream.Kind(c.Kind), r, c.Size); ok {
			inner.Size = n
		}
	}
	raw, err := stream.Peek(stream.Kind(c.Kind), io.NewSectionReader(r, 0, packed))
	if err != nil {
		c.unpackFault(err, "it does not unpack: %v", err)
		return
	}
	w := newWindow(Guard(raw, o.packed(c.Size)), o.budget())
	if depth >= maxDepth {
		c.note("compressed more than %d times; the innermost content was not read", maxDepth)
		return
	}
	inspect(inner, w, o, depth+1)
	if inner.Kind == c.Kind {
		c.fault("it is %s packed as %s once more: no sound image is, and a small file can unpack to any size so",
			article(string(inner.Kind)), c.Kind)
		return
	}
	c.Inside = []*Content{inner}
	if o.Whole || depth == 0 && c.Size >= 0 && c.Size <= readWhole {
		n, err := w.drain(wholeBudget)
		if err != nil {
			c.unpackFault(err, "it breaks off after %d bytes: %v", n, err)
		} else if inner.Size = n; len(inner.Faults) == 0 {
			inner.judgeSize()
		}
	} else if c.note("only its beginning was read: --whole reads it to its end"); w.err != nil && w.err != io.EOF {
		c.unpackFault(w.err, "it breaks off after %d bytes: %v", w.at, w.err)
	} else if c.Size >= 0 {
		if err := stream.Ends(stream.Kind(c.Kind), r, c.Size); err != nil {
			c.fault("%v", err)
		}
	}
	if c.Unsupported != "" {
		c.Inside, c.Notes = nil, []string{}
		return
	}
	if w.err == io.EOF && inner.Size < 0 {
		inner.Size = w.at
		inner.judgeSize()
	}
}

// Guard ends a stream that unpacks to more than any sound image would: over
// maxRatio times what was packed, when that is over freeRatio bytes. A packed
// size under 0 is unknown.
func Guard(r io.Reader, packed int64) io.Reader {
	if packed < 0 || packed > math.MaxInt64/maxRatio {
		return r
	}
	return &guard{r: r, most: max(packed*maxRatio, freeRatio)}
}

type guard struct {
	r    io.Reader
	most int64
}

// ErrRatio says that a stream unpacks to an absurd size.
var ErrRatio = fmt.Errorf("it unpacks to more than %d times its size, as no sound image does", maxRatio)

func (g *guard) Read(b []byte) (int, error) {
	n, err := g.r.Read(b)
	if g.most -= int64(n); g.most < 0 {
		return 0, ErrRatio
	}
	return n, err
}

// inspectZip looks at the members of a zip.
func (c *Content) inspectZip(r io.ReaderAt, o Options, depth int) {
	if c.Size < 0 || depth >= maxDepth {
		c.note("a zip within a stream can be read only when it is unpacked")
		return
	}
	z, err := newZip(r, c.Size)
	if err != nil {
		c.fault("its directory cannot be read, so it is cut short or broken: %v", err)
		return
	}
	whole := o.Whole || depth == 0 && c.Size <= readWhole
	for _, f := range z.File[:min(len(z.File), maxMembers)] {
		if f.FileInfo().IsDir() {
			continue
		}
		inner := &Content{Name: f.Name, Size: int64(min(f.UncompressedSize64, math.MaxInt64))}
		c.Inside = append(c.Inside, inner)
		if why := unreadable(f); why != "" {
			inner.Kind, inner.Faults, inner.Notes, inner.Unsupported = Unknown, []string{}, []string{}, why
			c.Unsupported = f.Name + ": " + why
			continue
		}
		m, err := f.Open()
		if err != nil {
			inner.Kind, inner.Faults, inner.Notes = Unknown, []string{}, []string{}
			inner.fault("it cannot be unpacked: %v", err)
			continue
		}
		w := newWindow(Guard(m, o.packed(int64(min(f.CompressedSize64, math.MaxInt64)))), o.budget())
		if at, err := f.DataOffset(); err == nil && f.Method == zip.Store &&
			depth == 0 { // where it lies, to be read anywhere
			inspect(inner, io.NewSectionReader(r, at, inner.Size), Options{Whole: o.Whole, file: o.file}, depth+1)
		} else {
			inspect(inner, w, Options{Whole: o.Whole, file: o.file}, depth+1)
		}
		if whole && inner.Size <= readWhole || o.Whole {
			if n, err := w.drain(wholeBudget); err != nil {
				inner.fault("it breaks off after %d bytes: %v", n, err)
			}
		} else {
			inner.note("only its beginning was read: --whole reads it to its end")
		}
		m.Close()
	}
	c.judgeTwins()
	if n := len(z.File); n > maxMembers {
		c.note("it has %d members; the first %d were looked at", n, maxMembers)
	}
}

// methods names what zips pack with that is not unpacked here (APPNOTE, section 4.4.5).
var methods = sync.OnceValue(func() map[uint16]string {
	return map[uint16]string{
		9:  "deflate64",
		12: "bzip2",
		14: "lzma",
		93: "zstd",
		95: "xz",
		97: "wavpack",
		98: "PPMd",
		99: "AES",
	}
})

// unreadable returns why a zip's member is not unpacked here, whole as it may be.
func unreadable(f *zip.File) string {
	switch {
	case f.Flags&1 != 0 || f.Method == 99:
		return "it is encrypted: unpack it with a program that takes its password"
	case f.Method != zip.Store && f.Method != zip.Deflate:
		how := methods()[f.Method]
		if how == "" {
			how = fmt.Sprintf("method %d", f.Method)
		}
		return "it is packed with " + how + ", which is not unpacked here: unpack it with the program that made it"
	}
	return ""
}

// inspectTar looks at the members of a tar; one with a package's descriptor at its
// top is a package.
func (c *Content) inspectTar(r io.ReaderAt, o Options, depth int) {
	if depth >= maxDepth {
		c.note("compressed more than %d times; the innermost content was not read", maxDepth)
		return
	}
	size := c.Size
	if size < 0 {
		size = math.MaxInt64
	}
	section := io.NewSectionReader(r, 0, size)
	var in io.Reader = section
	if _, forward := r.(*window); forward {
		in = struct{ io.Reader }{section} // without going back
	}
	t := tar.NewReader(in)
	for n := 0; ; n++ {
		h, err := t.Next()
		if err == io.EOF {
			break
		}
		if errors.Is(err, errBudget) {
			c.note("members after the first %d were not read; --whole reads all", n)
			break
		}
		if err != nil {
			c.fault("it breaks off after %d members: %v", n, err)
			break
		}
		if n >= maxMembers {
			c.note("the first %d members were looked at", maxMembers)
			break
		}
		if !regular(h) {
			continue
		}
		inner := &Content{Name: h.Name, Size: h.Size}
		c.Inside = append(c.Inside, inner)
		var content io.ReaderAt
		if at, err := section.Seek(0, io.SeekCurrent); err == nil && in == io.Reader(section) && plainMember(h) {
			content = io.NewSectionReader(r, at, h.Size) // where it lies, to be read anywhere
		} else {
			content = newWindow(Guard(t, o.packed(h.Size)), peekBudget)
		}
		inspect(inner, content, Options{Whole: o.Whole, file: o.file}, depth+1)
	}
	c.judgeTwins()
	c.inspectPackage(section, in == io.Reader(section))
}

// plainMember reports whether it is a member whose bytes lie in the archive one after another.
func plainMember(h *tar.Header) bool {
	for key := range h.PAXRecords {
		if strings.HasPrefix(key, "GNU.sparse.") {
			return false
		}
	}
	return h.Typeflag == tar.TypeReg
}

// inspectDescriptor reads a package's descriptor.
func (c *Content) inspectDescriptor(r io.ReaderAt) {
	data, err := io.ReadAll(io.LimitReader(io.NewSectionReader(r, 0, math.MaxInt64), ovf.MaxSize+1))
	if err == nil || errors.Is(err, io.EOF) {
		c.Package, err = ovf.Read(data)
	}
	if err != nil {
		if !bytes.Contains(data[:min(len(data), 4096)], []byte("Envelope")) {
			c.Kind = Unknown
			return
		}
		c.fault("%s", plainly(err))
	}
}
