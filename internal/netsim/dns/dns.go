// Package names is a resolver: it answers for the names it was given, forwards
// the rest, and remembers answers while they last (RFC 1034, RFC 1035, over
// UDP). It is a state machine that takes a message and a time and gives
// messages and its next deadline.
package dns

import (
	"cmp"
	"encoding/binary"
	"net/netip"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/dns/dnsmessage"
)

// Port is the port that resolvers answer on.
const Port = 53

const (
	maxPending = 1024            // questions under way upstream
	maxCached  = 4096            // answers remembered
	tryTime    = 2 * time.Second // before a question is asked again
	maxTries   = 3
	localTTL   = 300 // seconds, for names of its own
)

// Out is a datagram to send. Local is the port to send it from: [Port] for
// answers, another for questions to an upstream resolver, whose answers must
// come to Answer.
type Out struct {
	From   netip.Addr // the address that was asked; invalid: any of its own
	To     netip.AddrPort
	Local  uint16
	Stream bool // by TCP: to a client that asked so
	Data   []byte
}

// Resolver answers questions. The zero value knows no names and forwards
// nothing.
type Resolver struct {
	Names     map[string]netip.Addr // full names, lower case, with the last dot
	Self      map[string]bool       // names of its own, likewise: each is the address that it was asked at
	Zones     []string              // what it alone answers for, likewise
	Upstreams []netip.Addr

	pending map[uint16]*question // by port and identifier, which are equal
	cache   map[dnsmessage.Question]cached
	asked   map[dnsmessage.Question]uint16 // what is pending, by question
	next    uint16
	due     time.Duration // nothing pending is due earlier; 0: nothing is pending
}

type question struct {
	clients []client
	ask     dnsmessage.Question
	server  int
	tries   int
	at      time.Duration
}

type client struct {
	at     netip.Addr // where it asked
	addr   netip.AddrPort
	id     uint16
	stream bool
	room   int // how large an answer it takes
}

// How large an answer by UDP may be: without more said (RFC 1035, section
// 4.2.1), and at most, so that it fits any wire whole.
const (
	plainRoom = 512
	mostRoom  = 1232
)

// room returns how large an answer a question asks for: by UDP what its EDNS
// option says (RFC 6891, section 6.2.3), by TCP all of it.
func room(p *dnsmessage.Parser, stream bool) int {
	if stream {
		return 65535
	}
	if p.SkipAllAnswers() == nil && p.SkipAllAuthorities() == nil {
		for {
			h, err := p.AdditionalHeader()
			if err != nil {
				break
			}
			if h.Type == dnsmessage.TypeOPT {
				return min(max(int(h.Class), plainRoom), mostRoom)
			}
			if p.SkipAdditional() != nil {
				break
			}
		}
	}
	return plainRoom
}

// fitted packs a message for a client, cut to its question with the truncation
// flag when it has no room for all; nil when it cannot be packed.
func (c client) fitted(m dnsmessage.Message) []byte {
	m.ID = c.id
	b, err := m.Pack()
	if err != nil {
		return nil
	}
	if len(b) > c.room {
		m.Truncated, m.Answers, m.Authorities, m.Additionals = true, nil, nil, nil
		b, _ = m.Pack()
	}
	return b
}

type cached struct {
	rcode   dnsmessage.RCode
	answers []dnsmessage.Resource
	until   time.Duration
}

// Query takes a question that a client asked at one of the resolver's addresses,
// by TCP when stream is set, else by UDP.
func (r *Resolver) Query(now time.Duration, at netip.Addr, from netip.AddrPort, stream bool, data []byte) []Out {
	var p dnsmessage.Parser
	h, err := p.Start(data)
	if err != nil || h.Response {
		return nil // not even a header to answer to
	}
	asker := client{at: at, addr: from, id: h.ID, stream: stream, room: plainRoom}
	reply := func(rcode dnsmessage.RCode, q []dnsmessage.Question, answers []dnsmessage.Resource) []Out {
		m := dnsmessage.Message{
			Header: dnsmessage.Header{
				ID:                 h.ID,
				Response:           true,
				RecursionDesired:   h.RecursionDesired,
				RecursionAvailable: true,
				OpCode:             h.OpCode,
				RCode:              rcode,
			},
			Questions: q, Answers: answers,
		}
		b := asker.fitted(m)
		if b == nil {
			return nil
		}
		return []Out{{From: at, To: from, Local: Port, Stream: stream, Data: b}}
	}
	if h.OpCode != 0 {
		return reply(dnsmessage.RCodeNotImplemented, nil, nil)
	}
	questions, err := p.AllQuestions()
	if err != nil || len(questions) != 1 {
		return reply(dnsmessage.RCodeFormatError, nil, nil)
	}
	q := questions[0]
	asker.room = room(&p, stream)
	name := strings.ToLower(q.Name.String())
	a, ok := r.Names[name]
	if r.Self[name] {
		a, ok = at, true
	}
	if ok {
		var answers []dnsmessage.Resource
		if q.Type == dnsmessage.TypeA && a.Is4() {
			answers = append(answers, dnsmessage.Resource{
				Header: dnsmessage.ResourceHeader{Name: q.Name, Class: q.Class, TTL: localTTL},
				Body:   &dnsmessage.AResource{A: a.As4()},
			})
		} else if q.Type == dnsmessage.TypeAAAA && a.Is6() {
			answers = append(answers, dnsmessage.Resource{
				Header: dnsmessage.ResourceHeader{Name: q.Name, Class: q.Class, TTL: localTTL},
				Body:   &dnsmessage.AAAAResource{AAAA: a.As16()},
			})
		}
		return reply(dnsmessage.RCodeSuccess, questions, answers)
	}
	for _, z := range r.Zones {
		if name == z || strings.HasSuffix(name, "."+z) {
			return reply(dnsmessage.RCodeNameError, questions, nil)
		}
	}
	if c, ok := r.cache[q]; ok && c.until > now {
		return reply(c.rcode, questions, c.answers)
	}
	if len(r.Upstreams) == 0 || len(r.pending) >= maxPending {
		return reply(dnsmessage.RCodeServerFailure, questions, nil)
	}
	if r.pending == nil {
		r.pending, r.asked = map[uint16]*question{}, map[dnsmessage.Question]uint16{}
	}
	if id, ok := r.asked[q]; ok { // under way for somebody else: one question serves both
		r.pending[id].clients = append(r.pending[id].clients, asker)
		return nil
	}
	id := r.fresh()
	ask := &question{clients: []client{asker}, ask: q}
	r.pending[id], r.asked[q] = ask, id
	return r.forward(now, id, ask)
}

// fresh picks the port and identifier of a question upstream.
func (r *Resolver) fresh() uint16 {
	for {
		r.next = (r.next*25173 + 13849) | 0x4000
		if r.pending[r.next] == nil && r.next >= 1024 {
			return r.next
		}
		r.next++
	}
}

func (r *Resolver) forward(now time.Duration, id uint16, q *question) []Out {
	q.at = now + tryTime
	if r.due == 0 || q.at < r.due {
		r.due = q.at
	}
	m := dnsmessage.Message{
		Header:    dnsmessage.Header{ID: id, RecursionDesired: true},
		Questions: []dnsmessage.Question{q.ask},
	}
	b, err := m.Pack()
	if err != nil {
		return nil
	}
	to := r.Upstreams[q.server%len(r.Upstreams)]
	q.server++
	q.tries++
	return []Out{{To: netip.AddrPortFrom(to, Port), Local: id, Data: b}}
}

// Answer takes what came back to one of the resolver's own ports. An answer
// counts only from the server that was asked, to the port and with the
// identifier and question that were used (RFC 5452, section 9.1).
func (r *Resolver) Answer(now time.Duration, local uint16, from netip.AddrPort, data []byte) []Out {
	q := r.pending[local]
	if q == nil || from.Port() != Port || from.Addr() != r.Upstreams[(q.server-1)%len(r.Upstreams)] {
		return nil
	}
	var m dnsmessage.Message
	if m.Unpack(data) != nil || !m.Response || m.ID != local || len(m.Questions) != 1 ||
		!strings.EqualFold(m.Questions[0].Name.String(), q.ask.Name.String()) || m.Questions[0].Type != q.ask.Type {
		return nil
	}
	r.forget(local, q)
	ttl := uint32(localTTL)
	for _, a := range m.Answers {
		ttl = min(ttl, a.Header.TTL)
	}
	if r.cache == nil {
		r.cache = map[dnsmessage.Question]cached{}
	}
	if len(r.cache) >= maxCached {
		r.thin(now)
	}
	if m.Truncated {
		return q.tell(m) // it is not the whole answer
	}
	if m.RCode == dnsmessage.RCodeSuccess || m.RCode == dnsmessage.RCodeNameError {
		r.cache[q.ask] = cached{m.RCode, m.Answers, now + time.Duration(ttl)*time.Second}
	}
	m.RecursionAvailable, m.Authoritative = true, false
	return q.tell(m)
}

// forget drops a question that is answered or given up.
func (r *Resolver) forget(id uint16, q *question) {
	delete(r.pending, id)
	delete(r.asked, q.ask)
	if len(r.pending) == 0 {
		r.due = 0
	}
}

// thin drops what the cache no longer may say, and half of the rest when that is
// nothing.
func (r *Resolver) thin(now time.Duration) {
	was := len(r.cache)
	for k, c := range r.cache {
		if c.until <= now {
			delete(r.cache, k)
		}
	}
	if len(r.cache) < was {
		return
	}
	var ends []time.Duration
	for _, c := range r.cache {
		ends = append(ends, c.until)
	}
	slices.Sort(ends)
	for k, c := range r.cache {
		if c.until <= ends[len(ends)/2] {
			delete(r.cache, k)
		}
	}
}

// tell sends a message to everybody who asked.
func (q *question) tell(m dnsmessage.Message) []Out {
	var out []Out
	for _, c := range q.clients {
		if b := c.fitted(m); b != nil {
			out = append(out, Out{From: c.at, To: c.addr, Local: Port, Stream: c.stream, Data: b})
		}
	}
	return out
}

// Waiting reports whether a question upstream uses the local port.
func (r *Resolver) Waiting(local uint16) bool { return r.pending[local] != nil }

// Deadline returns the time at which Advance must be called.
func (r *Resolver) Deadline() (at time.Duration, ok bool) { return r.due, r.due != 0 }

// Advance asks again, and gives up on what nobody answers.
func (r *Resolver) Advance(now time.Duration) []Out {
	if r.due == 0 || now < r.due {
		return nil
	}
	var due []uint16
	r.due = 0
	for id, q := range r.pending {
		if q.at <= now {
			due = append(due, id)
		} else if r.due == 0 || q.at < r.due {
			r.due = q.at
		}
	}
	slices.Sort(due) // the same order in every run
	var out []Out
	for _, id := range due {
		q := r.pending[id]
		if q.tries < maxTries {
			out = append(out, r.forward(now, id, q)...)
			continue
		}
		r.forget(id, q)
		out = append(out, q.tell(dnsmessage.Message{
			Header: dnsmessage.Header{
				Response:           true,
				RecursionDesired:   true,
				RecursionAvailable: true,
				RCode:              dnsmessage.RCodeServerFailure,
			},
			Questions: []dnsmessage.Question{q.ask},
		})...)
	}
	return out
}

// Question builds a question for an address.
func Question(id uint16, name string) ([]byte, error) {
	n, err := dnsmessage.NewName(strings.TrimSuffix(name, ".") + ".")
	if err != nil {
		return nil, err
	}
	m := dnsmessage.Message{
		Header:    dnsmessage.Header{ID: id, RecursionDesired: true},
		Questions: []dnsmessage.Question{{Name: n, Type: dnsmessage.TypeA, Class: dnsmessage.ClassINET}},
	}
	return m.Pack()
}

// ReadAnswer returns the addresses in an answer and its response code. ok is
// false for anything but an answer to the question with that identifier.
func ReadAnswer(data []byte, id uint16) (addrs []netip.Addr, rcode dnsmessage.RCode, ok bool) {
	var m dnsmessage.Message
	if len(data) < 12 || binary.BigEndian.Uint16(data) != id || m.Unpack(data) != nil || !m.Response {
		return nil, 0, false
	}
	for _, a := range m.Answers {
		if body, is := a.Body.(*dnsmessage.AResource); is {
			addrs = append(addrs, netip.AddrFrom4(body.A))
		}
	}
	return addrs, m.RCode, true
}

// answerWords are the response codes (RFC 1035, section 4.1.1) as DNS tools print them.
var answerWords = map[string]string{
	"RCodeSuccess": "NOERROR", "RCodeNameError": "NXDOMAIN (no such name)", "RCodeServerFailure": "SERVFAIL (it has no answer from upstream)",
	"RCodeRefused": "REFUSED", "RCodeFormatError": "FORMERR", "RCodeNotImplemented": "NOTIMP",
}

// CodeText returns a response code for people; an unknown one comes back unchanged.
func CodeText(code string) string { return cmp.Or(answerWords[code], code) }
