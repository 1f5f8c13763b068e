package witness

import (
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"net/netip"
	"time"
)

// What a witness bounds.
const (
	cookieTime  = 30 * time.Second // how long a cookie is good, at least; at most twice that
	mostBenches = 8192             // whose keys are kept
	mostSources = 256              // of one bench, whose pace is watched
)

// Server is a witness. It is not for several goroutines at once.
type Server struct {
	Listening bool // Hear is told of all that comes to its machine
	Opens     bool // it listens on every port that the lab's claims ask it on

	key     ed25519.PrivateKey
	token   Token
	secret  [32]byte                        // of cookies
	rate    float64                         // questions a second from one source
	keys    map[string][]byte               // by bench
	sources map[string]map[netip.Addr]*pace // by bench
	heard   heard
}

// pace is how many questions a source may put now.
type pace struct {
	left float64
	last time.Duration
}

// NewServer makes a witness with a key, for who has a lab's token or one of its benches'.
// secret is random, and of this run alone. A bench at one address that puts more questions than
// rate a second on average, and more than ten times that at once, is not answered.
func NewServer(key ed25519.PrivateKey, token Token, secret [32]byte, rate float64) *Server {
	return &Server{
		key:     key,
		token:   token,
		secret:  secret,
		rate:    rate,
		keys:    map[string][]byte{},
		sources: map[string]map[netip.Addr]*pace{},
	}
}

// Seen is a question that was answered with a report.
type Seen struct {
	Report
	Bench string
}

// Handle takes what came from a source at a time since any fixed moment, and gives the
// answer: of the same size, or nil where there is none. Nobody is answered who has no token
// of the lab. clock is the time of day; hops is the hop limit that was left, 0 when that was
// not seen. The witness has seen what it gives only where who asked gave back the cookie that
// was sent to the very source: a source that is a lie sees none.
func (s *Server) Handle(now time.Duration, clock time.Time, from netip.AddrPort, way Way, hops int,
	data []byte) (answer []byte, seen *Seen) {
	if kindOf(data) != kindAsk {
		return nil, nil
	}
	a, ok := parseAsk(data)
	if !ok || a.Way != way {
		return nil, nil
	}
	key, kept := s.keyOf(a.Bench)
	if authentic(data, key) && !kept && len(s.keys) < mostBenches { // names without a token fill no memory
		s.keys[a.Bench] = key
	}
	if !authentic(data, key) || !s.allowed(now, a.Bench, from.Addr()) {
		return nil, nil
	}
	slot := int64(now / cookieTime)
	if a.Cookie != s.cookie(slot, from.Addr(), a.Nonce) && a.Cookie != s.cookie(slot-1, from.Addr(), a.Nonce) {
		return again(a.Nonce, s.cookie(slot, from.Addr(), a.Nonce), s.key.Public().(ed25519.PublicKey), key), nil
	}
	r := Report{Nonce: a.Nonce, Cookie: a.Cookie, Source: from, Hops: hops, Way: way, Time: clock.Unix(),
		Heard: s.heard.of(a.Bench, a.Run, int(a.First), s.Listening), Opens: s.Opens}
	return r.marshal(s.key), &Seen{r, a.Bench}
}

// keyOf returns the key of a bench's questions, and whether it is one that is kept; those of the lab
// itself have no name.
func (s *Server) keyOf(bench string) (key []byte, kept bool) {
	if key, kept = s.keys[bench]; kept {
		return key, true
	}
	t := s.token
	if bench != "" {
		t = t.Bench(bench)
	}
	return t.asking(), false
}

// cookie is one for a source and a question in a span of time.
func (s *Server) cookie(slot int64, from netip.Addr, n Nonce) (c Cookie) {
	m := hmac.New(sha256.New, s.secret[:])
	at := from.As16()
	m.Write(binary.BigEndian.AppendUint64(nil, uint64(slot)))
	m.Write(at[:])
	m.Write(n[:])
	copy(c[:], m.Sum(nil))
	return c
}

// allowed reports whether a source may put a question now: a bench at an address, as a whole class may
// stand behind one. Of a bench that asks from ever new addresses the one that was silent longest is
// forgotten: it takes nobody else's place.
func (s *Server) allowed(now time.Duration, bench string, from netip.Addr) bool {
	most := 10 * s.rate
	list := s.sources[bench]
	if list == nil {
		list = map[netip.Addr]*pace{}
		s.sources[bench] = list
	}
	p := list[from]
	if p == nil {
		if len(list) >= mostSources {
			var oldest netip.Addr
			for at, x := range list {
				if o := list[oldest]; o == nil || x.last < o.last {
					oldest = at
				}
			}
			delete(list, oldest)
		}
		p = &pace{left: most, last: now}
		list[from] = p
	}
	p.left = min(most, p.left+max(0, now-p.last).Seconds()*s.rate)
	p.last = now
	if p.left < 1 {
		return false
	}
	p.left--
	return true
}
