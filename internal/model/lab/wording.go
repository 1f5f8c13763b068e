package lab

import (
	"regexp"
	"slices"
	"strings"
	"sync"
)

// Wording is what one hypervisor calls things: a runbook puts these words in.
// Each may hold the keys in braces that its row of wordingTexts names.
type Wording struct {
	Origin
	File       string
	Version    int
	Name       string
	Title      string
	Bridged    string // how an adapter is bridged to {uplink}
	Translated string // translated by the host
	HostOnly   string // on a network {name} that the host has a leg on
	Isolated   string // on a network {name} that neither the host nor an adapter of the host is on
	Access     string // with the access tag {tag}
	Trunk      string // with {tags} passed
	Machine    string // what a virtual machine is called
	Adapter    string // adapter {number}
	Segment    string // what a network {name} is called, and how it comes to be
	Medium     string // where an install medium goes in
	Snapshot   string // what a snapshot is called
	Boot       string // where the boot order stands
	Floor      string // how memory is kept from shrinking
	Leases     string // where the hypervisor's own lease service is switched off
}

// ReadWording reads a wording file. The error is of type [Faults].
func ReadWording(file string, data []byte) (*Wording, error) {
	r := &reader{file: file, data: data}
	root := r.parse()
	if root == nil {
		return nil, r.faults
	}
	w := &Wording{File: file}
	readObject(r, root, "the wording", wordingFields(), w)
	if w.Version == 0 && !w.Has("bastion-wording") {
		r.fail(Pos{Line: 1, Column: 1}, "the format version is missing; write `bastion-wording: 1` as the first line")
	}
	w.checkKeys(r)
	if len(r.faults) > 0 {
		return nil, r.faults.sorted()
	}
	return w, nil
}

// inBraces finds a key in a word.
var inBraces = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\{[^{}]*\}`) })

// checkKeys refuses a key in braces that nothing fills in: it would stand in the runbook as it is.
func (w *Wording) checkKeys(r *reader) {
	for _, t := range wordingTexts {
		for _, k := range inBraces().FindAllString(*t.at(w), -1) {
			switch {
			case slices.Contains(t.keys, k[1:len(k)-1]):
			case t.keys == nil:
				r.fail(w.At(t.key), "%s: %s is not a key; this text takes no key in braces", t.key, k)
			default:
				r.fail(
					w.At(t.key),
					"%s: %s is not a key; this text takes {%s}",
					t.key,
					k,
					strings.Join(t.keys, "}, {"),
				)
			}
		}
	}
}

// Fill takes the words that are not said from another wording.
func (w *Wording) Fill(from *Wording) {
	for _, t := range wordingTexts {
		if at := t.at(w); *at == "" {
			*at = *t.at(from)
		}
	}
}

// Say fills a word's keys in: pairs of a key without braces and its value.
func (w *Wording) Say(word string, pairs ...string) string {
	for i := 0; i < len(pairs); i += 2 {
		pairs[i] = "{" + pairs[i] + "}"
	}
	return strings.NewReplacer(pairs...).Replace(word)
}

// wordingTexts are the words, each with its key.
var wordingTexts = []struct {
	key, doc string
	at       func(w *Wording) *string
	keys     []string // what may stand in braces
}{
	{"name", "The wording's name.",
		func(w *Wording) *string { return &w.Name }, nil},
	{"title", "The kind of hypervisor.",
		func(w *Wording) *string { return &w.Title }, nil},
	{"bridged", "An adapter bridged to the host's {uplink}.",
		func(w *Wording) *string { return &w.Bridged }, []string{"uplink", "name"}},
	{"translated", "An adapter that the host translates.",
		func(w *Wording) *string { return &w.Translated }, []string{"name"}},
	{"host-only", "An adapter on the network {name}, on which the host has a leg.",
		func(w *Wording) *string { return &w.HostOnly }, []string{"name"}},
	{"isolated", "An adapter on the network {name}, on which neither the host nor an adapter of the host is.",
		func(w *Wording) *string { return &w.Isolated }, []string{"name"}},
	{"access", "Added for an adapter with the access tag {tag}.",
		func(w *Wording) *string { return &w.Access }, []string{"tag", "name"}},
	{"trunk", "Added for an adapter to which frames with the tags {tags} pass.",
		func(w *Wording) *string { return &w.Trunk }, []string{"tags", "name"}},
	{"machine", "What a virtual machine is called.",
		func(w *Wording) *string { return &w.Machine }, nil},
	{"adapter", "What network adapter {number} is called.",
		func(w *Wording) *string { return &w.Adapter }, []string{"number"}},
	{"segment", "How the network {name} comes to be.",
		func(w *Wording) *string { return &w.Segment }, []string{"name"}},
	{"medium", "Where an install medium goes in.",
		func(w *Wording) *string { return &w.Medium }, nil},
	{"snapshot", "What a snapshot is called.",
		func(w *Wording) *string { return &w.Snapshot }, nil},
	{"boot", "Where the boot order is set.",
		func(w *Wording) *string { return &w.Boot }, nil},
	{"floor", "How memory is reserved.",
		func(w *Wording) *string { return &w.Floor }, nil},
	{"dhcp", "Where the hypervisor's own DHCP server on {name} is switched off.",
		func(w *Wording) *string { return &w.Leases }, []string{"name"}},
}

func wordingFields() []field[Wording] {
	out := []field[Wording]{
		intField(
			"bastion-wording",
			"Version of the wording's format.",
			1,
			1,
			func(w *Wording) *int { return &w.Version },
		),
	}
	for _, t := range wordingTexts {
		out = append(out, textField(t.key, t.doc, t.at))
	}
	return out
}

// WordingSchema returns the JSON Schema (2020-12) of wording files.
func WordingSchema() map[string]any {
	s := form{
		Type:       "object",
		Properties: properties(wordingFields()),
		Required:   []string{"bastion-wording", "name"},
	}.schema()
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "Open Bastion hypervisor wording, format 1"
	return s
}
