package witness

import (
	"crypto/ed25519"
	"crypto/hkdf"
	"crypto/sha256"
	"encoding/base32"
	"fmt"
	"io"
	"strings"
)

// tokenSize is how many bytes a token has.
const tokenSize = 16

// checkSize is how many bytes of a digest stand behind a token as text, so that one that was
// copied wrongly is told.
const checkSize = 2

// Token is a secret of a lab: who has it may ask the witness. That of a bench is derived from
// that of its lab, and neither another bench's nor the lab's follows from it.
type Token [tokenSize]byte

// letters are those that are not taken for one another: no i, l, o and u.
var letters = base32.NewEncoding("0123456789abcdefghjkmnpqrstvwxyz").WithPadding(base32.NoPadding)

// NewToken takes a token from a source of randomness.
func NewToken(random io.Reader) (t Token, err error) {
	_, err = io.ReadFull(random, t[:])
	return t, err
}

// String writes the token in groups of letters and digits, with a check at its end.
func (t Token) String() string {
	sum := sha256.Sum256(t[:])
	return grouped(letters.EncodeToString(append(t[:], sum[:checkSize]...)))
}

// ParseToken reads what String wrote, also in capitals and without its hyphens.
func ParseToken(text string) (t Token, err error) {
	plain := strings.ToLower(strings.NewReplacer("-", "", " ", "").Replace(text))
	data, err := letters.DecodeString(plain)
	if err != nil || len(data) != tokenSize+checkSize {
		return t, fmt.Errorf("not a valid token: %d letters and digits, without i, l, o and u",
			letters.EncodedLen(tokenSize+checkSize))
	}
	copy(t[:], data)
	if sum := sha256.Sum256(t[:]); string(sum[:checkSize]) != string(data[tokenSize:]) {
		return Token{}, fmt.Errorf("the token was altered: its check digits do not match")
	}
	return t, nil
}

// Bench returns the token of a bench.
func (t Token) Bench(name string) (out Token) {
	copy(out[:], t.derive("bench "+name, tokenSize))
	return out
}

// asking returns the key by which a bench's questions are authenticated.
func (t Token) asking() []byte { return t.derive("asking", sha256.Size) }

// Evidence returns the key by which a bench signs what it saw.
func (t Token) Evidence() ed25519.PrivateKey {
	return ed25519.NewKeyFromSeed(t.derive("evidence", ed25519.SeedSize))
}

func (t Token) derive(what string, size int) []byte {
	key, err := hkdf.Key(sha256.New, t[:], nil, "openbastion witness 1 "+what, size)
	if err != nil {
		panic(err) // the size is one of this file's
	}
	return key
}

// codeSize is how many bytes of a digest a short code shows: for two keys to have the same
// by chance takes a million of them.
const codeSize = 5

// Code is the short code of a witness's key, for people to compare.
func Code(key ed25519.PublicKey) string {
	sum := sha256.Sum256(key)
	return grouped(letters.EncodeToString(sum[:codeSize]))
}

func grouped(text string) string {
	var out strings.Builder
	for i, c := range text {
		if i > 0 && i%4 == 0 {
			out.WriteByte('-')
		}
		out.WriteRune(c)
	}
	return out.String()
}

// Signing returns a witness's key, of a token that is the witness's alone.
func (t Token) Signing() ed25519.PrivateKey {
	return ed25519.NewKeyFromSeed(t.derive("signing", ed25519.SeedSize))
}

// KeyText writes a witness's public key, whole, in groups of letters and digits.
func KeyText(key ed25519.PublicKey) string { return grouped(letters.EncodeToString(key)) }

// ParseKey reads what KeyText wrote, also in capitals and without its hyphens.
func ParseKey(text string) (ed25519.PublicKey, error) {
	plain := strings.ToLower(strings.NewReplacer("-", "", " ", "").Replace(text))
	data, err := letters.DecodeString(plain)
	if err != nil || len(data) != ed25519.PublicKeySize {
		return nil, fmt.Errorf("not a test server's key: %d letters and digits, as \"bastion witness\" shows it",
			letters.EncodedLen(ed25519.PublicKeySize))
	}
	return data, nil
}
