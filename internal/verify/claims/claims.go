// Package claims says what must hold in a lab and judges the evidence for it.
// The list of claims follows from the plan alone and is the same on every
// stage: the rehearsal, the kernel's namespaces, virtual machines, the field.
// A [Stage] answers questions; what it could not observe is unknown, never
// holds. Judging is apart from asking, and monotone: a proved breakage stays
// broken whatever else is missing.
package claims

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"

	"openbastion/internal/model/plan"
	"openbastion/internal/verify/reachability"
)

// Verdict is what became of a claim.
type Verdict string

// The verdicts.
const (
	Holds   Verdict = "holds"
	Broken  Verdict = "broken"
	Unknown Verdict = "unknown"
)

// And puts two verdicts together: broken when one is, else unknown when one is not known to
// hold, else it holds.
func (v Verdict) And(o Verdict) Verdict {
	switch {
	case v == Broken || o == Broken:
		return Broken
	case v != Holds || o != Holds:
		return Unknown
	}
	return Holds
}

// Kind is the kind of a claim.
type Kind string

// The kinds.
const (
	DHCP         Kind = "dhcp"
	OneDHCP      Kind = "one-dhcp"
	Gateway      Kind = "gateway"
	DNS          Kind = "dns"
	Outside      Kind = "outside"
	FirstHop     Kind = "first-hop"
	FullSize     Kind = "full-size"
	NoBypass     Kind = "no-bypass"
	Blocked      Kind = "blocked"
	Inbound      Kind = "inbound"
	Published    Kind = "published"
	Segments     Kind = "segments"
	Expect       Kind = "expect"
	Behind       Kind = "behind"
	Host         Kind = "host"
	Separated    Kind = "separated"
	NoDuplicates Kind = "no-duplicates"
)

// Kinds are all kinds.
var Kinds = []Kind{
	DHCP,
	OneDHCP,
	Gateway,
	DNS,
	Outside,
	FirstHop,
	FullSize,
	NoBypass,
	Blocked,
	Inbound,
	Published,
	Segments,
	Expect,
	Behind,
	Separated,
	NoDuplicates,
	Host,
}

// Title returns what a claim of the kind says, in a few words.
func (k Kind) Title() string {
	return map[Kind]string{
		DHCP:         "the planned address, gateway and DNS servers by DHCP",
		OneDHCP:      "exactly one DHCP server, no rogue router advertisements",
		Gateway:      "the default gateway is the appliance",
		DNS:          "names resolve through the planned server",
		Outside:      "reaches outside, and arrives from the appliance's WAN address",
		FirstHop:     "the first hop is the appliance",
		FullSize:     "packets of the path's full size pass both ways",
		NoBypass:     "with the WAN unplugged nothing gets out",
		Blocked:      "must not reach outside, and does not",
		Behind:       "attached behind an appliance",
		Separated:    "the appliance's sides are separate broadcast domains",
		NoDuplicates: "no IP or MAC address twice",
		Host:         "the host's own services do not answer guests",
		Inbound:      "from outside only what is published answers",
		Published:    "a port forward works",
		Segments:     "between segments only what the rules allow",
		Expect:       "a sentence of the lab file",
	}[k]
}

// Result is a claim with its verdict. Its subject is a guest, a segment, an
// appliance, or two of them: from one to the other.
type Result struct {
	ID        string     `json:"id"`
	Guest     string     `json:"guest,omitempty"`
	Segment   string     `json:"segment,omitempty"`
	Appliance string     `json:"appliance,omitempty"`
	Port      string     `json:"port,omitempty"` // of the appliance, where it has several of its role
	From      string     `json:"from,omitempty"`
	To        string     `json:"to,omitempty"`
	Service   string     `json:"service,omitempty"`  // of what is published
	Sentence  string     `json:"sentence,omitempty"` // of an expectation
	Kind      Kind       `json:"kind"`
	Verdict   Verdict    `json:"verdict"`
	Reason    *Reason    `json:"reason,omitempty"` // why it is broken; Saw and Remedy are made from it
	Observed  string     `json:"observed"`
	Evidence  []Evidence `json:"evidence"`
	Escapes   []Way      `json:"escapes,omitempty"`
	Remedy    string     `json:"remedy,omitempty"`  // what to do about it, when broken
	Follows   string     `json:"follows,omitempty"` // the broken claim that explains this one

	around   bool   // it went out, and not through the appliance
	disagree string // proof and stage say different things
}

// Names returns the machines and segments that the claim is about.
func (r Result) Names() []string {
	var out []string
	for _, n := range []string{r.Guest, r.Segment, r.Appliance, r.From, r.To} {
		if n != "" {
			out = append(out, n)
		}
	}
	return out
}

// Subject returns what the claim is about.
func (r Result) Subject() string {
	switch {
	case r.Sentence != "":
		return r.Sentence
	case r.Service != "":
		return r.Guest + " " + r.Service
	case r.Port != "":
		return r.Appliance + " " + r.Port
	case r.From != "":
		return r.From + " to " + cmp.Or(r.To, "other segments")
	}
	return r.Guest + r.Segment + r.Appliance
}

// Outcome is what became of the claims of a plan. It is not yet a verdict: what the layout itself
// has wrong belongs to that too, see package verdict.
type Outcome struct {
	Stage   string
	Verdict Verdict
	Claims  []Result
	Proof   Proof

	Observed []Observed // of machines that something else runs
}

// FieldStage names the stage of labs that something else runs.
const FieldStage = "field"

// Rehearsed names the stage that acts what the file says, and nothing else.
const Rehearsed = "rehearsal"

// Proof is what the proof behind a verdict says and takes for granted.
type Proof struct {
	Verdict  Verdict  `json:"verdict"`
	Covers   string   `json:"covered"`
	Assumes  []string `json:"assumes"`
	Disagree []string `json:"disagree,omitempty"` // where proof and stage say different things, see verdict.Document.Differs
}

// claim is a claim with the parts that decide it.
type claim struct {
	Result
	parts  []part
	guests []string // whose other claims may explain this one
	lone   string   // the segment whose lease servers may explain it
	crowd  bool     // a sentence that speaks of whoever is somewhere
}

// part is questions that are judged together. With any set, judge is called
// also when some answers are missing, which are nil then, and says what is
// still missing.
type part struct {
	asks  []ask
	judge func(r *Result, got []Got)
	any   func(r *Result, got []Got) (missing bool)
}

// ask is a question before it has an identifier.
type ask struct {
	when Condition
	what Asking
}

func asking(list ...Asking) []ask {
	var out []ask
	for _, a := range list {
		out = append(out, ask{Running, a})
	}
	return out
}

// GuestKinds are the claims about guests, in the order in which a matrix shows
// them.
var GuestKinds = []Kind{Behind, DHCP, Gateway, DNS, Outside, FirstHop, Blocked, NoBypass}

// Questions returns what the claims of a plan need to know, each thing once.
func Questions(p *plan.Plan, facts Facts) []Question { return prepare(p, facts).questions }

// prepared is the list of claims of a plan with what they ask.
type prepared struct {
	model     *reachability.Model
	facts     Facts
	claims    []claim
	questions []Question
	ids       [][][]string // by claim and part
}

func prepare(p *plan.Plan, facts Facts) *prepared {
	c := &prepared{model: reachability.New(p, facts.Witness.Address), facts: facts}
	c.model.Each = facts.Name == FieldStage
	c.claims = list(c.model, p, facts)
	c.questions, c.ids = questions(c.claims)
	return c
}

// Asked returns in which conditions a plan's claims have something to ask, in order.
func Asked(p *plan.Plan, facts Facts) (out []Condition) {
	questions := prepare(p, facts).questions
	for _, when := range Conditions {
		if slices.ContainsFunc(questions, func(q Question) bool { return q.When == when }) {
			out = append(out, when)
		}
	}
	return out
}

// questions returns each thing that is asked once, and the identifiers of what each part of each
// claim asks. An identifier names the claim that asks first and what is asked, by a digest: it does
// not depend on what else is asked.
func questions(claims []claim) (out []Question, ids [][][]string) {
	known := make(map[string]string, 2*len(claims))
	out, ids = make([]Question, 0, 2*len(claims)), make([][][]string, 0, len(claims))
	for i := range claims {
		parts := make([][]string, 0, len(claims[i].parts))
		for _, p := range claims[i].parts {
			of := make([]string, 0, len(p.asks))
			for _, a := range p.asks {
				data, _ := json.Marshal(a.what) // plain structs: it cannot fail
				key := string(a.when) + string(a.what.kind()) + string(data)
				if known[key] == "" {
					known[key] = claims[i].ID + "/" + short(key)
					out = append(out, Question{known[key], a.when, a.what})
				}
				of = append(of, known[key])
			}
			parts = append(parts, of)
		}
		ids = append(ids, parts)
	}
	return out, ids
}

// short returns a digest of 10 hexadecimal digits: two questions of one claim with the same one are
// not to be expected.
func short(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:5])
}

// Digest returns what identifies the questions that this version of the program asks of a plan:
// evidence is good for every version with the same digest. The text is 32 hexadecimal digits.
func Digest(p *plan.Plan) string {
	sum := sha256.New()
	for _, q := range Questions(p, Facts{}) {
		sum.Write([]byte(q.ID + "\n"))
	}
	return hex.EncodeToString(sum.Sum(nil)[:16])
}

// Judge judges answers, of one stage or of several together. Of two answers to
// one question the first that is not missing counts.
func Judge(p *plan.Plan, facts Facts, answers []Answer) Outcome {
	return prepare(p, facts).judge(answers)
}

func (c *prepared) judge(answers []Answer) Outcome {
	p, model, facts, list, ids := c.model.Plan(), c.model, c.facts, c.claims, c.ids
	by := make(map[string]Answer, len(answers))
	for _, a := range answers {
		if old, ok := by[a.ID]; !ok || old.Got == nil {
			by[a.ID] = a
		}
	}
	doc := Outcome{Stage: facts.Name, Verdict: Holds, Observed: facts.Observed, Claims: make([]Result, 0, len(list)),
		Proof: Proof{Verdict: Holds, Covers: model.Covers(), Assumes: reachability.Assumptions}}
	open := doubts(p)
	for i := range list {
		c := &list[i]
		c.decide(ids[i], by)
		c.leave(open)
		if g := p.Machine(c.Guest); g != nil && g.Guest != nil {
			c.observe(facts, g.Guest.Outside)
		}
		doc.Verdict = doc.Verdict.And(c.Verdict)
		if proved()[c.Kind] {
			doc.Proof.Verdict = doc.Proof.Verdict.And(c.Verdict)
		}
		if c.disagree != "" {
			doc.Proof.Disagree = append(doc.Proof.Disagree, c.ID+": "+c.disagree)
			doc.Verdict = Broken
		}
		doc.Claims = append(doc.Claims, c.Result)
	}
	if len(list) == 0 {
		doc.Verdict = Unknown // no verdict without evidence
	}
	trace(list, doc.Claims)
	return doc
}

// decide judges a claim from the answers to its questions.
func (c *claim) decide(ids [][]string, by map[string]Answer) {
	r := &c.Result
	r.Verdict, r.Evidence = Holds, []Evidence{}
	missing := ""
	told := map[string]bool{} // answers whose evidence is listed
	for i, p := range c.parts {
		got := make([]Got, len(p.asks))
		lacks := ""
		for j, id := range ids[i] {
			a, ok := by[id]
			if !told[id] {
				r.Evidence = append(r.Evidence, a.Evidence...)
				told[id] = true
			}
			switch {
			case !ok:
				lacks = "nothing was answered"
			case a.Got == nil || a.Got.kind() != p.asks[j].what.kind():
				lacks = cmp.Or(a.Missing, "nothing was answered")
			default:
				got[j] = a.Got
			}
		}
		switch {
		case p.any != nil:
			if !p.any(r, got) {
				lacks = ""
			}
		case lacks == "":
			p.judge(r, got)
		}
		missing = cmp.Or(missing, lacks)
	}
	switch {
	case r.Verdict == Broken && len(r.Evidence) > 0:
	case r.Verdict == Unknown:
	case missing != "":
		r.Verdict, r.Reason, r.Observed, r.Remedy = Unknown, nil, missing, ""
	case len(r.Evidence) == 0:
		r.Verdict, r.Reason, r.Observed, r.Remedy = Unknown, nil, "nothing was observed that shows it", ""
	}
}

// fail breaks the claim, for the first reason that comes.
func (r *Result) fail(why Reason) {
	if r.Verdict != Broken {
		r.Verdict, r.Reason, r.Observed, r.Remedy = Broken, &why, why.Text(), why.Remedy()
	}
}

// trace finds, for each broken claim, the broken claim that explains it: a
// guest without its planned lease has no next hop, no names and no way out; one
// with a second door goes out by that.
func trace(list []claim, results []Result) {
	isBroken := map[string]bool{}
	for _, r := range results {
		isBroken[r.ID] = r.Verdict == Broken
	}
	first := func(ids ...string) string {
		i := slices.IndexFunc(ids, func(id string) bool { return isBroken[id] })
		if i < 0 {
			return ""
		}
		return ids[i]
	}
	twice := slices.IndexFunc(results, func(r Result) bool { return r.Kind == NoDuplicates && r.Verdict == Broken })
	for i := range results {
		r := &results[i]
		if r.Kind == FullSize && r.Verdict == Broken && twice >= 0 { // either of the two may have answered
			r.Verdict, r.Follows, r.Reason, r.Remedy = Unknown, results[twice].ID, nil, ""
			r.Observed = "an address is in use twice: what is lost may have gone to the other machine"
			continue
		}
		if r.Verdict != Broken && (r.Kind != FullSize || r.Verdict != Unknown) {
			continue
		}
		for _, g := range list[i].guests {
			switch r.Kind {
			case Gateway, DNS:
				r.Follows = first(g + ".dhcp")
			case Behind:
				r.Follows = first(g + ".no-bypass")
			case Outside, FirstHop:
				if r.around {
					r.Follows = first(g+".no-bypass", g+".blocked")
				} else {
					r.Follows = first(g+".dhcp", g+".gateway")
				}
			case Host:
				r.Follows = first(g + ".no-bypass")
			case FullSize:
				r.Follows = first(g+".dhcp", g+".gateway", g+".outside", g+".blocked")
			case Segments, Expect, Published:
				r.Follows = first(g+".blocked", g+".dhcp", g+".gateway")
			}
			if r.Follows != "" {
				break
			}
		}
		if r.Kind == DHCP {
			r.Follows = first(list[i].lone + ".one-dhcp")
		}
	}
}
