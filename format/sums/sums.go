// Package sums reads checksum lists in the forms that are usual: coreutils'
// plain form ("HEX  NAME", "HEX *NAME"), its tagged form ("SHA256 (NAME) =
// HEX", which the manifests of OVF packages share), and a digest alone.
package sums

import (
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"fmt"
	"hash"
	"path"
	"strings"
)

// Sum is one line of a list.
type Sum struct {
	Algorithm string // sha1 | sha256 | sha512, or one that New refuses
	Digest    string // hexadecimal, lower case
	Name      string // the file, with its folders; empty when the digest stands alone
	Line      int
}

// maxLines bounds what is read of a list.
const maxLines = 100_000

// byLength tells the algorithm of an untagged digest.
var byLength = map[int]string{32: "md5", 40: "sha1", 64: "sha256", 96: "sha384", 128: "sha512"}

// Read gives the sums of a list. Lines that are none are left out: lists come
// signed, commented and with headings. A line that looks like a sum with digits
// missing is an error.
func Read(text string) ([]Sum, error) {
	var out []Sum
	for n, line := range strings.Split(strings.TrimPrefix(text, "\ufeff"), "\n") {
		if n > maxLines {
			return nil, fmt.Errorf("sums: a list of more than %d lines", maxLines)
		}
		line = strings.TrimSpace(line)
		escaped := strings.HasPrefix(line, `\`)
		line = strings.TrimPrefix(line, `\`)
		s := Sum{Line: n + 1}
		if open := strings.Index(line, "("); open > 0 && strings.Contains(line, ")") && strings.Contains(line, "=") {
			shut := strings.LastIndex(line, ")")
			s.Algorithm = strings.ToLower(strings.ReplaceAll(strings.TrimSpace(line[:open]), "-", ""))
			value, isSum := strings.CutPrefix(strings.TrimSpace(line[shut+1:]), "=")
			if shut < open || !isSum || known(s.Algorithm) == 0 {
				continue
			}
			s.Name, s.Digest = line[open+1:shut], strings.ToLower(strings.TrimSpace(value))
			if len(s.Digest) != known(s.Algorithm) || !isHex(s.Digest) {
				return nil, fmt.Errorf("sums: line %d: %s has %d hexadecimal digits, and this one has %d characters", s.Line, s.Algorithm,
					known(s.Algorithm), len(s.Digest))
			}
		} else {
			digest, name, _ := strings.Cut(line, " ")
			s.Digest = strings.ToLower(digest)
			if !isHex(s.Digest) {
				continue
			}
			s.Algorithm = byLength[len(digest)]
			s.Name = strings.TrimPrefix(strings.TrimPrefix(strings.TrimLeft(name, " \t"), "*"), "./")
			if s.Algorithm == "" {
				if len(digest) > 24 {
					return nil, fmt.Errorf("sums: line %d: a digest of %d digits; SHA-256 has 64 and SHA-512 has 128: is it cut short?", s.Line,
						len(digest))
				}
				continue
			}
		}
		if escaped {
			s.Name = strings.NewReplacer(`\n`, "\n", `\r`, "\r", `\\`, `\`).Replace(s.Name)
		}
		out = append(out, s)
	}
	return out, nil
}

func isHex(s string) bool {
	return s != "" && strings.Trim(s, "0123456789abcdef") == ""
}

// known gives how many hexadecimal digits an algorithm has; 0 when it is none.
func known(algorithm string) int {
	for n, a := range byLength {
		if a == algorithm {
			return n
		}
	}
	return 0
}

// New starts a digest. MD5 is refused: it proves nothing, and so are those that
// lists of images do not use.
func New(algorithm string) (hash.Hash, error) {
	switch algorithm {
	case "sha256":
		return sha256.New(), nil
	case "sha512":
		return sha512.New(), nil
	case "sha1": // manifests of old packages have nothing better
		return sha1.New(), nil
	}
	return nil, fmt.Errorf("sums: %s is not trusted here; look for a list with SHA-256 or SHA-512", algorithm)
}

// Find gives the sum for a file by its base name: the strongest there is, an
// exact name before one in a folder. A list of one digest alone is for any file.
func Find(list []Sum, name string) (Sum, bool) {
	var best Sum
	rank := func(s Sum) int {
		r := map[string]int{"sha512": 30, "sha256": 20, "sha1": 10}[s.Algorithm]
		if s.Name == name {
			r++
		}
		return r
	}
	found := false
	for _, s := range list {
		if s.Name != name && path.Base(strings.ReplaceAll(s.Name, `\`, "/")) != name && (s.Name != "" || len(list) != 1) {
			continue
		}
		if !found || rank(s) > rank(best) {
			best, found = s, true
		}
	}
	return best, found
}
