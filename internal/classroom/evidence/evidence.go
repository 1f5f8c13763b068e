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

// most bounds a file of evidence.
const most = 64 << 20

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

// Read reads evidence and checks who signed it: the bench that it names, by its token.
func Read(data []byte, tokenOf func(bench string) witness.Token) (e Evidence, err error) {
	if len(data) > most {
		return e, errors.New("it is too large")
	}
	var s Signed
	if err := json.Unmarshal(bytes.TrimSpace(data), &s); err != nil {
		return e, fmt.Errorf("not valid evidence: %w", err)
	}
	if s.Schema != SignedSchema {
		return e, fmt.Errorf("its schema is %q, but that of evidence is %q", s.Schema, SignedSchema)
	}
	if err := json.Unmarshal(s.Evidence, &e); err != nil {
		return e, fmt.Errorf("not valid evidence: %w", err)
	}
	if e.Schema != Schema {
		return e, fmt.Errorf("its schema is %q, but that of evidence is %q", e.Schema, Schema)
	}
	if !ed25519.Verify(
		tokenOf(e.Bench).Evidence().Public().(ed25519.PublicKey),
		append([]byte(signs), s.Evidence...),
		s.Signature,
	) {
		return e, ErrAltered
	}
	for _, r := range e.Reports {
		if _, err := witness.ReadReport(r, e.Witness); err != nil {
			return e, ErrReport
		}
	}
	return e, nil
}
