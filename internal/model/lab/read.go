package lab

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"openbastion/internal/model/sanitize"
)

// Bounds on what is read. They keep any input, however crafted, within a
// second and a few hundred megabytes; a lab of 10,000 guests and 10,000 rules
// stays under a fifth of each.
const (
	MaxSize   = 8 << 20 // bytes of a lab file
	maxMarks  = 600_000 // characters that can start a value
	maxDepth  = 64      // values within values
	maxFaults = 50      // faults told in one go
)

// Read reads a lab file. file is the name to use in messages. The error is
// always of type [Faults].
func Read(file string, data []byte) (*Lab, error) {
	r := &reader{file: file, data: data}
	root := r.parse()
	if root == nil {
		return nil, r.faults
	}
	l := &Lab{File: file, Sum: sha256.Sum256(data), names: map[string]any{}, Site: Site{Accelerated: true}}
	readObject(r, root, "the lab file", labFields(), l)
	r.complete(l)
	if len(r.faults) > 0 {
		return nil, r.faults.sorted()
	}
	return l, nil
}

type reader struct {
	file   string
	data   []byte
	starts []int // offsets of the lines of data; made at the first fault
	faults Faults
	more   int // faults not kept
}

func (r *reader) line(n int) string {
	if r.starts == nil {
		r.starts = []int{0}
		for i, c := range r.data {
			if c == '\n' {
				r.starts = append(r.starts, i+1)
			}
		}
	}
	if n < 1 || n > len(r.starts) {
		return ""
	}
	rest := r.data[r.starts[n-1]:]
	if i := bytes.IndexByte(rest, '\n'); i >= 0 {
		rest = rest[:i]
	}
	return strings.ToValidUTF8(string(rest[:min(len(rest), 64<<10)]), "?")
}

func place(n *yaml.Node) Pos { return Pos{Line: n.Line, Column: n.Column} }

// fail notes a fault at a place. message may end in "; what to write instead".
func (r *reader) fail(at Pos, message string, args ...any) {
	if len(r.faults) >= maxFaults {
		r.more++
		return
	}
	text := fmt.Sprintf(message, args...)
	what, instead, _ := strings.Cut(text, "; ")
	f := Fault{File: r.file, Pos: at, Message: what, Instead: instead}
	if !at.IsZero() {
		f.Source, f.offset = excerpt(r.line(at.Line), at.Column)
	}
	r.faults = append(r.faults, f)
}

// yamlFault takes the parser's prefix and line number off its message.
func yamlFault(text string) (string, Pos) {
	text = strings.TrimPrefix(text, "yaml: ")
	if rest, ok := strings.CutPrefix(text, "line "); ok {
		if number, message, ok := strings.Cut(rest, ": "); ok {
			if n, err := strconv.Atoi(number); err == nil {
				return message, Pos{Line: n, Column: 1}
			}
		}
	}
	return text, Pos{}
}

// parse turns the bytes into nodes, or notes why it cannot.
func (r *reader) parse() *yaml.Node {
	if len(r.data) > MaxSize {
		r.fail(Pos{}, "the file is larger than %s; a lab file is text of a few pages", Bytes(MaxSize))
		return nil
	}
	if i := invalid(r.data); i >= 0 {
		line := 1 + bytes.Count(r.data[:i], []byte("\n"))
		column := i - bytes.LastIndexByte(r.data[:i], '\n')
		r.fail(
			Pos{Line: line, Column: column},
			"this is not text: byte 0x%02x is neither a letter nor a line end; save the file as UTF-8",
			r.data[i],
		)
		return nil
	}
	if i := strangeLineEnd(r.data); i >= 0 {
		line := 1 + bytes.Count(r.data[:i], []byte("\n"))
		column := i - bytes.LastIndexByte(r.data[:i], '\n')
		r.fail(
			Pos{Line: line, Column: column},
			"a line ends here in a way that editors do not show; save the file with ordinary line ends",
		)
		return nil
	}
	if n, depth := valueBound(r.data); n > maxMarks || depth > maxDepth {
		if depth > maxDepth {
			r.fail(Pos{}, "values are nested more than %d deep; a lab file needs five levels", maxDepth)
		} else {
			r.fail(Pos{}, "the file has more than %d values; split the lab", maxMarks)
		}
		return nil
	}
	var doc yaml.Node
	decoder := yaml.NewDecoder(bytes.NewReader(r.data))
	if err := decoder.Decode(&doc); err != nil {
		if len(bytes.TrimSpace(r.data)) == 0 || err.Error() == "EOF" {
			r.fail(Pos{}, "the file is empty; `bastion new NAME` writes one to start from")
			return nil
		}
		text, at := yamlFault(err.Error())
		r.fail(at, "this is not YAML: %s; look at the indentation and quotes here and a line above", text)
		return nil
	}
	r.refuseTags(&doc)
	if len(doc.Content) == 0 {
		r.fail(Pos{}, "the file is empty; `bastion new NAME` writes one to start from")
		return nil
	}
	var next yaml.Node
	if err := decoder.Decode(&next); err == nil {
		r.fail(place(&next), "a second document starts here; write one lab to a file")
		return nil
	}
	return doc.Content[0]
}

// refuseTags notes values with a tag of their own: they would be read as
// something else than they look.
func (r *reader) refuseTags(n *yaml.Node) {
	if strings.HasPrefix(n.Tag, "!") && !strings.HasPrefix(n.Tag, "!!") {
		r.fail(place(n), "the tag %s has no meaning here; write the value without it", shorten(n.Tag))
	}
	for _, inner := range n.Content {
		r.refuseTags(inner)
	}
}

// lineEnds are what YAML counts as the end of a line and editors do not, in the
// order in which they are looked for.
var lineEnds = []string{"\u0085", "\u2028", "\u2029"}

// strangeLineEnd finds the first line end that not everybody counts as one: then
// places would be told, and lines changed, that nobody sees there. -1: none.
func strangeLineEnd(data []byte) int {
	at := -1
	note := func(i int) {
		if i >= 0 && (at < 0 || i < at) {
			at = i
		}
	}
	for _, end := range lineEnds {
		note(bytes.Index(data, []byte(end)))
	}
	for i := bytes.IndexByte(data, '\r'); i >= 0; {
		if i+1 == len(data) || data[i+1] != '\n' {
			note(i)
			break
		}
		next := bytes.IndexByte(data[i+1:], '\r')
		if next < 0 {
			break
		}
		i += 1 + next
	}
	return at
}

// invalid finds the first byte that cannot be in a text file, or -1.
func invalid(data []byte) int {
	for i := 0; i < len(data); {
		c := data[i]
		if c < utf8.RuneSelf {
			if c < ' ' && c != '\n' && c != '\t' && c != '\r' || c == 0x7f {
				return i
			}
			i++
			continue
		}
		_, size := utf8.DecodeRune(data[i:])
		if size == 1 {
			return i
		}
		i += size
	}
	return -1
}

// valueBound bounds from above how many values the text can hold and how deep its
// brackets nest, before a parser spends memory on it.
func valueBound(data []byte) (n, depth int) {
	open := 0
	for i, c := range data {
		switch c {
		case '\n', ',':
			n++
		case '[', '{':
			n++
			open++
			depth = max(depth, open)
		case ']', '}':
			open = max(open-1, 0)
		case ':', '-', '?':
			if i+1 == len(data) || data[i+1] == ' ' || data[i+1] == '\n' || data[i+1] == '\t' {
				n++
			}
		}
	}
	return n, depth
}

// field is one key of an object of the file: its name, what it is, the form
// of its value for the schema, and how to read it. The tables of fields are
// the one description of the format; reading and the schema both use them.
type field[T any] struct {
	name string
	doc  string
	form form
	read func(r *reader, n *yaml.Node, t *T)
}

// orLater lets the field say `later`: question is what is open then.
func (f field[T]) orLater(question string) field[T] {
	f.form.Open = question
	return f
}

// readObject reads a mapping with fixed keys.
func readObject[T any, P interface {
	*T
	Object
}](r *reader, n *yaml.Node, what string, fields []field[T], t P) {
	r.object(
		n,
		what,
		t.origin(),
		len(fields),
		func(i int) (name, open string) { return fields[i].name, fields[i].form.Open },
		func(i int, value *yaml.Node) { fields[i].read(r, value, t) },
	)
}

// object walks a mapping whose keys are known: so many of them, each with its name and
// what is open when it is left for later. It is apart from [readObject] so that it is there once and not for every type.
func (r *reader) object(n *yaml.Node, what string, s *Origin, count int, key func(i int) (name, open string),
	read func(i int, value *yaml.Node)) {
	s.Pos, s.body = place(n), place(n)
	r.pairs(n, what, func(k, value *yaml.Node) {
		for i := range count {
			name, open := key(i)
			if name != k.Value {
				continue
			}
			if s.written(name) {
				r.fail(place(k), "%s is here twice; the first is in line %d", name, s.At(name).Line)
				return
			}
			s.keys = append(s.keys, keySpot{name, place(value), place(k)})
			if open != "" && value.Kind == yaml.ScalarNode && value.Value == later {
				s.open = append(s.open, question{name, open})
				return
			}
			read(i, value)
			return
		}
		names := make([]string, count)
		for i := range names {
			names[i], _ = key(i)
		}
		hint := "known here: " + strings.Join(names, ", ")
		if near := meaning(k.Value, names); near != "" {
			hint = "did you mean " + near + "?"
			if strings.HasSuffix(strings.ToLower(k.Value), "mask") {
				hint = "a mask follows its address, as a length: " + near + ": 10.83.16.1/24"
			}
		}
		r.fail(place(k), "%s has no key %q; %s", what, k.Value, hint)
	})
}

// pairs walks a mapping. A value that is no mapping is a fault.
func (r *reader) pairs(n *yaml.Node, what string, each func(key, value *yaml.Node)) {
	if r.aliased(n) {
		return
	}
	if n.Kind != yaml.MappingNode {
		r.fail(place(n), "%s is %s here, not keys with values; write `key: value` lines", what, kindName(n))
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		if r.aliased(k) || r.aliased(v) {
			continue
		}
		if k.Kind != yaml.ScalarNode {
			r.fail(place(k), "a key is a word, not %s", kindName(k))
			continue
		}
		each(k, v)
	}
}

// items walks a list. A single value stands for a list of one.
func (r *reader) items(n *yaml.Node, each func(*yaml.Node)) {
	if r.aliased(n) {
		return
	}
	if n.Kind != yaml.SequenceNode {
		each(n)
		return
	}
	for _, item := range n.Content {
		if !r.aliased(item) {
			each(item)
		}
	}
}

// aliased refuses anchors and aliases: they hide where a value was written.
func (r *reader) aliased(n *yaml.Node) bool {
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		r.fail(place(n), "anchors and aliases (& and *) are not read; write the value out")
		return true
	}
	return false
}

// text returns the scalar's text; anything else is a fault.
func (r *reader) text(n *yaml.Node, what string) (string, bool) {
	if n.Kind != yaml.ScalarNode {
		r.fail(place(n), "%s is one value, not %s", what, kindName(n))
		return "", false
	}
	if n.Tag == "!!null" || n.Value == "" {
		r.fail(place(n), "%s has no value; write one or leave the key out", what)
		return "", false
	}
	if c, hidden := sanitize.Hidden(n.Value); hidden {
		r.fail(place(n), "%s contains the invisible character U+%04X; write it visibly", what, c)
		return "", false
	}
	return n.Value, true
}

func kindName(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "keys with values"
	case yaml.SequenceNode:
		return "a list"
	case yaml.ScalarNode:
		if n.Tag == "!!null" {
			return "nothing"
		}
		return "one value"
	}
	return "something else"
}

// isName reports whether it is a name: a small letter, then at most 62 small letters, digits
// and hyphens.
func isName(text string) bool {
	if text == "" || len(text) > 63 || text[0] < 'a' || text[0] > 'z' {
		return false
	}
	for i := range len(text) {
		if c := text[i]; (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '-' {
			return false
		}
	}
	return true
}

// LikeName turns a text into the name that was perhaps meant; empty when nothing of it
// can be one.
func LikeName(text string) string {
	name := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, strings.ToLower(text))
	for strings.Contains(name, "--") {
		name = strings.ReplaceAll(name, "--", "-")
	}
	return strings.TrimRight(strings.TrimLeft(name, "-0123456789"), "-")
}

// reserved words cannot be names: sentences use them.
var reserved = sync.OnceValue(func() map[string]bool {
	return map[string]bool{
		"any": true, "outside": true, "from": true, "to": true, "reaches": true, "never": true, "log": true,
		"host": true, "upstream": true, "none": true, "self": true, "dhcp": true,
	}
})

func (r *reader) name(n *yaml.Node, what string) (string, bool) {
	text, ok := r.text(n, what)
	if !ok {
		return "", false
	}
	if err := CheckName(text); err != nil {
		r.fail(place(n), "%s", err)
		return "", false
	}
	return text, true
}

// CheckName returns why a text cannot be a name in a lab file; nil when it can.
func CheckName(text string) error {
	if !isName(text) {
		hint := LikeName(shorten(text))
		if !isName(hint) {
			hint = "heron"
		}
		return fmt.Errorf(
			"%q is not a valid name: names have lower-case letters, digits and hyphens, start with a letter, and have at most 63 characters; write one such as %s",
			shorten(text),
			hint,
		)
	}
	if reserved()[text] {
		return fmt.Errorf("%q is a keyword of rules and cannot be a name; choose another", text)
	}
	return nil
}

func shorten(s string) string {
	if len(s) > 40 {
		return strings.ToValidUTF8(s[:40], "") + "…"
	}
	return s
}
