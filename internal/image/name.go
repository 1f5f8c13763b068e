package image

import (
	"fmt"
	"path"
	"strings"
	"sync"

	"openbastion/internal/format/stream"
)

// suffixes tells what the end of a name promises.
var suffixes = sync.OnceValue(func() map[string]Kind {
	return map[string]Kind{
		".iso": Optical, ".img": RawDisk, ".raw": RawDisk, ".dd": RawDisk, ".zip": Zip, ".tar": Tar, ".ova": Archive, ".ovf": Descriptor,
		".qcow2": VirtDisk, ".vmdk": VirtDisk, ".vhd": VirtDisk, ".vhdx": VirtDisk, ".vdi": VirtDisk,
		".sha256": List, ".sha512": List, ".mf": List,
	}
})

// Promised returns what a name promises, and the name without that promise.
func Promised(name string) (Kind, string) {
	low := strings.ToLower(name)
	for _, k := range []stream.Kind{stream.Gzip, stream.Bzip2, stream.XZ, stream.Zstd} {
		for _, s := range stream.Suffixes[k] {
			if inner, ok := strings.CutSuffix(low, s); ok && inner != "" {
				if s[1] == 't' { // .tgz and its like are short for .tar.gz
					return Kind(k), name[:len(inner)] + ".tar"
				}
				return Kind(k), name[:len(inner)]
			}
		}
	}
	return suffixes()[path.Ext(low)], name
}

// compressed reports whether a kind is a compressed stream.
func compressed(k Kind) bool { return stream.Suffixes[stream.Kind(k)] != nil }

// judgeName returns how name and content disagree.
func (c *Content) judgeName() {
	says, _ := Promised(c.Name)
	c.Agrees = true
	if says == "" || c.Kind == Unknown && says == RawDisk || c.Kind == Empty {
		return
	}
	got := string(c.Kind)
	switch {
	case says == c.Kind && c.Virtual != nil:
		want := strings.TrimPrefix(path.Ext(strings.ToLower(c.Name)), ".")
		if want == c.Virtual.Format {
			return
		}
		c.Mismatch = fmt.Sprintf("the name says %s, but the content is %s", want, c.Virtual.Format)
	case says == c.Kind:
		return
	default:
		switch {
		case c.Kind == Unknown && c.Is == "zeros":
			got = "nothing but zeros"
		case c.Kind == Unknown && c.Is != "":
			got = c.Is
		case c.Kind == Unknown:
			got = "nothing that is known here"
		}
		c.Mismatch = fmt.Sprintf("the name says %s, but the content is %s", article(string(says)), article(got))
	}
	c.Agrees = false
}

// article puts a or an before a kind.
func article(kind string) string {
	switch {
	case strings.HasPrefix(kind, "nothing"), compressed(Kind(kind)), kind == "tar", kind == "zip":
		return kind
	case strings.ContainsRune("aeiou", rune(kind[0])):
		return "an " + kind
	}
	return "a " + kind
}
