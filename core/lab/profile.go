package lab

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Profile is what differs from one kind of appliance to the next: how its
// system names interfaces, what it does from the factory, what its console
// asks. The zero Profile knows nothing and plans as if nothing were known.
type Profile struct {
	Spot
	File      string
	Version   int
	Name      string
	Title     string
	System    string              // what it is built on: linux, bsd
	Devices   map[string][]string // by adapter model: names, likeliest first; # counts adapters from 0, % from 1
	Tagged    string              // a tagged interface's name; DEVICE and TAG are put in
	Roles     []Role              // which role its adapters take, in order, when nobody says
	Factory   Factory
	NICs      []string
	DiskBuses []string
	Sizes     map[string]Needs // by duty, and base, per-100-guests, per-gigabit: what each adds
	Console   []Question
	FirstRun  []Question
	Change    []string // on first login
	Waits     []Wait
}

// Factory is an appliance as it comes, before anything is set up.
type Factory struct {
	Spot
	LAN        netip.Prefix // its address on its inside port
	From, To   netip.Addr   // its pool
	Scheme     string       // of the admin page: http or https
	AdminPort  int
	Leases     bool // hands out leases inside
	Outbound   bool // lets the inside go outside
	Masquerade bool
}

// Question is one question of a console or a first-run page.
type Question struct {
	Spot
	Ask    string
	Answer string // with {keys} that the plan fills in
	Each   string // ask once for each port of this role, or for each inside port
	Note   string
}

// Wait is how long something takes and what to do when it takes longer.
type Wait struct {
	Spot
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
	p := &Profile{File: file, Devices: map[string][]string{}, Sizes: map[string]Needs{}}
	readObject(r, root, "the profile", profileFields(), p)
	if p.Version == 0 && !p.Has("bastion-profile") {
		r.fail(Pos{Line: 1, Column: 1}, "the file does not say its format version; write `bastion-profile: 1` as the first line")
	}
	for _, list := range [][]Question{p.Console, p.FirstRun} {
		for i := range list {
			r.template(&list[i])
		}
	}
	if len(r.faults) > 0 {
		return nil, r.faults.sorted()
	}
	return p, nil
}

// AnswerKeys are what an answer's template may hold in braces.
var AnswerKeys = []string{
	"hostname", "domain", "wan.device", "lan.device", "lan.devices", "other.devices", "port.name", "port.device", "port.segment",
	"port.address", "port.length", "port.mask", "port.gateway", "port.pool.from", "port.pool.to", "port.how", "port.tag", "port.leases",
	"wan.how", "wan.address", "wan.gateway", "lan.address", "resolver", "private", "tags",
}

// template checks that every {key} of an answer is known.
func (r *reader) template(q *Question) {
	rest := q.Answer
	for {
		_, after, ok := strings.Cut(rest, "{")
		if !ok {
			return
		}
		key, tail, ok := strings.Cut(after, "}")
		if !ok {
			r.fail(q.At("answer"), "the brace in %q is not closed", shorten(q.Answer))
			return
		}
		if !slices.Contains(AnswerKeys, key) {
			r.fail(q.At("answer"), "an answer has no key {%s}%s; known: %s", shorten(key), didYouMean(key, AnswerKeys...), strings.Join(AnswerKeys, ", "))
		}
		rest = tail
	}
}

func profileFields() []field[Profile] {
	return []field[Profile]{
		intField("bastion-profile", "Version of the profile's format.", 1, 1, func(p *Profile) *int { return &p.Version }),
		textField("name", "The profile's name.", func(p *Profile) *string { return &p.Name }),
		textField("title", "What kind of appliance it speaks of.", func(p *Profile) *string { return &p.Title }),
		wordField("system", "What the appliance is built on.", func(p *Profile) *string { return &p.System }, "linux", "bsd"),
		{"devices", "By adapter model: what the system calls the interface, likeliest first; # counts adapters from 0, % from 1.",
			form{Type: "object", Values: &form{OneOf: []form{textShape, {Type: "array", Items: &textShape}}}},
			func(r *reader, n *yaml.Node, p *Profile) {
				r.pairs(n, "devices", func(k, v *yaml.Node) {
					r.items(v, func(v *yaml.Node) {
						if text, ok := r.text(v, "a device's name"); ok {
							p.Devices[k.Value] = append(p.Devices[k.Value], text)
						}
					})
				})
			}},
		textField("tagged", "A tagged interface's name, with DEVICE and TAG in it.", func(p *Profile) *string { return &p.Tagged }),
		listField("roles", "Which roles its adapters take, in order, when nobody says.", form{Type: "string", Enum: []string{"wan", "lan", "dmz", "manage"}}, func(text string) (Role, error) {
			if role := Role(text); slices.Contains([]Role{WAN, LAN, DMZ, Manage}, role) {
				return role, nil
			}
			return "", fmt.Errorf("%q is no role; write wan, lan, dmz or manage", shorten(text))
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
			boolField("leases", "Whether it hands out leases inside.", func(f *Factory) *bool { return &f.Leases }),
			boolField("outbound", "Whether it lets the inside go outside.", func(f *Factory) *bool { return &f.Outbound }),
			boolField("masquerade", "Whether it translates.", func(f *Factory) *bool { return &f.Masquerade }),
		}, func(p *Profile) *Factory { return &p.Factory }),
		listField("nics", "Adapter models it has drivers for.", textShape, plain, func(p *Profile) *[]string { return &p.NICs }),
		listField("disk-buses", "Disk buses it has drivers for.", textShape, plain, func(p *Profile) *[]string { return &p.DiskBuses }),
		{"sizes", "What each duty adds to the machine: base, filter, intrusion-detection, proxy, vpn, per-100-guests, per-gigabit.",
			form{Type: "object", Values: &form{Type: "object", Properties: properties(needsFields())}}, func(r *reader, n *yaml.Node, p *Profile) {
				known := append([]string{"base", "per-100-guests", "per-gigabit"}, duties...)
				r.pairs(n, "sizes", func(k, v *yaml.Node) {
					if !slices.Contains(known, k.Value) {
						r.fail(place(k), "%q is no duty%s; known: %s", shorten(k.Value), didYouMean(k.Value, known...), strings.Join(known, ", "))
						return
					}
					var needs Needs
					readObject(r, v, "sizes", needsFields(), &needs)
					p.Sizes[k.Value] = needs
				})
			}},
		objectsField("console", "What its console asks, in order.", questionFields(), []string{"ask", "answer"}, func(p *Profile) *Question {
			p.Console = append(p.Console, Question{})
			return &p.Console[len(p.Console)-1]
		}),
		objectsField("first-run", "What its first-run pages ask, in order.", questionFields(), []string{"ask", "answer"}, func(p *Profile) *Question {
			p.FirstRun = append(p.FirstRun, Question{})
			return &p.FirstRun[len(p.FirstRun)-1]
		}),
		listField("change", "What must be changed on first login.", textShape, plain, func(p *Profile) *[]string { return &p.Change }),
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

func questionFields() []field[Question] {
	return []field[Question]{
		textField("ask", "The question.", func(q *Question) *string { return &q.Ask }),
		textField("answer", "The answer, with keys of the plan in braces.", func(q *Question) *string { return &q.Answer }),
		wordField("each", "Ask once for each port of this kind.", func(q *Question) *string { return &q.Each }, "wan", "inside", "tagged"),
		textField("note", "What to know about it.", func(q *Question) *string { return &q.Note }),
	}
}

// ProfileSchema gives the JSON Schema (2020-12) of profile files.
func ProfileSchema() map[string]any {
	s := form{Type: "object", Properties: properties(profileFields()), Required: []string{"bastion-profile", "name"}}.schema()
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "Open Bastion appliance profile, format 1"
	return s
}

// Device gives the names, likeliest first, that the profile's system gives to
// the number-th adapter (from 1) of a model; none when the profile does not say.
func (p *Profile) Device(model string, number int) []string {
	var out []string
	for _, form := range p.Devices[model] {
		name := strings.ReplaceAll(form, "#", fmt.Sprint(number-1))
		out = append(out, strings.ReplaceAll(name, "%", fmt.Sprint(number)))
	}
	return out
}
