// Package profiles holds the profiles of appliances and the wordings of
// hypervisors that ship with the program. They are data; none speaks of a
// product.
package profiles

import (
	"embed"
	"path"
	"strings"
)

// Files is the profiles, NAME.yaml each, and what hypervisors call things,
// wordings/NAME.yaml.
//
//go:embed *.yaml wordings/*.yaml start/*.yaml
var Files embed.FS

// Default is the name of the reference appliance's profile.
const Default = "reference"

// Profile returns the text of a shipped profile; false when there is none of that
// name.
func Profile(name string) ([]byte, bool) { return file(name) }

// Wording returns the text of a shipped wording; false when there is none of that
// name.
func Wording(name string) ([]byte, bool) { return file("wordings/" + name) }

// Start returns the text of a profile to fill in, with NAME where its name goes.
func Start() []byte {
	data, _ := file("start/profile")
	return data
}

func file(name string) ([]byte, bool) {
	data, err := Files.ReadFile(name + ".yaml")
	return data, err == nil
}

// Names returns the shipped profiles' names, in alphabetical order.
func Names() []string { return names(".") }

// Title returns what kind of appliance a shipped profile speaks of.
func Title(name string) string {
	data, _ := Profile(name)
	for _, line := range strings.Split(string(data), "\n") {
		if title, ok := strings.CutPrefix(line, "title: "); ok {
			return title
		}
	}
	return ""
}

// WordingNames returns the shipped wordings' names, in alphabetical order.
func WordingNames() []string { return names("wordings") }

func names(folder string) []string {
	entries, _ := Files.ReadDir(folder)
	var out []string
	for _, e := range entries {
		if name, ok := strings.CutSuffix(path.Base(e.Name()), ".yaml"); ok {
			out = append(out, name)
		}
	}
	return out
}
