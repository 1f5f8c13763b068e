// Package sums reads checksum lists in the forms that are usual:
//
//   - a digest and a name ("HEX  NAME", "HEX *NAME", a size between them as in
//     release files), with or without a heading that names the algorithm;
//   - tagged ("SHA256 (NAME) = HEX", "SHA2-256(NAME)= HEX"), which the manifests
//     of OVF packages share;
//   - a table or a block with Algorithm, Hash and Path;
//   - "SHA256 hash of NAME:" with the digits on the next line;
//   - a digest alone, with its algorithm before it or not.
//
// Digests are hexadecimal or base64 (RFC 4648 section 4), the text UTF-8 or UTF-16.
package sums

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"path"
	"regexp"
	"strings"
	"sync"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// Sum is one line of a list.
type Sum struct {
	Algorithm string // as Named gives it; New refuses some
	Digest    string // hexadecimal, lower case
	Name      string // the file, with its folders; empty when the digest stands alone
	Line      int
	Guessed   bool // the algorithm was told by the length alone
}

// Base returns the name without its folders.
func (s Sum) Base() string { return path.Base(strings.ReplaceAll(s.Name, `\`, "/")) }

// List is a whole list.
type List struct {
	Sums   []Sum
	Signed bool // a signature stands around it (RFC 9580 section 7)
}

// maxLines bounds what is read of a list.
const maxLines = 100_000

// The forms of lines; made when a list is read.
var (
	tagged  = pattern(`^([A-Za-z0-9][A-Za-z0-9/_ -]{1,14}?) ?\((.+)\) ?= ?(\S+)$`)
	piped   = pattern(`^\((stdin|-)\) ?= ?([0-9A-Fa-f]+)$`)
	field   = pattern(`^(Algorithm|Hash|Path) *: ?(.*)$`)
	hashOf  = pattern(`(?i)^(.{2,14}?) hash (?:of (?:file )?)?(.+?):?$`)
	sized   = pattern(`^(\d{1,19})[ \t]+(\S.*)$`)
	labeled = pattern(
		`^([A-Za-z][A-Za-z0-9/_ -]{1,14}?)(?: ?(?:sum|digest|hash|checksum))? ?[:=] ?(\S+(?: [0-9A-Fa-f]{2,})*)$`,
	)
	integrity = pattern(`^(sha(?:256|384|512))-([A-Za-z0-9+/]+=*)$`) // subresource integrity, as pages have it
	titled    = pattern(
		`^#* *([A-Za-z][A-Za-z0-9/_ -]{1,14}?) ?(?:\(?(?i:check)?(?i:sums?|digests?|hash(?:es)?)\)?)? *:?$`,
	)
)

func pattern(text string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })
}

// reader holds what earlier lines of a list say about later ones.
type reader struct {
	list     List
	heading  string // the algorithm that a heading named
	block    Sum    // Algorithm, Hash and Path, as they come
	awaiting *Sum   // its digits follow on the next line
	columns  bool   // a table with Algorithm, Hash and Path
	line     int
}

// Read returns the sums of a list; its own name may tell the algorithm of digests
// that stand without one. Lines that are none are left out: lists come signed,
// commented and with headings. A line that looks like a sum with digits missing
// is an error.
func Read(name string, data []byte) (List, error) {
	r := reader{heading: inName(name)}
	for n, line := range strings.Split(decoded(data), "\n") {
		if n >= maxLines {
			return r.list, fmt.Errorf("sums: a list of more than %d lines", maxLines)
		}
		r.line = n + 1
		if err := r.read(strings.TrimRight(line, " \t\r\x00")); err != nil {
			return r.list, fmt.Errorf("sums: line %d: %w", r.line, err)
		}
	}
	return r.list, nil
}

// decoded returns text as UTF-8, whatever its byte order mark says; UTF-16 without
// a mark is told by its zeros.
func decoded(data []byte) string {
	fallback := unicode.UTF8.NewDecoder()
	if len(data) >= 4 && data[1] == 0 && data[3] == 0 {
		fallback = unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewDecoder()
	}
	text, _, err := transform.Bytes(unicode.BOMOverride(fallback), data)
	if err != nil {
		return string(data)
	}
	return strings.ReplaceAll(string(text), "\r\n", "\n")
}

// inName returns the algorithm that a list's own name speaks of.
func inName(name string) string {
	for _, word := range strings.FieldsFunc(path.Base(name), func(c rune) bool { return strings.ContainsRune("._- ", c) }) {
		if a := Named(strings.TrimSuffix(strings.TrimSuffix(strings.ToLower(word), "s"), "sum")); a != "" {
			return a
		}
	}
	return ""
}

func (r *reader) read(full string) error {
	line := strings.TrimLeft(full, " \t")
	switch {
	case line == "":
		return nil
	case strings.HasPrefix(line, "-----BEGIN PGP SIGNED"), strings.HasPrefix(line, "-----BEGIN SIGNED"):
		r.list.Signed = true
		return nil
	case strings.HasPrefix(line, "-----"), strings.HasPrefix(line, "Hash: "): // of the signature: no heading
		return nil
	}
	line = strings.TrimPrefix(line, "- ") // a line that a signature escaped
	if r.awaiting != nil {
		s := *r.awaiting
		r.awaiting = nil
		return r.add(s, strings.ReplaceAll(line, " ", ""), true)
	}
	if r.block.Algorithm != "" || strings.HasPrefix(line, "Algorithm") {
		if used, err := r.readBlock(line); used || err != nil {
			return err
		}
	}
	if m := tagged().FindStringSubmatch(strings.TrimPrefix(line, `\`)); m != nil && Named(m[1]) != "" {
		s := Sum{Algorithm: Named(m[1]), Name: unescaped(m[2], line)}
		if s.Name == "stdin" || s.Name == "-" {
			s.Name = ""
		}
		return r.add(s, m[3], true)
	}
	if m := piped().FindStringSubmatch(line); m != nil {
		return r.add(Sum{}, m[2], false)
	}
	if m := hashOf().FindStringSubmatch(line); m != nil && Named(m[1]) != "" {
		r.awaiting = &Sum{Algorithm: Named(m[1]), Name: m[2]}
		return nil
	}
	return r.readPlain(line, full != line)
}

// readPlain reads a digest with a name after it, alone, or after its algorithm;
// and headings.
func (r *reader) readPlain(line string, indented bool) error {
	bareLine := strings.TrimPrefix(line, `\`)
	digest, rest := bareLine, ""
	if cut := strings.IndexAny(bareLine, " \t"); cut > 0 {
		digest, rest = bareLine[:cut], strings.TrimLeft(bareLine[cut:], " \t")
	}
	if looksLike(digest) {
		if m := sized().FindStringSubmatch(rest); m != nil && indented {
			rest = m[2]
		}
		name := strings.TrimPrefix(strings.TrimPrefix(rest, "*"), "./")
		if r.columns {
			name = rest
		}
		if name == "-" {
			name = ""
		}
		return r.add(Sum{Name: unescaped(name, line)}, digest, false)
	}
	if r.columns && Named(digest) != "" {
		hash, name, _ := strings.Cut(rest, " ")
		return r.add(Sum{Algorithm: Named(digest), Name: strings.TrimSpace(name)}, hash, true)
	}
	m := integrity().FindStringSubmatch(line)
	if m == nil {
		m = labeled().FindStringSubmatch(line)
	}
	if m != nil && Named(m[1]) != "" {
		return r.add(Sum{Algorithm: Named(m[1])}, strings.ReplaceAll(m[2], " ", ""), true)
	}
	if m := titled().FindStringSubmatch(line); m != nil && Named(m[1]) != "" {
		r.heading = Named(m[1])
	}
	return nil
}

// readBlock reads one of Algorithm, Hash and Path in lines of their own, or the
// heading of a table of them.
func (r *reader) readBlock(line string) (bool, error) {
	m := field().FindStringSubmatch(line)
	if m == nil {
		if f := strings.Fields(line); len(f) == 3 && f[0] == "Algorithm" && f[1] == "Hash" {
			r.columns = true
			return true, nil
		}
		if r.block.Digest != "" && r.block.Name != "" { // a long path goes on
			last := &r.list.Sums[len(r.list.Sums)-1]
			last.Name += line
			return true, nil
		}
		return false, nil
	}
	value := strings.TrimSpace(m[2])
	switch m[1] {
	case "Algorithm":
		r.block = Sum{Algorithm: Named(value)}
	case "Hash":
		r.block.Digest = value
	case "Path":
		r.block.Name = value
		return true, r.add(Sum{Algorithm: r.block.Algorithm, Name: value}, r.block.Digest, true)
	}
	return true, nil
}

// unescaped returns a name whose line began with a backslash.
func unescaped(name, line string) string {
	if !strings.HasPrefix(line, `\`) {
		return name
	}
	return strings.NewReplacer(`\n`, "\n", `\r`, "\r", `\\`, `\`).Replace(name)
}

// looksLike says whether a word is a digest by its form: only hexadecimal digits,
// and more than names have; or base64 of a digest's length.
func looksLike(word string) bool {
	if strings.Trim(word, "0123456789abcdefABCDEF") == "" {
		return len(word) > 24
	}
	raw, ok := fromBase64(word)
	return ok && len(word)%4 == 0 && bare()[2*len(raw)] != "" && len(raw) >= 32
}

func fromBase64(word string) ([]byte, bool) {
	raw, err := base64.RawStdEncoding.Strict().DecodeString(strings.TrimRight(word, "="))
	return raw, err == nil
}

// add takes a line of the list. What is sure to be a digest must have the length
// of one.
func (r *reader) add(s Sum, digest string, sure bool) error {
	s.Line = r.line
	want := algorithms()[s.Algorithm].digits
	s.Digest = strings.ToLower(digest)
	if _, err := hex.DecodeString(s.Digest); err != nil || want != 0 && len(digest) != want {
		raw, ok := fromBase64(digest)
		if ok && (2*len(raw) == want || want == 0 && bare()[2*len(raw)] != "") {
			s.Digest = hex.EncodeToString(raw)
		}
	}
	if s.Algorithm == "" && r.heading != "" && algorithms()[r.heading].digits == len(s.Digest) {
		s.Algorithm = r.heading
	}
	if s.Algorithm == "" {
		s.Algorithm, s.Guessed = bare()[len(s.Digest)], true
	}
	switch {
	case s.Algorithm == "" && !sure:
		return fmt.Errorf("a digest of %d digits; SHA-256 has 64 and SHA-512 has 128: is it cut short?", len(digest))
	case s.Algorithm == "":
		return nil
	case len(s.Digest) != algorithms()[s.Algorithm].digits || strings.Trim(s.Digest, "0123456789abcdef") != "":
		return fmt.Errorf(
			"%s has %d hexadecimal digits, and this one has %d characters: is it cut short?",
			Title(s.Algorithm),
			algorithms()[s.Algorithm].digits,
			len(digest),
		)
	}
	r.list.Sums = append(r.list.Sums, s)
	return nil
}

// For returns the lines for a file by its base name, those of the strongest
// algorithm that is computed here: an exact name before those in folders. A list
// of one digest alone is for any file.
func (l List) For(name string) []Sum {
	var exact, inFolders []Sum
	for _, s := range l.Sums {
		switch {
		case s.Name == name || s.Name == "" && l.alone():
			exact = append(exact, s)
		case strings.EqualFold(s.Base(), name):
			inFolders = append(inFolders, s)
		}
	}
	if len(exact) == 0 {
		exact = inFolders
	}
	best := -1
	for _, s := range exact {
		best = max(best, Worth(s.Algorithm))
	}
	var out []Sum
	for _, s := range exact {
		if Worth(s.Algorithm) == best && (len(out) == 0 || out[0].Algorithm == s.Algorithm) {
			out = append(out, s)
		}
	}
	return out
}

// alone says whether all digests stand without a name: they are of one file.
func (l List) alone() bool {
	for _, s := range l.Sums {
		if s.Name != "" {
			return false
		}
	}
	return true
}
