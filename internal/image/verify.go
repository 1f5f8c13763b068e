package image

import (
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"openbastion/internal/format/sums"
)

// Verdict is what a digest came to.
type Verdict struct {
	File      string   `json:"file"`
	Algorithm string   `json:"algorithm"`
	Want      string   `json:"want"`
	Saw       string   `json:"observed"`
	From      string   `json:"from"` // where the digest was written: a list with its line, or the call
	Holds     bool     `json:"holds"`
	Notes     []string `json:"notes,omitempty"` // what else is to be known of it
}

// All returns a file as one stream.
func All(file io.ReaderAt, size int64) io.Reader { return io.NewSectionReader(file, 0, size) }

// Wanted is what a list, or the call, says of a file's digest.
type Wanted struct {
	From   string     // the list's name, or the call
	Lines  []sums.Sum // for the file, by its name
	Others []sums.Sum // all there are, when none is for that name: it may have been renamed
	Signed string     // how the list's signature is checked; empty when it has none
}

// algorithms returns those that decide.
func (w Wanted) algorithms() []string {
	var out []string
	add := func(name string) {
		if name != "" && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	for _, s := range w.Lines {
		add(s.Algorithm)
		if s.Guessed {
			add(sums.Twin(s.Algorithm))
		}
	}
	for _, s := range w.Others {
		if sums.Computed(s.Algorithm) {
			add(s.Algorithm)
		}
	}
	return out
}

// Verify takes the digests of a file, all in one reading, and holds them
// against what is wanted.
func Verify(name string, r io.Reader, want []Wanted) ([]Verdict, error) {
	var hashes []hash.Hash
	var algorithms []string
	for _, w := range want {
		for _, a := range w.algorithms() {
			if slices.Contains(algorithms, a) {
				continue
			}
			h, err := sums.New(a)
			if err != nil {
				return nil, err
			}
			hashes, algorithms = append(hashes, h), append(algorithms, a)
		}
	}
	if err := hashAll(r, hashes...); err != nil {
		return nil, err
	}
	saw := map[string]string{}
	for k, a := range algorithms {
		saw[a] = hex.EncodeToString(hashes[k].Sum(nil))
	}
	var out []Verdict
	for _, w := range want {
		v, err := w.judge(name, saw)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

// judge holds the file's digests against the lines that are for it.
func (w Wanted) judge(name string, saw map[string]string) (Verdict, error) {
	lines := w.Lines
	if len(lines) == 0 {
		lines = w.Others
	}
	v := Verdict{File: name}
	for _, s := range lines {
		a := s.Algorithm
		if s.Guessed && saw[a] != s.Digest && saw[sums.Twin(a)] == s.Digest {
			a = sums.Twin(a)
			v.Notes = append(
				v.Notes,
				fmt.Sprintf("%s does not name its digests: this one is %s", w.From, sums.Title(a)),
			)
		}
		if v.Holds = saw[a] == s.Digest; v.Holds || v.Want == "" {
			v.Algorithm, v.Want, v.Saw, v.From = a, s.Digest, saw[a], w.from(s)
		}
		if !v.Holds {
			continue
		}
		if len(w.Lines) == 0 {
			v.Notes = append(
				v.Notes,
				fmt.Sprintf(
					"%s has no line for %s, and calls the file with this digest %s: it was renamed",
					w.From,
					name,
					s.Name,
				),
			)
		} else if s.Name != "" && s.Name != name {
			v.Notes = append(v.Notes, fmt.Sprintf("it is the one that %s has as %s", w.From, s.Name))
		}
		break
	}
	if len(w.Lines) == 0 && !v.Holds {
		return v, fmt.Errorf(
			"%s has no line for %s, and none of its %d digests is the file's: it is not in that list",
			w.From,
			name,
			len(lines),
		)
	}
	w.contradictions(&v)
	if v.Algorithm == "sha1" {
		v.Notes = append(
			v.Notes,
			"SHA-1 can be forged by the author of both files: it detects only transmission errors; "+
				"look for SHA-256 or SHA-512",
		)
	}
	if w.Signed != "" {
		v.Notes = append(
			v.Notes,
			fmt.Sprintf(
				"%s is signed; its signature was not checked here. Only the signature proves who made the list: %s",
				w.From,
				w.Signed,
			),
		)
	}
	return v, nil
}

func (w Wanted) from(s sums.Sum) string {
	if s.Line == 0 {
		return w.From
	}
	return fmt.Sprintf("%s, line %d", w.From, s.Line)
}

// contradictions returns which lines promise one name different digests; with such
// a list nothing holds. Files of one name in several folders may differ.
func (w Wanted) contradictions(v *Verdict) {
	first := map[string]sums.Sum{}
	for _, s := range w.Lines {
		f, twice := first[s.Name]
		switch {
		case !twice:
			first[s.Name] = s
		case f.Digest != s.Digest:
			v.Holds = false
			v.Notes = append(
				v.Notes,
				fmt.Sprintf("lines %d and %d of %s contradict each other: do not rely on it", f.Line, s.Line, w.From),
			)
			return
		}
	}
	if len(first) > 1 && !v.Holds {
		v.Notes = append(
			v.Notes,
			fmt.Sprintf("%s has the name in %d folders, and the file is none of them", w.From, len(first)),
		)
	}
}

// Typed reads a digest that a person typed or pasted: spaces, colons and case
// do not matter, and it may be base64. An empty algorithm is told by the text.
func Typed(algorithm, text string) (Wanted, error) {
	line := strings.TrimSpace(text)
	if algorithm != "" {
		digest := strings.NewReplacer(" ", "", ":", "", "\n", "", "\t", "").Replace(text)
		if len(digest) > len(algorithm) && strings.EqualFold(digest[:len(algorithm)], algorithm) {
			digest = digest[len(algorithm):]
		}
		line = algorithm + ": " + digest
	}
	list, err := sums.Read("", []byte(line))
	if err != nil {
		return Wanted{}, errors.New(strings.Replace(plainly(err), "line 1: ", "", 1))
	}
	if len(list.Sums) != 1 {
		return Wanted{}, fmt.Errorf("%q is not a digest: write its hexadecimal digits, or ALGORITHM:DIGITS", text)
	}
	s := list.Sums[0]
	s.Line, s.Name = 0, ""
	if _, err := sums.New(s.Algorithm); err != nil {
		return Wanted{}, errors.New(plainly(err))
	}
	return Wanted{From: "the call", Lines: []sums.Sum{s}}, nil
}

// Listed finds a file's digest in a list.
func Listed(name, from string, text []byte) (Wanted, error) {
	list, err := sums.Read(from, text)
	if err != nil {
		return Wanted{}, fmt.Errorf("%s: %s", from, plainly(err))
	}
	w := Wanted{From: from, Lines: list.For(name)}
	if list.Signed {
		w.Signed = "gpg --verify " + from
	}
	if len(w.Lines) > 0 {
		_, err := sums.New(w.Lines[0].Algorithm)
		return w, err
	}
	w.Others = list.Sums
	if len(w.algorithms()) == 0 {
		return w, fmt.Errorf("%s has no line for %s (it has %d sums)", from, name, len(list.Sums))
	}
	return w, nil
}

// ErrNoList says that nothing beside a file lists its digest.
var ErrNoList = errors.New("no list of checksums in its folder")

// maxList bounds a list of checksums, in bytes.
const maxList = 8 << 20

// Beside looks for a list of checksums beside a file: one made for it, then the
// folder's; one with a line for it before one that may have it under another
// name.
func Beside(dir fs.FS, name string) (Wanted, error) {
	entries, err := fs.ReadDir(dir, ".")
	if err != nil {
		return Wanted{}, err
	}
	var renamed *Wanted
	last := ErrNoList
	for _, e := range lists(entries, name) {
		f, err := dir.Open(e)
		if err != nil {
			continue
		}
		text, err := io.ReadAll(io.LimitReader(f, maxList))
		f.Close()
		if err != nil {
			continue
		}
		w, err := Listed(name, e, text)
		if err != nil {
			last = err
			continue
		}
		if w.Signed == "" {
			w.Signed = Signature(dir, e)
		}
		if len(w.Lines) > 0 {
			return w, nil
		}
		if renamed == nil {
			renamed = &w
		}
	}
	if renamed != nil {
		return *renamed, nil
	}
	return Wanted{}, last
}

// lists returns the names of what looks like a list of checksums: those of the file
// itself first, then by the strength of their algorithm.
func lists(entries []fs.DirEntry, name string) []string {
	type found struct {
		name  string
		worth int
	}
	var out []found
	low := strings.ToLower(name)
	stem := strings.TrimSuffix(low, path.Ext(low))
	for _, e := range entries {
		n := strings.ToLower(e.Name())
		if e.IsDir() || n == low || isSignature(n) && !strings.HasSuffix(n, ".asc") {
			continue
		}
		rest, own := strings.CutPrefix(n, low)
		if !own {
			rest, own = strings.CutPrefix(n, stem)
		}
		if !own {
			rest = n
		}
		worth, isList := listName(rest)
		if !isList {
			continue
		}
		if own {
			worth += 100
		}
		out = append(out, found{e.Name(), worth})
	}
	slices.SortStableFunc(out, func(a, b found) int { return b.worth - a.worth })
	var names []string
	for _, f := range out {
		names = append(names, f.name)
	}
	return names
}

// listName reports whether a name, or what it has after the file's own, is that of a
// list of checksums, and what its algorithm is worth.
func listName(name string) (int, bool) {
	worth, isList := 0, false
	for _, word := range strings.FieldsFunc(name, func(c rune) bool { return strings.ContainsRune("._- ", c) }) {
		switch word {
		case "checksum", "checksums", "sum", "sums", "digest", "digests", "hash", "hashes", "release", "inrelease":
			worth, isList = max(worth, 3), true
			continue
		case "sha", "b", "sm": // pieces of something else
			continue
		}
		if a := sums.Named(word); a != "" {
			worth, isList = max(worth, sums.Worth(a)), true
		}
	}
	return worth, isList
}

// signatures are the endings of what signs a file beside it.
var signatures = []string{".asc", ".sig", ".gpg", ".sign", ".minisig", ".p7s", ".sigstore", ".bundle", ".pem"}

func isSignature(name string) bool { return slices.Contains(signatures, path.Ext(name)) }

// Signature returns how the signature beside a list is checked; it is empty when
// there is none.
func Signature(dir fs.FS, list string) string {
	for _, end := range signatures {
		f, err := dir.Open(list + end)
		if err != nil {
			continue
		}
		head, _ := io.ReadAll(io.LimitReader(f, 256))
		f.Close()
		name := list + end
		switch text := string(head); {
		case strings.HasPrefix(text, "untrusted comment:"), end == ".minisig":
			return "minisign -V -m " + list + " -x " + name + ", or signify, with its maker's public key"
		case strings.HasPrefix(text, "-----BEGIN SSH SIGNATURE"):
			return "ssh-keygen -Y verify, with its maker's public key and " + name
		case strings.HasPrefix(text, "-----BEGIN PGP"), len(head) > 0 && head[0]&0x80 != 0:
			return "gpg --verify " + name + " " + list
		}
		return "according to its publisher's " + name
	}
	return ""
}
