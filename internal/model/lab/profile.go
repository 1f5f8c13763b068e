package lab

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Profile is what differs from one kind of appliance to the next: how its
// system names interfaces, what it does from the factory, where it asks which
// of the topics. The zero Profile knows nothing and plans as if nothing were
// known.
type Profile struct {
	Origin
	File          string
	Version       int
	Name          string
	Title         string
	System        string              // what it is built on: linux, bsd
	Devices       map[string][]string // by adapter model: names, likeliest first; # counts adapters from 0, % from 1
	SystemVersion string              // of what it is built on
	Installing    []string            // what its installation needs: outside, account, licence
	Tagged        string              // a tagged interface's name; DEVICE and TAG are put in
	Roles         []Role              // which role its adapters take, in order, when nobody says
	Factory       Factory
	Settings      string // where it is set up once it has addresses: pages (also when empty) or files
	NICs          []string
	DiskBuses     []string
	Needs         Needs   // what it needs at least
	Console       []Topic // what its console asks, in order
	Pages         []Topic // what is set on its pages, in order
	Asks          map[Topic]string
	Change        []string // on first login
	Waits         []Wait
}

// InFiles reports whether it is an appliance that is set up in files, not on pages.
func (p *Profile) InFiles() bool { return p.Settings == "files" }

// Factory is an appliance as it comes, before anything is set up. Its
// addresses stand on its label or its console; a user's own profile may give
// them.
type Factory struct {
	Origin
	LAN        netip.Prefix // its address on its inside port; invalid when nobody said
	From, To   netip.Addr   // its pool
	Scheme     string       // of the admin page: http or https
	AdminPort  int
	Leases     bool // hands out leases inside
	Outbound   bool // lets the inside go outside
	Masquerade bool
}

// Known reports whether the profile says how the appliance comes in a respect: leases,
// outbound or masquerade.
func (f *Factory) Known(key string) bool { return f.Has(key) }

// Topic is one of the questions that every appliance must have answered,
// whatever words it asks them in.
type Topic string

// The topics. The first five are asked port by port in adapter order, the
// others once for the machine.
const (
	Side      Topic = "side"      // which side of the appliance an adapter is on
	Tags      Topic = "tags"      // which tags it carries
	Way       Topic = "way"       // how it gets its address
	Addressed Topic = "address"   // its address and length
	Leasing   Topic = "leases"    // whether it hands out leases, from where to where
	Named     Topic = "name"      // the machine's name and domain
	Resolvers Topic = "resolvers" // where the machine looks names up
	Private   Topic = "private"   // whether private sources are dropped on WAN
	Change    Topic = "change"    // what to change first
)

// Topics are all topics, in the order in which they are asked when a profile
// says no other.
var Topics = []Topic{Side, Tags, Way, Addressed, Leasing, Named, Resolvers, Private, Change}

// ByPort reports whether it is a topic that is asked port by port.
func (t Topic) ByPort() bool { return slices.Contains(Topics[:5], t) }

// Wait is how long something takes and what to do when it takes longer.
type Wait struct {
	Origin
	For    string
	Time   string
	Longer string
}

// ReadProfile reads a profile file. The error is of type [Faults].
func ReadProfile(file string, data []byte) (*Profile, error) {
	r := &reader{file: file, data: data}
	root := r.parse()
	if root == nil {
		return nil, r.faults
	}
	p := &Profile{File: file, Devices: map[string][]string{}, Asks: map[Topic]string{}}
	readObject(r, root, "the profile", profileFields(), p)
	if p.Version == 0 && !p.Has("bastion-profile") {
		r.fail(Pos{Line: 1, Column: 1}, "the format version is missing; write `bastion-profile: 1` as the first line")
	}
	if len(r.faults) > 0 {
		return nil, r.faults.sorted()
	}
	return p, nil
}

func profileFields() []field[Profile] {
	return []field[Profile]{
		intField(
			"bastion-profile",
			"Version of the profile's format.",
			1,
			1,
			func(p *Profile) *int { return &p.Version },
		),
		textField("name", "The profile's name.", func(p *Profile) *string { return &p.Name }),
		textField("title", "The kind of appliance.", func(p *Profile) *string { return &p.Title }),
		wordField(
			"system",
			"What the appliance is built on.",
			func(p *Profile) *string { return &p.System },
			"linux",
			"bsd",
		),
		textField("system-version", "The version of what it is built on, for the machine's settings.",
			func(p *Profile) *string { return &p.SystemVersion }),
		listField("installing", "What its installation needs: outside (a WAN that works), an account, a licence.",
			form{Type: "string", Enum: []string{"outside", "account", "licence"}}, func(text string) (string, error) {
				if !slices.Contains([]string{"outside", "account", "licence"}, text) {
					return "", fmt.Errorf(
						"%q is nothing that an installation needs here; write outside, account or licence",
						shorten(text),
					)
				}
				return text, nil
			}, func(p *Profile) *[]string { return &p.Installing }),
		{
			"devices",
			"By adapter model: what the system calls the interface, likeliest first; # counts adapters from 0, % from 1.",
			form{Type: "object", Values: &form{OneOf: []form{textShape, {Type: "array", Items: &textShape}}}},
			func(r *reader, n *yaml.Node, p *Profile) {
				r.pairs(n, "devices", func(k, v *yaml.Node) {
					r.items(v, func(v *yaml.Node) {
						if text, ok := r.text(v, "a device's name"); ok {
							p.Devices[k.Value] = append(p.Devices[k.Value], text)
						}
					})
				})
			},
		},
		textField(
			"tagged",
			"A tagged interface's name, with DEVICE and TAG in it.",
			func(p *Profile) *string { return &p.Tagged },
		),
		listField("roles", "Default roles of its adapters, in order.",
			form{Type: "string", Enum: []string{"wan", "lan", "dmz", "manage"}}, func(text string) (Role, error) {
				if role := Role(text); slices.Contains([]Role{WAN, LAN, DMZ, Manage}, role) {
					return role, nil
				}
				return "", fmt.Errorf("%q is not a role; write wan, lan, dmz or manage", shorten(text))
			}, func(p *Profile) *[]Role { return &p.Roles }),
		objectField("factory", "How it comes, before anything is set up.", []field[Factory]{
			hostField("lan", "Its address on its inside port.", func(f *Factory) *netip.Prefix { return &f.LAN }),
			{"pool", "Its pool, first and last address.", textShape, func(r *reader, n *yaml.Node, f *Factory) {
				var l PortLeases
				leaseFields()[0].read(r, n, &l)
				f.From, f.To = l.From, l.To
			}},
			wordField("scheme", "Of the admin page.", func(f *Factory) *string { return &f.Scheme }, "https", "http"),
			intField("port", "Of the admin page.", 1, 65535, func(f *Factory) *int { return &f.AdminPort }),
			boolField("dhcp", "Whether its DHCP server is on inside.", func(f *Factory) *bool { return &f.Leases }),
			boolField(
				"outbound",
				"Whether it lets the inside go outside.",
				func(f *Factory) *bool { return &f.Outbound },
			),
			boolField("masquerade", "Whether it translates.", func(f *Factory) *bool { return &f.Masquerade }),
		}, func(p *Profile) *Factory { return &p.Factory }),
		listField(
			"nics",
			"Adapter models it has drivers for.",
			textShape,
			plain,
			func(p *Profile) *[]string { return &p.NICs },
		),
		listField(
			"disk-buses",
			"Disk buses it has drivers for.",
			textShape,
			plain,
			func(p *Profile) *[]string { return &p.DiskBuses },
		),
		objectField("needs", "What it needs at least.", needsFields(), func(p *Profile) *Needs { return &p.Needs }),
		topicsField(
			"console",
			"The topics its console asks, in order.",
			func(p *Profile) *[]Topic { return &p.Console },
		),
		topicsField(
			"pages",
			"Which topics are set on its pages, in order.",
			func(p *Profile) *[]Topic { return &p.Pages },
		),
		{"asks", "By topic: how this appliance words it, as on its label, console or manual.",
			form{Type: "object", Values: &textShape}, func(r *reader, n *yaml.Node, p *Profile) {
				r.pairs(n, "asks", func(k, v *yaml.Node) {
					topic, err := parseTopic(k.Value)
					if err != nil {
						r.fail(place(k), "%v", err)
					} else if text, ok := r.text(v, "what it asks"); ok {
						p.Asks[topic] = text
					}
				})
			}},
		wordField("settings", "Where it is set up once it has addresses: on pages, or in files that an export writes.",
			func(p *Profile) *string { return &p.Settings }, "pages", "files"),
		listField(
			"change",
			"What must be changed on first login.",
			textShape,
			plain,
			func(p *Profile) *[]string { return &p.Change },
		),
		objectsField("waits", "How long things take.", []field[Wait]{
			textField("for", "What is waited for.", func(w *Wait) *string { return &w.For }),
			textField("time", "How long it takes.", func(w *Wait) *string { return &w.Time }),
			textField("longer", "What to do when it takes longer.", func(w *Wait) *string { return &w.Longer }),
		}, []string{"for", "time"}, func(p *Profile) *Wait {
			p.Waits = append(p.Waits, Wait{})
			return &p.Waits[len(p.Waits)-1]
		}),
	}
}

func topicsField(name, doc string, at func(*Profile) *[]Topic) field[Profile] {
	item := form{Type: "string"}
	for _, t := range Topics {
		item.Enum = append(item.Enum, string(t))
	}
	return listField(name, doc, item, parseTopic, at)
}

func parseTopic(text string) (Topic, error) {
	var known []string
	for _, t := range Topics {
		if string(t) == text {
			return t, nil
		}
		known = append(known, string(t))
	}
	return "", fmt.Errorf(
		"%q is not a topic%s; known: %s",
		shorten(text),
		didYouMean(text, known...),
		strings.Join(known, ", "),
	)
}

// ProfileSchema returns the JSON Schema (2020-12) of profile files.
func ProfileSchema() map[string]any {
	s := form{
		Type:       "object",
		Properties: properties(profileFields()),
		Required:   []string{"bastion-profile", "name"},
	}.schema()
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "Open Bastion appliance profile, format 1"
	return s
}

// Device returns the names, likeliest first, that the profile's system gives to
// the number-th adapter (from 1) of a model; none when the profile does not say.
func (p *Profile) Device(model string, number int) []string {
	var out []string
	for _, form := range p.Devices[model] {
		name := strings.ReplaceAll(form, "#", fmt.Sprint(number-1))
		out = append(out, strings.ReplaceAll(name, "%", fmt.Sprint(number)))
	}
	return out
}

// Fact is a key of a profile with what it does, and whether it is given.
type Fact struct {
	Key   string `json:"key"`
	Does  string `json:"does"`
	Given bool   `json:"given"`
}

// Facts lists a profile's keys in the order of the format.
func (p *Profile) Facts() []Fact {
	var out []Fact
	for _, f := range profileFields() {
		if f.name != "bastion-profile" {
			out = append(out, Fact{f.name, f.doc, p.Has(f.name)})
		}
	}
	return out
}
