package lab

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/subnet"
)

// form is what the JSON Schema says about a value.
type form struct {
	Type       string
	Enum       []string
	Pattern    string
	Min, Max   int
	Items      *form
	Values     *form // of a mapping with free keys
	Named      bool  // those keys are names
	Properties []property
	Required   []string
	OneOf      []form
	Open       string // what is open when `later` stands in the value's place; empty: it must be known
}

type property struct {
	name, doc string
	form      form
}

func properties[T any](fields []field[T]) []property {
	list := make([]property, len(fields))
	for i, f := range fields {
		list[i] = property{f.name, f.doc, f.form}
	}
	return list
}

const (
	namePattern   = `^[a-z][a-z0-9-]{0,62}$`
	addrPattern   = `^[0-9a-fA-F:.]+$`
	prefixPattern = `^[0-9a-fA-F:.]+/[0-9.]+$`
	bytesPattern  = `^[0-9.]+ ?([KMGT]i?B?|[kmgt])$`
)

var (
	nameShape   = form{Type: "string", Pattern: namePattern}
	addrShape   = form{Type: "string", Pattern: addrPattern}
	prefixShape = form{Type: "string", Pattern: prefixPattern}
	bytesShape  = form{Type: "string", Pattern: bytesPattern}
	textShape   = form{Type: "string"}
	boolShape   = form{Type: "boolean"}
)

func listOf(item form) form {
	return form{OneOf: []form{item, {Type: "array", Items: &item}}}
}

// The helpers below make the fields of the usual forms; at gives the place in
// the object that the value goes to.

func textField[T any](name, doc string, at func(*T) *string) field[T] {
	return field[T]{name, doc, textShape, func(r *reader, n *yaml.Node, t *T) {
		if v, ok := r.text(n, name); ok {
			*at(t) = v
		}
	}}
}

func nameField[T any](name, doc string, at func(*T) *string) field[T] {
	return field[T]{name, doc, nameShape, func(r *reader, n *yaml.Node, t *T) {
		if v, ok := r.text(n, name); ok {
			*at(t) = v
		}
	}}
}

func wordField[T any, W ~string](name, doc string, at func(*T) *W, words ...W) field[T] {
	known := make([]string, len(words))
	for i, w := range words {
		known[i] = string(w)
	}
	return field[T]{name, doc, form{Type: "string", Enum: known}, func(r *reader, n *yaml.Node, t *T) {
		v, ok := r.text(n, name)
		if !ok {
			return
		}
		if !slices.Contains(known, v) {
			r.fail(
				place(n),
				"%s is not %q%s; write %s",
				name,
				shorten(v),
				didYouMean(v, known...),
				strings.Join(known, ", "),
			)
			return
		}
		*at(t) = W(v)
	}}
}

func (r *reader) truth(n *yaml.Node, name string) (bool, bool) {
	switch n.Value {
	case "true":
		return true, true
	case "false":
		return false, true
	}
	hint := "true or false"
	switch strings.ToLower(n.Value) {
	case "yes", "on", "y", "1", "true":
		hint = "true"
	case "no", "off", "n", "0", "false":
		hint = "false"
	}
	r.fail(place(n), "%s is true or false, not %q; write %s", name, shorten(n.Value), hint)
	return false, false
}

func boolField[T any](name, doc string, at func(*T) *bool) field[T] {
	return field[T]{name, doc, boolShape, func(r *reader, n *yaml.Node, t *T) {
		if _, ok := r.text(n, name); !ok {
			return
		}
		if v, ok := r.truth(n, name); ok {
			*at(t) = v
		}
	}}
}

func intField[T any](name, doc string, low, high int, at func(*T) *int) field[T] {
	return field[T]{name, doc, form{Type: "integer", Min: low, Max: high}, func(r *reader, n *yaml.Node, t *T) {
		v, ok := r.text(n, name)
		if !ok {
			return
		}
		i, err := strconv.Atoi(v)
		if err != nil || i < low || i > high {
			r.fail(place(n), "%s is a whole number from %d to %d, not %q", name, low, high, shorten(v))
			return
		}
		*at(t) = i
	}}
}

// parsedField makes a field whose text a parser turns into the value; the
// parser's error may say after "; " what to write instead.
func parsedField[T, V any](name, doc string, f form, parse func(string) (V, error), at func(*T) *V) field[T] {
	return field[T]{name, doc, f, func(r *reader, n *yaml.Node, t *T) {
		text, ok := r.text(n, name)
		if !ok {
			return
		}
		v, err := parse(text)
		if err != nil {
			r.fail(place(n), "%s: %s", name, shortenError(err))
			return
		}
		*at(t) = v
	}}
}

func shortenError(err error) string {
	s := err.Error()
	if len(s) > 300 {
		return strings.ToValidUTF8(s[:300], "") + "…"
	}
	return s
}

func bytesField[T any](name, doc string, at func(*T) *Bytes) field[T] {
	return parsedField(name, doc, bytesShape, ParseBytes, at)
}

func addrField[T any](name, doc string, at func(*T) *netip.Addr) field[T] {
	return parsedField(name, doc, addrShape, parseFour, at)
}

// parseFour reads an IPv4 address: those that a lab file gives are of that version.
func parseFour(text string) (netip.Addr, error) {
	a, err := subnet.ParseAddr(text)
	if err == nil && !a.Unmap().Is4() {
		err = sixGiven(a.String())
	}
	return a, err
}

// parseHost reads an IPv4 address with the prefix length of its network.
func parseHost(text string) (netip.Prefix, error) {
	p, err := subnet.ParsePrefix(text)
	if err == nil && !p.Addr().Unmap().Is4() {
		err = sixGiven(p.String())
	}
	return p, err
}

func sixGiven(text string) error {
	return fmt.Errorf("%s is an IPv6 address; write an IPv4 address, and `ipv6: true` at the top for IPv6 addresses as well", text)
}

func networkField[T any](name, doc string, at func(*T) *netip.Prefix) field[T] {
	return parsedField(name, doc, prefixShape, parseSubnet, at)
}

// parseSubnet reads a network: an address and a length with no host bits set.
func parseSubnet(text string) (netip.Prefix, error) {
	p, err := subnet.ParsePrefix(text)
	if err != nil {
		return p, err
	}
	n, err := parseNetwork(p.String())
	if err == nil {
		err = ordinary(n)
	}
	return n, err
}

// ordinary refuses networks whose addresses no machine of a segment can have:
// they mean something of their own (RFC 6890).
func ordinary(n netip.Prefix) error {
	a := n.Addr()
	first := byte(0)
	if a.Is4() {
		first = a.As4()[0]
	}
	what := ""
	switch {
	case a.IsLoopback():
		what = "every machine's own loopback"
	case a.IsLinkLocalUnicast():
		what = "link-local addresses"
	case a.IsMulticast():
		what = "groups of machines"
	case a.Is4() && first == 0:
		what = "no machine"
	case a.Is4() && first >= 240:
		what = "reserved addresses"
	default:
		return nil
	}
	return fmt.Errorf("%s is for %s; write a private network such as 10.83.16.0/24", n, what)
}

// poolField reads a run of addresses: FIRST-LAST, the last perhaps by its last part
// alone (10.83.16.50-199).
func poolField[T any](doc string, at func(*T) (from, to *netip.Addr)) field[T] {
	return field[T]{
		"pool",
		doc,
		form{Type: "string", Pattern: `^[0-9.]+ ?- ?[0-9.]+$`},
		func(r *reader, n *yaml.Node, t *T) {
			text, ok := r.text(n, "pool")
			if !ok {
				return
			}
			first, last, ok := strings.Cut(text, "-")
			if !ok {
				r.fail(place(n), "pool: %q has no second address; write FIRST-LAST", shorten(text))
				return
			}
			from, to := at(t)
			var err error
			if *from, err = parseFour(strings.TrimSpace(first)); err != nil {
				r.fail(place(n), "pool: %s", shortenError(err))
				return
			}
			if last = strings.TrimSpace(last); !strings.ContainsAny(last, ".:") {
				if _, err := strconv.Atoi(last); err == nil && from.Is4() {
					s := from.String()
					last = s[:strings.LastIndexByte(s, '.')+1] + last
				}
			}
			if *to, err = parseFour(last); err != nil {
				r.fail(place(n), "pool: %s", shortenError(err))
			}
		},
	}
}

// hostField reads a machine's address with the prefix length of its network.
func hostField[T any](name, doc string, at func(*T) *netip.Prefix) field[T] {
	return parsedField(name, doc, prefixShape, parseHost, at)
}

func macField[T any](at func(*T) *mac.Address) field[T] {
	return parsedField("mac", "MAC address (default: planned).", form{Type: "string"}, mac.Parse, at)
}

func serviceField[T any](name, doc string, at func(*T) *Service) field[T] {
	return field[T]{
		name,
		doc,
		form{Type: "string", Pattern: `^(tcp|udp)/[0-9]+$`},
		func(r *reader, n *yaml.Node, t *T) {
			text, ok := r.text(n, name)
			if !ok {
				return
			}
			s, err := ParseService(text)
			switch {
			case err != nil:
				r.fail(place(n), "%s: %s", name, shortenError(err))
			case s.AllPorts() || s.From != s.To:
				r.fail(place(n), "%s is one port, not %q; write one such as tcp/443", name, shorten(text))
			default:
				*at(t) = s
			}
		},
	}
}

func listField[T, V any](name, doc string, item form, parse func(string) (V, error), at func(*T) *[]V) field[T] {
	return field[T]{name, doc, listOf(item), func(r *reader, n *yaml.Node, t *T) {
		r.items(n, func(n *yaml.Node) {
			text, ok := r.text(n, name)
			if !ok {
				return
			}
			v, err := parse(text)
			if err != nil {
				r.fail(place(n), "%s: %s", name, shortenError(err))
				return
			}
			*at(t) = append(*at(t), v)
		})
	}}
}

func plain(text string) (string, error) { return text, nil }

// objectField makes a field that holds an object with fixed keys.
func objectField[T, V any, P interface {
	*V
	Object
}](name, doc string, fields []field[V], at func(*T) P) field[T] {
	return field[T]{
		name,
		doc,
		form{Type: "object", Properties: properties(fields)},
		func(r *reader, n *yaml.Node, t *T) {
			readObject(r, n, name, fields, at(t))
		},
	}
}

// objectsField makes a field that holds a list of objects with fixed keys.
func objectsField[T, V any, P interface {
	*V
	Object
}](name, doc string, fields []field[V], required []string, add func(*T) P) field[T] {
	item := form{Type: "object", Properties: properties(fields), Required: required}
	return field[T]{name, doc, form{Type: "array", Items: &item}, func(r *reader, n *yaml.Node, t *T) {
		r.items(n, func(n *yaml.Node) {
			v := add(t)
			readObject(r, n, "an entry of "+name, fields, v)
			for _, key := range required {
				if s := v.origin(); n.Kind == yaml.MappingNode && !s.written(key) {
					r.fail(place(n), "this entry of %s has no %s; write `%s: …`", name, key, key)
				}
			}
		})
	}}
}

// namedField makes a field that holds a mapping from names to objects; short,
// where it is not nil, takes a plain text in an object's place.
func namedField[T, V any, P interface {
	*V
	Object
}](name, one, doc string, fields []field[V], add func(*T, string) P, short func(*reader, *yaml.Node, P)) field[T] {
	object := form{Type: "object", Properties: properties(fields)}
	value := object
	if short != nil {
		value = form{OneOf: []form{nameShape, object}}
	}
	return field[T]{name, doc, form{Type: "object", Values: &value, Named: true}, func(r *reader, n *yaml.Node, t *T) {
		seen := map[string]int{}
		r.pairs(n, name, func(key, value *yaml.Node) {
			id, ok := r.name(key, "the name of "+one)
			if !ok {
				return
			}
			if line, twice := seen[id]; twice {
				r.fail(place(key), "%s is here twice; the first is in line %d", id, line)
				return
			}
			seen[id] = key.Line
			v := add(t, id)
			switch {
			case short != nil && value.Kind == yaml.ScalarNode:
				v.origin().Pos = place(key)
				short(r, value, v)
			case value.Kind == yaml.ScalarNode && value.Tag == "!!null":
				r.fail(place(key), "%s %s is empty; write its keys below it, indented", one, id)
			default:
				readObject(r, value, one+" "+id, fields, v)
			}
			v.origin().Pos = place(key)
		})
	}}
}

// runningField reports whether a machine is switched on.
func runningField[T any](at func(*T) *bool) field[T] {
	return boolField(
		"running",
		"Whether it is switched on; false for a machine that another replaces, or that comes later.",
		at,
	)
}

// parseRoute reads a way to a network: NETWORK via ADDRESS.
func parseRoute(text string) (Route, error) {
	to, via, ok := strings.Cut(text, " via ")
	if !ok {
		return Route{}, fmt.Errorf(
			"%q is not a route; write NETWORK via ADDRESS, such as 10.83.16.0/24 via 172.29.64.7",
			shorten(text),
		)
	}
	n, err := parseSubnet(strings.TrimSpace(to))
	if err != nil {
		return Route{}, err
	}
	a, err := subnet.ParseAddr(strings.TrimSpace(via))
	return Route{n, a}, err
}

// adminPorts are where admin services answer unless somebody says otherwise.
var adminPorts = map[string]uint16{"https": 443, "http": 80, "ssh": 22, "telnet": 23}

// parseAdminService reads SCHEME or SCHEME/PORT.
func parseAdminService(text string) (AdminService, error) {
	scheme, port, given := strings.Cut(strings.ToLower(text), "/")
	s := AdminService{scheme, adminPorts[scheme]}
	if s.Port == 0 {
		return s, fmt.Errorf(
			"%q is not an admin service%s; write https, http, ssh or telnet, with /PORT for another port",
			shorten(text),
			didYouMean(scheme, "https", "http", "ssh", "telnet"),
		)
	}
	if given {
		n, err := strconv.ParseUint(port, 10, 16)
		if err != nil || n == 0 {
			return s, fmt.Errorf("%q has no port from 1 to 65535; write one such as %s/8443", shorten(text), scheme)
		}
		s.Port = uint16(n)
	}
	return s, nil
}

func parseDay(text string) (time.Time, error) {
	return time.Parse(time.DateOnly, text)
}
