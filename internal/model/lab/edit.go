package lab

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// Editor changes the text of a lab file key by key. Everything it is not told
// to change stays as it is to the letter: comments, order, spaces.
type Editor struct {
	text   string
	starts []int
	edits  []edit
}

type edit struct {
	from, to int // what is replaced
	text     string
	order    int
}

// NewEditor starts with the bytes that Read read.
func NewEditor(data []byte) *Editor {
	e := &Editor{text: string(data), starts: []int{0}}
	for i, c := range e.text {
		if c == '\n' {
			e.starts = append(e.starts, i+1)
		}
	}
	return e
}

func (e *Editor) offset(p Pos) int {
	at := e.starts[p.Line-1]
	for range p.Column - 1 {
		_, size := utf8.DecodeRuneInString(e.text[at:])
		at += size
	}
	return at
}

func (e *Editor) replace(from, to int, text string) {
	e.edits = append(e.edits, edit{from, to, text, len(e.edits)})
}

// Set writes a key of an object: its value is replaced where the key is there,
// else the key is added. The new value is one line.
func (e *Editor) Set(o Object, key, value string) {
	s := o.origin()
	if s.written(key) {
		at := e.offset(s.At(key))
		end := e.end(at)
		for _, k := range s.keys {
			switch {
			case k.name != key:
			case k.key.Line != k.pos.Line:
				end = e.blockEnd(at, k.pos.Column)
			case e.text[e.offset(s.body)] != '{' && !strings.ContainsRune("{['\"", rune(e.text[at])):
				// In lines a value may hold a comma, and may go on below.
				if end = e.blockEnd(at, k.key.Column+1); !strings.Contains(e.text[at:end], "\n") {
					end = at + len(strings.TrimRight(uncommented(e.text[at:end]), " \t\r"))
				}
			}
		}
		e.replace(at, end, value)
		return
	}
	if s.body.IsZero() {
		return
	}
	at := e.offset(s.body)
	switch {
	case e.text[at] == '{':
		e.addFlow(at, key, value)
	case s.short != "":
		e.addShort(s, at, key, value)
	default:
		e.addBlock(s.body, at, key, value)
	}
}

// Reorder returns the objects of one list another order: the k-th place gets what
// stands at order[k]. Comments within an object move with it; those on lines
// between objects stay.
func (e *Editor) Reorder(objects []Object, order []int) {
	spans := make([][2]int, len(objects))
	for k, o := range objects {
		s := o.origin()
		at := e.offset(s.body)
		spans[k] = [2]int{at, e.end(at)}
		if e.text[at] != '{' {
			spans[k][1] = e.blockEnd(at, s.body.Column)
		}
	}
	for k, from := range order {
		if k != from {
			e.replace(spans[k][0], spans[k][1], e.text[spans[from][0]:spans[from][1]])
		}
	}
}

// Append adds items to the list in which an object is the last.
func (e *Editor) Append(last Object, items ...string) {
	s := last.origin()
	at := e.offset(s.body)
	end := e.end(at)
	if e.text[at] != '{' {
		end = e.blockEnd(at, s.body.Column)
	}
	line := strings.LastIndexByte(e.text[:at], '\n') + 1
	before := strings.TrimRight(e.text[line:at], " \t")
	if !strings.HasSuffix(before, "-") || strings.TrimSpace(before) != "-" { // within brackets
		e.replace(end, end, ", "+strings.Join(items, ", "))
		return
	}
	if next := strings.IndexByte(e.text[end:], '\n'); next >= 0 { // a comment may stand behind it
		end += next
	} else {
		end = len(e.text)
	}
	lead := "\n" + strings.TrimSuffix(before, "-") + "- "
	e.replace(end, end, lead+strings.Join(items, lead))
}

// addFlow adds to a {mapping}, behind what it holds.
func (e *Editor) addFlow(at int, key, value string) {
	last, close := at, e.end(at)-1 // last of what is neither space nor comment
	flowing(e.text, at, func(i int) bool {
		if i < close && !strings.ContainsRune(" \t\r\n", rune(e.text[i])) {
			last = i
		}
		return i < close
	})
	place, separator := last+1, ", "
	again := slices.ContainsFunc(e.edits, func(x edit) bool { return x.from == place && x.to == place })
	switch {
	case again:
	case e.text[last] == ',':
		separator = " "
	case last == at:
		separator = ""
	}
	e.replace(place, place, separator+key+": "+value)
}

// addShort turns a plain value that stands for an object into the object, and
// adds to it.
func (e *Editor) addShort(s *Origin, at int, key, value string) {
	end := e.end(at)
	for i := range e.edits {
		if old := &e.edits[i]; old.from == at && old.to == end {
			old.text = strings.TrimSuffix(old.text, "}") + ", " + key + ": " + value + "}"
			return
		}
	}
	e.replace(at, end, "{"+s.short+": "+e.text[at:end]+", "+key+": "+value+"}")
}

// addBlock adds to a mapping in lines: after its first line when that holds a
// whole value, else before it.
func (e *Editor) addBlock(body Pos, at int, key, value string) {
	indent := strings.Repeat(" ", body.Column-1)
	line := e.text[at:]
	next := len(e.text)
	if i := strings.IndexByte(line, '\n'); i >= 0 {
		line, next = line[:i], at+i+1
	}
	_, first, _ := strings.Cut(line, ":")
	first = strings.TrimSpace(first)
	if first != "" && first[0] != '#' && first[0] != '|' && first[0] != '>' && first[0] != '&' {
		start := at + strings.Index(line, first)
		if e.end(start) <= at+len(line) {
			text := indent + key + ": " + value + "\n"
			if next == len(e.text) && !strings.HasSuffix(e.text, "\n") {
				text = "\n" + strings.TrimSuffix(text, "\n")
			}
			e.replace(next, next, text)
			return
		}
	}
	e.replace(at, at, key+": "+value+"\n"+indent)
}

// AddObject adds a key to the lab file's top level, after the key named after;
// text is the whole block, with its line end.
func (e *Editor) AddObject(l *Lab, after, text string) {
	at := len(e.text)
	best := Pos{}
	for _, k := range l.keys {
		if k.pos.Line > l.At(after).Line && (best.IsZero() || k.pos.Line < best.Line) {
			best = k.key
		}
	}
	if !best.IsZero() {
		at = e.starts[best.Line-1]
		for at > 0 { // before the comments and the empty line that belong to the next key
			start := strings.LastIndexByte(e.text[:at-1], '\n') + 1
			if line := strings.TrimSpace(e.text[start:at]); line == "" || line[0] == '#' {
				at = start
				continue
			}
			break
		}
	} else if !strings.HasSuffix(e.text, "\n") {
		text = "\n" + text
	}
	e.replace(at, at, text)
}

// end returns the offset behind the value that starts at an offset: a quoted or
// bracketed one to its close, a plain one to where YAML ends it on its line.
func (e *Editor) end(at int) int {
	t := e.text
	switch t[at] {
	case '"', '\'':
		q := t[at]
		for i := at + 1; i < len(t); i++ {
			if t[i] == '\\' && q == '"' {
				i++
			} else if t[i] == q {
				if q == '\'' && i+1 < len(t) && t[i+1] == q {
					i++
					continue
				}
				return i + 1
			}
		}
		return len(t)
	case '{', '[':
		end, depth := len(t), 0
		flowing(t, at, func(i int) bool {
			switch t[i] {
			case '{', '[':
				depth++
			case '}', ']':
				depth--
			}
			if depth == 0 {
				end = i + 1
			}
			return depth > 0
		})
		return end
	}
	i := at
	for i < len(t) && t[i] != '\n' && !strings.ContainsRune(",}]", rune(t[i])) && !(t[i] == '#' && t[i-1] == ' ') {
		i++
	}
	return at + len(strings.TrimRight(t[at:i], " \t\r"))
}

// flowing visits each byte of a bracketed value from its opening bracket on, as
// long as visit gives true, without those in quotes and comments.
func flowing(t string, at int, visit func(i int) bool) {
	for i := at; i < len(t); i++ {
		starts := i == at || strings.IndexByte(" \t\n{[,:", t[i-1]) >= 0
		switch q := t[i]; {
		case starts && (q == '"' || q == '\''):
			if !visit(i) {
				return
			}
			for i++; i < len(t); i++ {
				if t[i] == '\\' && q == '"' {
					i++
				} else if t[i] == q && (q == '"' || i+1 == len(t) || t[i+1] != q) {
					break
				} else if t[i] == q {
					i++
				}
			}
			if i < len(t) && !visit(i) {
				return
			}
		case starts && q == '#':
			for i < len(t) && t[i] != '\n' {
				i++
			}
		case !visit(i):
			return
		}
	}
}

// uncommented cuts a line before its comment.
func uncommented(line string) string {
	for i := 1; i < len(line); i++ {
		if line[i] == '#' && (line[i-1] == ' ' || line[i-1] == '\t') {
			return line[:i]
		}
	}
	return line
}

// blockEnd returns the offset behind a value of several lines: up to the first
// line that is indented less than the value's column (from 1).
func (e *Editor) blockEnd(at, column int) int {
	end := at
	for i := at; i < len(e.text); {
		stop := len(e.text)
		if n := strings.IndexByte(e.text[i:], '\n'); n >= 0 {
			stop = i + n
		}
		line := e.text[i:stop]
		if i > at && strings.TrimSpace(line) != "" && len(line)-len(strings.TrimLeft(line, " ")) < column-1 {
			break
		}
		if strings.TrimSpace(line) != "" {
			end = i + len(strings.TrimRight(line, " \t\r"))
		}
		i = stop + 1
	}
	return end
}

// Bytes returns the changed text.
func (e *Editor) Bytes() []byte {
	slices.SortStableFunc(e.edits, func(a, b edit) int {
		if a.from != b.from {
			return a.from - b.from
		}
		return a.order - b.order
	})
	var b strings.Builder
	at := 0
	for _, x := range e.edits {
		b.WriteString(e.text[at:x.from])
		b.WriteString(x.text)
		at = max(x.to, at)
	}
	b.WriteString(e.text[at:])
	return []byte(b.String())
}

// Changed counts the changes made.
func (e *Editor) Changed() int { return len(e.edits) }

// Value writes a text as a YAML scalar, quoted where it must be.
func Value(text string) string {
	b, err := yaml.Marshal(text)
	if err != nil || strings.Count(string(b), "\n") != 1 || strings.ContainsAny(text, ",{}[]") {
		return fmt.Sprintf("%q", text)
	}
	return strings.TrimSuffix(string(b), "\n")
}
