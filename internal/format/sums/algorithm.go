package sums

import (
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha3"
	"crypto/sha512"
	"errors"
	"fmt"
	"hash"
	"strings"
	"sync"

	"golang.org/x/crypto/blake2b"
	"golang.org/x/crypto/blake2s"
)

// algorithm is a digest by its name in lists.
type algorithm struct {
	digits int              // hexadecimal digits
	worth  int              // more is stronger; 0 proves nothing
	make   func() hash.Hash // nil where it is only known by name
}

var algorithms = sync.OnceValue(func() map[string]algorithm {
	return map[string]algorithm{
		"md5":         {32, 0, nil},
		"rmd160":      {40, 0, nil},
		"sm3":         {64, 0, nil},
		"blake3":      {64, 0, nil},
		"sha1":        {40, 1, sha1.New}, // manifests of old packages have nothing better
		"sha224":      {56, 2, sha256.New224},
		"sha256":      {64, 4, sha256.New},
		"sha384":      {96, 5, sha512.New384},
		"sha512":      {128, 6, sha512.New},
		"sha512-224":  {56, 2, sha512.New512_224},
		"sha512-256":  {64, 4, sha512.New512_256},
		"sha3-224":    {56, 2, func() hash.Hash { return sha3.New224() }},
		"sha3-256":    {64, 4, func() hash.Hash { return sha3.New256() }},
		"sha3-384":    {96, 5, func() hash.Hash { return sha3.New384() }},
		"sha3-512":    {128, 6, func() hash.Hash { return sha3.New512() }},
		"blake2b":     {128, 6, unkeyed(blake2b.New512)},
		"blake2b-256": {64, 4, unkeyed(blake2b.New256)},
		"blake2b-384": {96, 5, unkeyed(blake2b.New384)},
		"blake2s":     {64, 4, unkeyed(blake2s.New256)},
	}
})

// unkeyed starts a keyed digest without a key, which cannot fail.
func unkeyed(start func([]byte) (hash.Hash, error)) func() hash.Hash {
	return func() hash.Hash {
		h, err := start(nil)
		if err != nil {
			panic(err)
		}
		return h
	}
}

// bare tells the algorithm of a digest that stands without a name.
var bare = sync.OnceValue(func() map[int]string {
	return map[int]string{32: "md5", 40: "sha1", 56: "sha224", 64: "sha256", 96: "sha384", 128: "sha512"}
})

// Named returns an algorithm however it is written: SHA-256, SHA2-256, sha256sum,
// SHA512/256, BLAKE2b-512. It is empty for what is none.
func Named(text string) string {
	low := strings.ToLower(strings.TrimSpace(text))
	if low != "blake2s" {
		low = strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(low, "s"), "sum"), "_")
	}
	low = strings.NewReplacer("_", "-", "/", "-", " ", "-").Replace(low)
	low = strings.Replace(strings.Replace(low, "sha-", "sha", 1), "sha2-", "sha", 1)
	low = strings.Replace(low, "blake2-b", "blake2b", 1)
	switch low {
	case "b2", "blake2", "blake2b-512", "blake2b512":
		low = "blake2b"
	case "blake2s-256", "blake2s256":
		low = "blake2s"
	case "b3":
		low = "blake3"
	case "ripemd160", "ripemd-160", "rmd-160":
		low = "rmd160"
	case "md-5":
		low = "md5"
	case "sha":
		low = "sha1"
	case "sha3256", "sha3384", "sha3512", "sha3224":
		low = "sha3-" + low[4:]
	}
	if _, ok := algorithms()[low]; ok {
		return low
	}
	return ""
}

// Title returns an algorithm as the standards write it.
func Title(name string) string {
	switch {
	case strings.HasPrefix(name, "blake"):
		return "BLAKE" + name[len("blake"):]
	case strings.HasPrefix(name, "sha3-"), name == "md5", name == "sm3":
		return strings.ToUpper(name)
	case name == "rmd160":
		return "RIPEMD-160"
	}
	return "SHA-" + strings.Replace(strings.TrimPrefix(name, "sha"), "-", "/", 1)
}

// ErrWeak says that an algorithm proves nothing about a file.
var ErrWeak = errors.New("is not trusted here")

// New starts a digest. One that proves nothing (MD5) is refused, and so is one
// that is known by name alone.
func New(name string) (hash.Hash, error) {
	a := algorithms()[name]
	switch {
	case a.make != nil:
		return a.make(), nil
	case name == "blake3" || name == "sm3":
		return nil, fmt.Errorf("sums: %s is not computed here; look for a list with SHA-256 or SHA-512", Title(name))
	}
	return nil, fmt.Errorf("sums: %s %w; look for a list with SHA-256 or SHA-512", Title(name), ErrWeak)
}

// Computed says whether New gives an algorithm.
func Computed(name string) bool { return algorithms()[name].make != nil }

// Worth orders algorithms: more is stronger, 0 proves nothing.
func Worth(name string) int { return algorithms()[name].worth }

// Twin returns the other algorithm that a digest without a name may well be: lists
// of BLAKE2b look like lists of SHA-512.
func Twin(name string) string {
	if name == "sha512" {
		return "blake2b"
	}
	return ""
}
