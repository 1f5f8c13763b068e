package listing

import (
	"encoding/json"
	"encoding/xml"
	"io"
	"sort"
	"strconv"
	"strings"
)

// object is a thing of a structured text: what it says of itself, and what is in it.
type object struct {
	name   string
	values []pair
	inner  []object
}

type pair struct{ name, value string }

// maxDepth bounds how deep structured texts are read.
const maxDepth = 32

// objects reads a text that is JSON or XML as a whole; false for any other.
func (r *reader) objects(text string) bool {
	text = strings.TrimSpace(text)
	var root object
	switch {
	case strings.HasPrefix(text, "{"), strings.HasPrefix(text, "["):
		d := json.NewDecoder(strings.NewReader(text))
		d.UseNumber()
		for {
			var v any
			if err := d.Decode(&v); err != nil {
				break
			}
			addValue(&root, "", v, 0)
		}
		if len(root.inner) == 0 {
			return false
		}
	case strings.HasPrefix(text, "<") && strings.Contains(text, ">"):
		var ok bool
		if root, ok = readXML(text); !ok {
			return false
		}
	default:
		return false
	}
	r.n = 1
	r.object(root, 0)
	return !r.finishedEmpty()
}

func (r *reader) finishedEmpty() bool {
	return len(r.list)+len(r.out.Routes)+len(r.out.Resolvers)+len(r.out.Neighbors) == 0
}

// addValue puts a JSON value into an object.
func addValue(o *object, name string, v any, depth int) {
	if depth > maxDepth {
		return
	}
	switch v := v.(type) {
	case map[string]any:
		var keys []string
		for k := range v {
			keys = append(keys, k)
		}
		sort.Strings(keys)
		in := object{name: name}
		for _, k := range keys {
			addValue(&in, k, v[k], depth+1)
		}
		o.inner = append(o.inner, in)
	case []any:
		for _, x := range v {
			addValue(o, name, x, depth+1)
		}
	case string:
		o.values = append(o.values, pair{name, v})
	case json.Number:
		o.values = append(o.values, pair{name, v.String()})
	case bool:
		o.values = append(o.values, pair{name, strconv.FormatBool(v)})
	}
}

// readXML reads elements; what was read before a fault counts.
func readXML(text string) (object, bool) {
	d := xml.NewDecoder(strings.NewReader(text))
	d.Strict = false
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	stack := []*object{{}}
	count := 0
	closing := func() {
		top := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		into := stack[len(stack)-1]
		into.inner = append(into.inner, *top)
	}
	for {
		token, err := d.Token()
		if err != nil {
			break
		}
		top := stack[len(stack)-1]
		switch t := token.(type) {
		case xml.StartElement:
			o := &object{name: t.Name.Local}
			for _, a := range t.Attr {
				o.values = append(o.values, pair{a.Name.Local, a.Value})
			}
			if count++; len(stack) > maxDepth {
				return object{}, false
			}
			stack = append(stack, o)
		case xml.CharData:
			if s := strings.TrimSpace(string(t)); s != "" && len(stack) > 1 {
				top.values = append(top.values, pair{"", s})
			}
		case xml.EndElement:
			if len(stack) > 1 {
				closing()
			}
		}
	}
	for len(stack) > 1 { // what the text left open
		closing()
	}
	return *stack[0], count > 0
}

// unused reports whether an element of this name keeps settings that are not in use.
func unused(name string) bool {
	switch foldLabel(name) {
	case "inactive", "inactivesettings", "inactive settings", "disabled modes", "disabledmodes", "previous", "template":
		return true
	}
	return false
}

// noAdapter reports whether an element of a machine's definition is another device than a network adapter.
func noAdapter(name string) bool {
	switch strings.ToLower(name) {
	case "disk", "cdrom", "floppy", "controller", "filesystem", "serial", "parallel", "console", "channel", "graphics", "video",
		"input", "sound", "memballoon", "rng", "tpm", "watchdog", "panic", "metadata":
		return true
	}
	return false
}

// flat returns what an object and what is in it say, with the names of both, but not
// what is in objects that are interfaces themselves.
func (o object) flat(depth int) []pair {
	var out []pair
	for _, v := range o.values {
		out = append(out, pair{v.name, v.value})
	}
	for _, in := range o.inner {
		if depth > maxDepth {
			break
		}
		if unused(in.name) {
			continue
		}
		for _, v := range in.flat(depth + 1) {
			out = append(out, pair{strings.TrimSpace(in.name + " " + v.name), v.value})
		}
	}
	return out
}

// hasAddress reports whether an object says a hardware address, itself or in one that
// is about nothing else.
func (o object) hasAddress() bool {
	for _, v := range o.flat(0) {
		if fieldOf(v.name) != neighborIP && wordOf(v.value).kind == macWord {
			return true
		}
	}
	return false
}

// object takes an object: an interface where it says a hardware address or a device
// with addresses and holds no other that does.
func (r *reader) object(o object, depth int) {
	if depth > maxDepth || unused(o.name) || noAdapter(o.name) {
		return
	}
	within := 0
	for _, in := range o.inner {
		if in.hasAddress() && (len(in.values) != 1 || len(in.inner) > 0) {
			within++
		}
	}
	own := false
	for _, v := range o.values {
		w := wordOf(v.value)
		own = own || w.kind == macWord || w.kind == addressWord || w.kind == prefixWord
	}
	if within == 0 && (o.hasAddress() || own || o.names()) {
		r.facts(o)
		return
	}
	was := r.machine
	for _, v := range o.values {
		if f := fieldOf(v.name); f == machine || v.name == "name" && depth < 2 && within > 0 {
			r.named(v.value)
		}
	}
	for _, in := range o.inner {
		if in.name == "name" && len(in.inner) == 0 && len(in.values) == 1 && within > 0 && depth < 3 {
			r.named(in.values[0].value)
		}
	}
	for _, in := range o.inner {
		r.object(in, depth+1)
	}
	r.machine = was
}

// names reports whether it is an object that says a device and has addresses below it.
func (o object) names() bool {
	device, address := false, false
	for _, v := range o.flat(0) {
		w := wordOf(v.value)
		f := fieldOf(v.name)
		device = device || f == deviceField || isDevice(v.value)
		address = address || w.kind == addressWord || w.kind == prefixWord || f == network
	}
	return device && address
}

// facts takes what an object says of an interface.
func (r *reader) facts(o object) {
	list := o.flat(0)
	if strings.EqualFold(o.name, "route") || hasField(list, destination) {
		r.routeObject(list)
		return
	}
	device, label, whose := "", "", r.machine
	for _, v := range list {
		switch f := fieldOf(v.name); {
		case f == machine:
			whose = v.value
		case strings.EqualFold(v.name, "ifname"),
			f == deviceField && !strings.Contains(v.name, "target") && !strings.Contains(v.name, "alias") && device == "":
			if !isCount(v.value) {
				device = v.value
			}
		case f == nameField && label == "" && !strings.Contains(v.name, " "):
			label = v.value
		}
	}
	if device == "" && isDevice(label) {
		device, label = label, ""
	}
	if isCount(label) {
		label = ""
	}
	r.now = nil
	if m := adapterName.FindStringSubmatch(label); device == "" && m != nil {
		was := r.machine
		r.machine = whose
		r.start("", "", tagOf(m[2]))
		r.machine = was
	} else {
		r.now = &Interface{Device: device, Label: label, Machine: whose, Line: 1}
		if len(r.list) < maxInterfaces {
			r.list = append(r.list, r.now)
		}
	}
	for _, v := range list {
		r.objectValue(v, list)
	}
	if n := adapterNumber(list); r.now != nil && r.now.Number == 0 && n > 0 {
		r.now.Number = n
	}
	r.now = nil
}

// adapterNumber returns the number that an object gives its adapter, from 1; 0: none.
func adapterNumber(list []pair) int {
	for _, v := range list {
		switch foldLabel(v.name) {
		case "number", "nic", "nic number", "adapter", "adapter number":
			if isCount(v.value) {
				return tagOf(v.value)
			}
		}
	}
	return 0
}

func hasField(list []pair, f field) bool {
	for _, v := range list {
		if fieldOf(v.name) == f {
			return true
		}
	}
	return false
}

// objectValue takes one thing that an object says.
func (r *reader) objectValue(v pair, list []pair) {
	f := fieldOf(v.name)
	low := strings.ToLower(v.name)
	switch {
	case strings.Contains(low, "target"), strings.Contains(low, "broadcast"):
		return
	case strings.HasSuffix(low, "prefixlen"), strings.HasSuffix(low, "prefix-length"), f == mask && isCount(v.value):
		if n := tagOf(v.value); n <= 32 && n > 0 && r.now != nil && len(r.now.Addresses) > 0 {
			r.mask(word{kind: plainWord, bits: n})
		}
		return
	case low == "flags" && r.now != nil && v.value == "NO-CARRIER":
		r.now.Link = LinkDown
		return
	}
	for _, w := range split(v.value) {
		switch {
		case w.kind == macWord || w.kind == otherAddress && f == hardware:
			r.apply(hardware, w)
		case w.kind == plainWord:
		case f == gateway, f == resolver, f == leaseServer, f == mask, f == ignored:
			r.apply(f, w)
		default:
			r.apply(ownAddress, w)
			r.maskBeside(w, list)
		}
	}
	if f == network || f == link || f == leased || f == vlan || f == roleField || f == attachedAs || f == trunk {
		r.value(f, v.value)
	}
}

// maskBeside finds the mask of an address where the object says it before.
func (r *reader) maskBeside(w word, list []pair) {
	if w.kind != addressWord || r.now == nil {
		return
	}
	count := 0
	bits := 0
	for _, v := range list {
		if n := tagOf(v.value); fieldOf(v.name) == mask && isCount(v.value) && n > 0 && n <= 32 {
			count++
			bits = n
		}
	}
	if count == 1 {
		r.mask(word{kind: plainWord, bits: bits})
	}
}

// routeObject takes a way.
func (r *reader) routeObject(list []pair) {
	r.out.RoutesHere = true
	everywhere, device := false, ""
	for _, v := range list {
		switch f := fieldOf(v.name); {
		case f == destination || strings.EqualFold(v.name, "dst"):
			everywhere = everywhere || v.value == "default" || strings.HasPrefix(v.value, "0.0.0.0")
		case f == deviceField:
			device = v.value
		}
	}
	if !everywhere {
		return
	}
	for _, v := range list {
		if w := wordOf(v.value); fieldOf(v.name) == gateway && w.kind == addressWord {
			r.wayBy(w, device)
		}
	}
}
