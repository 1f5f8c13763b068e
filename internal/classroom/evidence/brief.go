package evidence

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base32"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"

	"openbastion/internal/classroom/witness"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// Brief is evidence so short that a square code on a text screen holds it: the verdicts alone,
// signed, without what shows them.
type Brief struct {
	Guest    string
	Bench    string
	Made     time.Time
	Verdicts []claims.Verdict // on the claims that are about the guest, in the plan's order
}

// briefMark begins a brief. Its letters are those of which a square code holds most.
const briefMark = "OB2."

// briefSigns is what a bench signs a brief as.
const briefSigns = "openbastion brief 1\n"

// Bounds of a brief, in bytes.
const (
	printSize    = 8
	outsideIndex = 0xffff
	mostBench    = 63
)

var letters = base32.StdEncoding.WithPadding(base32.NoPadding)

// About reports whether a claim is about a machine, or, of somebody outside, in front of it.
func About(p *plan.Plan, self string, r claims.Result) bool {
	if self == Outside {
		return r.Kind == claims.Inbound || r.Kind == claims.Published
	}
	if m := p.Machine(self); m != nil && r.Kind == claims.OneDHCP {
		for _, a := range m.Adapters {
			if a.Segment.Name == r.Segment {
				return true
			}
		}
	}
	return r.Guest == self && r.Kind != claims.Published || r.From == self
}

// printOf shortens what identifies a plan and its questions.
func printOf(print string) []byte {
	sum := sha256.Sum256([]byte(print))
	return sum[:printSize]
}

// Brief writes what is said of the guest's claims, signed by the key of its bench.
func (e Evidence) Brief(p *plan.Plan, doc verdict.Document, key ed25519.PrivateKey) string {
	index := outsideIndex
	for i, m := range p.Machines {
		if m.Name == e.Guest {
			index = i
		}
	}
	b := append([]byte{1}, printOf(e.Print+e.Asks)...)
	b = binary.BigEndian.AppendUint16(b, uint16(index))
	b = binary.BigEndian.AppendUint32(b, uint32(e.Made.Unix()))
	bench := e.Bench[:min(len(e.Bench), mostBench)]
	b = append(append(b, byte(len(bench))), bench...)
	var bits []byte
	n := 0
	for _, r := range doc.Claims {
		if !About(p, e.Guest, r) {
			continue
		}
		if n%4 == 0 {
			bits = append(bits, 0)
		}
		bits[n/4] |= codes[r.Verdict] << (2 * (n % 4))
		n++
	}
	b = append(binary.BigEndian.AppendUint16(b, uint16(n)), bits...)
	b = append(b, ed25519.Sign(key, append([]byte(briefSigns), b...))...)
	return briefMark + letters.EncodeToString(b)
}

// codes are verdicts in two bits; 0 is of no claim.
var codes = map[claims.Verdict]byte{claims.Holds: 1, claims.Broken: 2, claims.Unknown: 3}

// IsBrief reports whether it is a brief by how it begins.
func IsBrief(data []byte) bool { return strings.HasPrefix(strings.TrimSpace(string(data)), briefMark) }

// ReadBrief reads a brief that was held against a plan, and checks who signed it.
func ReadBrief(data []byte, p *plan.Plan, tokenOf func(bench string) witness.Token) (b Brief, err error) {
	text := strings.TrimPrefix(strings.Join(strings.Fields(strings.ToUpper(string(data))), ""), briefMark)
	raw, err := letters.DecodeString(text)
	const head = 1 + printSize + 2 + 4 + 1
	if err != nil || len(raw) < head+2+ed25519.SignatureSize || raw[0] != 1 {
		return b, errors.New("not a valid brief, or incomplete")
	}
	signed, signature := raw[:len(raw)-ed25519.SignatureSize], raw[len(raw)-ed25519.SignatureSize:]
	length := int(raw[head-1])
	if len(signed) < head+length+2 {
		return b, errors.New("not a valid brief, or incomplete")
	}
	b.Bench = string(raw[head : head+length])
	if err := checkBench(b.Bench); err != nil {
		return b, err
	}
	if !ed25519.Verify(
		tokenOf(b.Bench).Evidence().Public().(ed25519.PublicKey),
		append([]byte(briefSigns), signed...),
		signature,
	) {
		return b, ErrAltered
	}
	if string(raw[1:1+printSize]) != string(printOf(p.Fingerprint()+claims.Digest(p))) {
		return b, errors.New(
			"it is for another plan (the lab file has changed since), or from a program version with other questions",
		)
	}
	switch index := int(binary.BigEndian.Uint16(raw[1+printSize:])); {
	case index == outsideIndex:
		b.Guest = Outside
	case index < len(p.Machines):
		b.Guest = p.Machines[index].Name
	default:
		return b, fmt.Errorf("the lab has no machine number %d", index)
	}
	b.Made = time.Unix(int64(binary.BigEndian.Uint32(raw[3+printSize:])), 0).UTC()
	rest := signed[head+length:]
	n := int(binary.BigEndian.Uint16(rest))
	if len(rest) != 2+(n+3)/4 {
		return b, errors.New("not a valid brief, or incomplete")
	}
	for i := range n {
		code := rest[2+i/4] >> (2 * (i % 4)) & 3
		for v, c := range codes {
			if c == code {
				b.Verdicts = append(b.Verdicts, v)
			}
		}
	}
	return b, nil
}

// JudgeWith is Judge, with what briefs report besides the evidence; a guest that sent one counts
// among those that reported.
func (j *Joined) JudgeWith(p *plan.Plan, briefs []Brief) verdict.Document {
	out := j.outcome(p)
	newest := map[string]time.Time{}
	for _, b := range briefs {
		if b.Made.After(newest[b.Guest]) {
			newest[b.Guest] = b.Made
		}
	}
	for _, b := range briefs {
		if b.Made.Before(j.MadeBy[b.Guest]) || b.Made.Before(newest[b.Guest]) {
			j.Remarks = append(
				j.Remarks,
				Remark{"a brief", b.Guest, "it is older than what else was received from " + b.Guest, true},
			)
			continue
		}
		b.Add(p, &out)
		j.Guests = append(j.Guests, b.Guest)
	}
	return verdict.Finish(p, out)
}

// Add takes what a brief reports into an outcome: of claims of which nothing else is known its
// own word counts, and what is broken for it stays so.
func (b Brief) Add(p *plan.Plan, doc *claims.Outcome) {
	n := 0
	for i := range doc.Claims {
		r := &doc.Claims[i]
		if !About(p, b.Guest, *r) || n >= len(b.Verdicts) {
			continue
		}
		said := b.Verdicts[n]
		n++
		if said == claims.Broken && r.Verdict != claims.Broken || said == claims.Holds && r.Verdict == claims.Unknown {
			r.Verdict, r.Observed = said, fmt.Sprintf("%s reports it in its brief; only its evidence shows it", b.Guest)
		}
	}
	whole := claims.Holds
	for _, r := range doc.Claims {
		whole = whole.And(r.Verdict)
	}
	if doc.Verdict != claims.Broken || whole == claims.Broken {
		doc.Verdict = whole
	}
}
