// Package evidence is what a probe found in one guest, signed for its bench, and how the
// evidence of several guests becomes one verdict.
package evidence

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"openbastion/internal/classroom/witness"
	"openbastion/internal/model/lab"
	"openbastion/internal/verify/claims"
)

// Schema names the JSON form.
const Schema = "openbastion.evidence/1"

// Evidence is what one guest told.
type Evidence struct {
	Schema  string          `json:"schema"`
	Lab     string          `json:"lab"`
	Bench   string          `json:"bench"` // empty: the lab is its only bench
	Guest   string          `json:"guest"`
	Print   string          `json:"print"`     // the fingerprint of the plan
	Asks    string          `json:"questions"` // the digest of the questions that were asked
	Program string          `json:"program"`   // the version that asked them
	Made    time.Time       `json:"made"`      // by the guest's clock
	System  string          `json:"system"`
	Facts   claims.Facts    `json:"facts"`
	Witness []byte          `json:"witness,omitempty"` // the key of the witness
	Reports [][]byte        `json:"reports"`           // what that signed
	Answers []claims.Answer `json:"answers"`
	Runs    []Run           `json:"runs,omitempty"` // of forged packets that it sent
}

// Signed is evidence as it is written: its very bytes, and who signed them.
type Signed struct {
	Schema    string          `json:"schema"`
	Evidence  json.RawMessage `json:"evidence"`
	Signature []byte          `json:"signature"`
}

// SignedSchema names the JSON form of what is written.
const SignedSchema = "openbastion.evidence-signed/1"

// signs is what a bench signs evidence as.
const signs = "openbastion evidence 1\n"

// The bounds of a file of evidence: bytes, and objects, lists and commas in it. That of a guest which
// asks of a thousand others has less than a quarter of each.
const (
	most      = 8 << 20
	mostParts = 400_000
)

// Sign writes evidence, signed by the key of its bench.
func (e Evidence) Sign(key ed25519.PrivateKey) ([]byte, error) {
	e.Schema = Schema
	data, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	return json.Marshal(Signed{SignedSchema, data, ed25519.Sign(key, append([]byte(signs), data...))})
}

// Errors of evidence.
var (
	ErrAltered = errors.New("it was altered, or belongs to another bench or lab: the signature is not its bench's")
	ErrReport  = errors.New("it contains a report that its test server did not sign")
)

// Read reads evidence and checks who signed it: the bench that it names, by its token. Nothing but the
// bench's name is decoded before that. What was signed is bounded too, as its bench may be hostile.
func Read(data []byte, tokenOf func(bench string) witness.Token) (e Evidence, err error) {
	if len(data) > most {
		return e, fmt.Errorf("it is larger than %d MiB", most>>20)
	}
	var s Signed
	if err := json.Unmarshal(bytes.TrimSpace(data), &s); err != nil {
		return e, fmt.Errorf("not valid evidence: %w", err)
	}
	if s.Schema != SignedSchema {
		return e, fmt.Errorf("its schema is %q, but that of evidence is %q", s.Schema, SignedSchema)
	}
	var of struct {
		Bench string `json:"bench"`
	}
	if err := json.Unmarshal(s.Evidence, &of); err != nil {
		return e, fmt.Errorf("not valid evidence: %w", err)
	}
	if err := checkBench(of.Bench); err != nil {
		return e, err
	}
	if !ed25519.Verify(
		tokenOf(of.Bench).Evidence().Public().(ed25519.PublicKey),
		append([]byte(signs), s.Evidence...),
		s.Signature,
	) {
		return e, ErrAltered
	}
	if n := bytes.Count(s.Evidence, []byte("{")) + bytes.Count(s.Evidence, []byte("[")) +
		bytes.Count(s.Evidence, []byte(",")); n > mostParts {
		return e, fmt.Errorf("it has %d parts, more than any probe writes", n)
	}
	if err := json.Unmarshal(s.Evidence, &e); err != nil {
		return e, fmt.Errorf("not valid evidence: %w", err)
	}
	if e.Schema != Schema {
		return e, fmt.Errorf("its schema is %q, but that of evidence is %q", e.Schema, Schema)
	}
	if e.Bench != of.Bench { // two keys that differ by case alone
		return e, ErrAltered
	}
	if err := lab.CheckName(e.Guest); err != nil && e.Guest != Outside {
		return e, fmt.Errorf("its guest: %w", err)
	}
	for _, r := range e.Reports {
		if _, err := witness.ReadReport(r, e.Witness); err != nil {
			return e, ErrReport
		}
	}
	return e, nil
}

// checkBench reports what is wrong with a bench's name, which becomes a file's name and a cell of a table.
func checkBench(name string) error {
	if name == "" {
		return nil
	}
	if err := lab.CheckName(name); err != nil {
		return fmt.Errorf("its bench: %w", err)
	}
	return nil
}

// Trust takes what a witness confirmed for what it is worth: with another key than the lab's the guest
// may have made it itself, and it counts no longer. known is empty where nobody says which witness is
// the lab's. The text says so; it is empty where the witness is the lab's, or confirmed nothing.
func (e *Evidence) Trust(known ed25519.PublicKey) string {
	if len(e.Reports) == 0 || len(known) > 0 && bytes.Equal(known, e.Witness) {
		return ""
	}
	code := witness.Code(ed25519.PublicKey(e.Witness))
	e.Reports = nil
	if len(known) == 0 {
		return "reports of an unknown test server (code " + code +
			"): they count as the guest's own word; --witness-key says which is the lab's"
	}
	return "its test server (code " + code + ") is not the lab's (code " + witness.Code(
		known,
	) + "): what it confirmed counts as the guest's own word"
}

// future is how far ahead a guest's clock may be.
const future = 24 * time.Hour

// Stale returns why evidence of a time does not count: it is older than wanted, or of the future; empty
// when it counts. since is 0 where any age will do.
func Stale(made, now time.Time, since time.Duration) string {
	switch age := now.Sub(made); {
	case age < -future:
		return "its time, " + made.Format(
			"2006-01-02 15:04",
		) + ", is in the future: set the guest's clock, and run the probe again"
	case since > 0 && age > since:
		return "it is older than wanted: " + made.Format("2006-01-02 15:04")
	}
	return ""
}
