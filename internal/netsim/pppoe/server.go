package pppoe

import (
	"bytes"
	"net/netip"
	"time"

	"openbastion/internal/model/mac"
)

// Server gives sessions to those that ask.
type Server struct {
	MAC      mac.Address
	Address  netip.Addr // its own end of every session
	From, To netip.Addr // handed out, both included
	DNS      []netip.Addr
	CHAP     bool              // else PAP
	Secrets  map[string]string // passwords by user

	sessions map[uint16]*session
	last     uint16
}

// session is one client's.
type session struct {
	id        uint16
	client    mac.Address
	address   netip.Addr
	challenge []byte
	trusted   bool
	up        bool
}

// maxSessions bounds the sessions of a server.
const maxSessions = 1 << 12

// Find returns the session that carries an address: its number and the client's
// hardware address.
func (s *Server) Find(a netip.Addr) (id uint16, client mac.Address, ok bool) {
	for _, x := range s.sessions {
		if x.up && x.address == a {
			return x.id, x.client, true
		}
	}
	return 0, mac.Address{}, false
}

// Receive takes a payload from a client. ip is a packet that a session carried,
// from the address that the session has.
func (s *Server) Receive(_ time.Duration, from mac.Address, kind uint16, b []byte) (out []Out, ip []byte) {
	if kind == TypeDiscovery {
		return s.discovered(from, b), nil
	}
	id, proto, data, ok := open(b)
	x := s.sessions[id]
	if !ok || x == nil || x.client != from {
		return nil, nil
	}
	if proto == protoIPv4 {
		if x.up && len(data) >= 20 && bytes.Equal(data[12:16], bytes4(x.address)) {
			return nil, data
		}
		return nil, nil
	}
	code, n, rest, ok := controlIn(data)
	if !ok {
		return nil, nil
	}
	reply := func(proto uint16, data []byte) { out = append(out, Out{from, TypeSession, wrap(id, proto, data)}) }
	switch proto {
	case protoLCP:
		switch code {
		case request:
			reply(protoLCP, control(ack, n, rest))
			how := option(3, 0xc0, 0x23)
			if s.CHAP {
				how = option(3, 0xc2, 0x23, 5)
			}
			reply(protoLCP, control(request, 1, option(1, byte(MTU>>8), byte(MTU&255)), how, option(5, s.MAC[2:]...)))
		case ack:
			if s.CHAP {
				reply(protoCHAP, control(1, 7, []byte{byte(len(x.challenge))}, x.challenge, []byte("concentrator")))
			}
		case echo:
			reply(protoLCP, control(echoReply, n, make([]byte, 4)))
		case terminate:
			delete(s.sessions, id)
		}
	case protoPAP:
		if code == request && !s.CHAP {
			user, password, ok := credentials(rest)
			verdict := byte(nak)
			if want, known := s.Secrets[user]; ok && known && want == password {
				x.trusted, verdict = true, ack
			}
			reply(protoPAP, control(verdict, n, []byte{0}))
		}
	case protoCHAP:
		if code == 2 && s.CHAP && len(rest) > 0 && int(rest[0]) < len(rest) {
			answer, user := rest[1:1+int(rest[0])], rest[1+int(rest[0]):]
			verdict := byte(4)
			if want, known := s.Secrets[string(user)]; known && bytes.Equal(answer, answerTo(n, want, x.challenge)) {
				x.trusted, verdict = true, 3
			}
			reply(protoCHAP, control(verdict, n))
		}
	case protoIPCP:
		if x.trusted {
			s.network(x, code, n, rest, reply)
		}
	}
	return out, nil
}

// credentials reads a PAP request.
func credentials(b []byte) (user, password string, ok bool) {
	if len(b) < 1 || int(b[0]) >= len(b) {
		return "", "", false
	}
	user, b = string(b[1:1+int(b[0])]), b[1+int(b[0]):]
	if len(b) < 1 || int(b[0]) > len(b)-1 {
		return "", "", false
	}
	return user, string(b[1 : 1+int(b[0])]), true
}

// network hands out the session's address and the resolvers.
func (s *Server) network(x *session, code, id byte, data []byte, reply func(uint16, []byte)) {
	if code != request {
		return
	}
	right := true
	var offer [][]byte
	k := 0
	options(data, func(kind byte, v []byte) {
		want := netip.Addr{}
		switch kind {
		case 3:
			want = x.address
		case 129, 131:
			if k < len(s.DNS) {
				want = s.DNS[k]
			} else if len(s.DNS) > 0 {
				want = s.DNS[0]
			}
			k++
		default:
			return
		}
		right = right && address(v) == want
		offer = append(offer, option(kind, bytes4(want)...))
	})
	if !right {
		reply(protoIPCP, control(nak, id, offer...))
		return
	}
	reply(protoIPCP, control(ack, id, data))
	reply(protoIPCP, control(request, 1, option(3, bytes4(s.Address)...)))
	x.up = true
}

func (s *Server) discovered(from mac.Address, b []byte) []Out {
	if len(b) < 6 {
		return nil
	}
	var echoed [][]byte
	if v := tagIn(b, tagHost); v != nil {
		echoed = append(echoed, tag(tagHost, v))
	}
	switch b[1] {
	case padi:
		return []Out{{from, TypeDiscovery, discovery(pado, 0,
			append(echoed, tag(tagService, nil), tag(tagName, []byte("concentrator")), tag(tagCookie, from[:]))...)}}
	case padr:
		if !bytes.Equal(tagIn(b, tagCookie), from[:]) || len(s.sessions) >= maxSessions {
			return nil
		}
		x := s.open(from)
		if x == nil {
			return nil
		}
		return []Out{{from, TypeDiscovery, discovery(pads, x.id, append(echoed, tag(tagService, nil))...)}}
	case padt:
		id := uint16(b[2])<<8 | uint16(b[3])
		if x := s.sessions[id]; x != nil && x.client == from {
			delete(s.sessions, id)
		}
	}
	return nil
}

// open starts a client's session; one it had before ends. Nil: no address is
// left.
func (s *Server) open(from mac.Address) *session {
	if s.sessions == nil {
		s.sessions = map[uint16]*session{}
	}
	for id, x := range s.sessions {
		if x.client == from {
			delete(s.sessions, id)
		}
	}
	for a := s.From; a.IsValid() && a.Compare(s.To) <= 0; a = a.Next() {
		taken := false
		for _, x := range s.sessions {
			taken = taken || x.address == a
		}
		if !taken {
			if s.last++; s.last == 0 {
				s.last = 1
			}
			x := &session{id: s.last, client: from, address: a, challenge: append([]byte("open bastion "), from[:]...)}
			s.sessions[x.id] = x
			return x
		}
	}
	return nil
}
