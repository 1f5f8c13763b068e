package adopt

import (
	"cmp"
	"fmt"
	"path"
	"strings"

	"openbastion/internal/model/lab"
)

// nameOf returns a machine's name: as it was said, as it says itself, or as its file is
// called, in the letters that names have.
func nameOf(list ...string) string {
	if list[0] == Host {
		return Host
	}
	for i, text := range list {
		if i == len(list)-1 {
			text = strings.TrimSuffix(path.Base(strings.ReplaceAll(text, "\\", "/")), path.Ext(text))
		}
		if name := letters(text); name != "" {
			return name
		}
	}
	return "machine"
}

// letters turns a text into a name of the lab file; empty when nothing of it is left.
func letters(text string) string {
	name := lab.LikeName(text)
	if name == "" || len(name) > 63 {
		return ""
	}
	if lab.CheckName(name) != nil || name == lab.Undecided {
		name += "-net"
	}
	return name
}

// unused returns a name that nobody has yet, numbered where it must be.
func unused(taken map[string]bool, name string) string {
	out := name
	for i := 2; taken[out]; i++ {
		out = fmt.Sprintf("%s%d", name, i)
	}
	taken[out] = true
	return out
}

// sides are words that say which side an adapter or a network is on.
var sides = []struct {
	role  string
	words []string
}{
	{"wan", []string{"wan", "outside", "external", "internet", "uplink", "upstream", "public", "untrust"}},
	{"manage", []string{"manage", "mgmt", "management", "admin", "service", "host"}},
	{"dmz", []string{"dmz", "perimeter", "screened"}},
	{"lan", []string{"lan", "inside", "internal", "trust", "private", "intern", "isolated"}},
}

// side returns the role that words speak of; empty when they speak of none, or of several.
func side(texts ...string) string {
	found := ""
	for _, text := range texts {
		for _, word := range strings.FieldsFunc(strings.ToLower(text), func(c rune) bool { return c < 'a' || c > 'z' }) {
			for _, s := range sides {
				for _, w := range s.words {
					if word != w && word != w+"net" && word != w+"side" {
						continue
					}
					if found = cmp.Or(found, s.role); found != s.role {
						return ""
					}
				}
			}
		}
	}
	return found
}
