package image

import (
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"slices"
	"strings"

	"openbastion/format/sums"
)

// Verdict is what a digest came to.
type Verdict struct {
	File      string `json:"file"`
	Algorithm string `json:"algorithm"`
	Want      string `json:"want"`
	Saw       string `json:"saw"`
	From      string `json:"from"` // where the digest was written: a list with its line, or the call
	Holds     bool   `json:"holds"`
}

// All gives a file as one stream.
func All(file io.ReaderAt, size int64) io.Reader { return io.NewSectionReader(file, 0, size) }

// Verify takes the digests of a file, all in one reading, and holds them
// against what is wanted.
func Verify(name string, r io.Reader, want []Wanted) ([]Verdict, error) {
	var hashes []hash.Hash
	var algorithms []string
	for _, w := range want {
		if slices.Contains(algorithms, w.Algorithm) {
			continue
		}
		h, err := sums.New(w.Algorithm)
		if err != nil {
			return nil, err
		}
		hashes, algorithms = append(hashes, h), append(algorithms, w.Algorithm)
	}
	if err := hashAll(r, hashes...); err != nil {
		return nil, err
	}
	var out []Verdict
	for _, w := range want {
		saw := hex.EncodeToString(hashes[slices.Index(algorithms, w.Algorithm)].Sum(nil))
		out = append(out, Verdict{name, w.Algorithm, w.Digest, saw, w.From, saw == w.Digest})
	}
	return out, nil
}

// Wanted is a digest that a file should have.
type Wanted struct{ Algorithm, Digest, From string }

// Typed reads a digest that a person typed or pasted: spaces, colons and case
// do not matter.
func Typed(algorithm, text string) (Wanted, error) {
	digest := strings.ToLower(strings.NewReplacer(" ", "", ":", "", "\n", "", "\t", "").Replace(text))
	digest = strings.TrimPrefix(digest, algorithm)
	h, err := sums.New(algorithm)
	if err != nil {
		return Wanted{}, err
	}
	if _, err := hex.DecodeString(digest); err != nil || len(digest) != 2*h.Size() {
		return Wanted{}, fmt.Errorf("a %s digest has %d hexadecimal digits, and this one has %d characters", algorithm, 2*h.Size(), len(digest))
	}
	return Wanted{algorithm, digest, "the call"}, nil
}

// Listed finds a file's digest in a list.
func Listed(name, from, text string) (Wanted, error) {
	list, err := sums.Read(text)
	if err != nil {
		return Wanted{}, fmt.Errorf("%s: %s", from, plainly(err))
	}
	s, ok := sums.Find(list, name)
	if !ok {
		return Wanted{}, fmt.Errorf("%s has no line for %s (it has %d sums)", from, name, len(list))
	}
	return Wanted{s.Algorithm, s.Digest, fmt.Sprintf("%s, line %d", from, s.Line)}, nil
}

// ErrNoList says that nothing beside a file lists its digest.
var ErrNoList = errors.New("no list of checksums lies beside it")

// maxList bounds a list of checksums, in bytes.
const maxList = 8 << 20

// Beside looks for a list of checksums beside a file: one made for it, or the
// folder's.
func Beside(dir fs.FS, name string) (Wanted, error) {
	list, err := fs.ReadDir(dir, ".")
	if err != nil {
		return Wanted{}, err
	}
	last := ErrNoList
	for _, own := range []bool{true, false} {
		for _, e := range list {
			low, isOwn := strings.ToLower(e.Name()), false
			if rest, ok := strings.CutPrefix(low, strings.ToLower(name)+"."); ok {
				isOwn = rest == "sha256" || rest == "sha512" || rest == "sha256sum" || rest == "sha512sum" || rest == "sha256.txt" ||
					rest == "sha512.txt"
			}
			sign := strings.NewReplacer("-", "", "_", "", ".txt", "").Replace(low)
			if isOwn != own || !isOwn && !slices.Contains([]string{"sha256sums", "sha512sums", "sha256sum", "sha512sum", "sha256", "sha512",
				"checksums", "checksum", "sums"}, sign) {
				continue
			}
			f, err := dir.Open(e.Name())
			if err != nil {
				continue
			}
			text, err := io.ReadAll(io.LimitReader(f, maxList))
			f.Close()
			if err != nil {
				continue
			}
			w, err := Listed(name, e.Name(), string(text))
			if err == nil {
				return w, nil
			}
			last = err
		}
	}
	return Wanted{}, last
}
