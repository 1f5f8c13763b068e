// Package carried is a lab as it is carried into one of its guests: the lab file, which guest
// it is for, and how its bench asks the witness. It fits into a line that is pasted.
package bundle

import (
	"bytes"
	"compress/flate"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"net/netip"
	"strings"

	"openbastion/internal/classroom/witness"
)

// Schema names the JSON form.
const Schema = "openbastion.carried/1"

// Plan is what is carried.
type Plan struct {
	Schema   string            `json:"schema"`
	Lab      string            `json:"lab"`
	Guest    string            `json:"guest"`
	Bench    string            `json:"bench"`    // empty: the lab is its only bench
	File     string            `json:"file"`     // what the lab file is called
	Text     string            `json:"text"`     // of the lab file
	Profiles map[string]string `json:"profiles"` // texts of profiles that the lab names by their files
	Print    string            `json:"print"`    // the plan's fingerprint
	Token    string            `json:"token"`    // of the bench
	Witness  netip.Addr        `json:"witness,omitzero"`
	Name     string            `json:"name,omitempty"` // that leads to the witness
	Key      []byte            `json:"key,omitempty"`  // of the witness; empty: the first that has the token is taken
}

// The bounds of what is carried.
const (
	most    = 16 << 20 // as JSON
	mark    = "ob1."   // a line begins so
	sumSize = 8        // hexadecimal digits of the checksum at its end
)

// Line writes the plan as one line of letters, digits, hyphens, underscores and dots.
func (p Plan) Line() (string, error) {
	p.Schema = Schema
	data, err := json.Marshal(p)
	if err != nil {
		return "", err
	}
	return Pack(data)
}

// Pack makes a line of data: letters, digits, hyphens, underscores and dots.
func Pack(data []byte) (string, error) {
	var packed bytes.Buffer
	w, err := flate.NewWriter(&packed, flate.BestCompression)
	if err == nil {
		_, err = w.Write(data)
	}
	if err == nil {
		err = w.Close()
	}
	text := mark + base64.RawURLEncoding.EncodeToString(packed.Bytes())
	return fmt.Sprintf("%s.%08x", text, crc32.ChecksumIEEE([]byte(text))), err
}

// Read reads a plan: a line, also one that was broken into several, or JSON.
func Read(data []byte) (p Plan, err error) {
	if data, err = Unpack(data); err != nil {
		return p, err
	}
	if err := json.Unmarshal(data, &p); err != nil {
		return p, fmt.Errorf("not a valid bundle plan: %w", err)
	}
	switch {
	case p.Schema != Schema:
		return p, fmt.Errorf("its schema is %q, but that of a bundle plan is %q", p.Schema, Schema)
	case len(p.Key) != 0 && len(p.Key) != ed25519.PublicKeySize:
		return p, errors.New("its witness key is not valid")
	}
	if _, err := witness.ParseToken(p.Token); err != nil {
		return p, fmt.Errorf("its token: %w", err)
	}
	return p, nil
}

// Unpack returns back what Pack made a line of, also when it was broken into several; what is
// no such line is given back as it is.
func Unpack(data []byte) ([]byte, error) {
	data = bytes.TrimSpace(data)
	if !bytes.HasPrefix(data, []byte(mark)) {
		return data, nil
	}
	return unpack(string(bytes.Join(bytes.Fields(data), nil)))
}

func unpack(line string) ([]byte, error) {
	at := len(line) - sumSize - 1
	if at < len(mark) || line[at] != '.' {
		return nil, errors.New("the line is incomplete: its end is missing")
	}
	if fmt.Sprintf("%08x", crc32.ChecksumIEEE([]byte(line[:at]))) != strings.ToLower(line[at+1:]) {
		return nil, errors.New("the line was altered: its checksum does not match")
	}
	packed, err := base64.RawURLEncoding.DecodeString(line[len(mark):at])
	if err != nil {
		return nil, fmt.Errorf("the line: %w", err)
	}
	out, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(packed)), most+1))
	if err == nil && len(out) > most {
		err = errors.New("it is too large")
	}
	return out, err
}
