package pppoe

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/mac"
)

func pair(chap bool, password string) (*Client, *Server) {
	return &Client{MAC: mac.Address{2, 7}, User: "gate", Password: password}, &Server{
		MAC: mac.Address{2, 1}, Address: netip.MustParseAddr("172.29.64.1"), From: netip.MustParseAddr("172.29.64.128"),
		To: netip.MustParseAddr("172.29.64.129"),
		DNS: []netip.Addr{
			netip.MustParseAddr("172.29.64.1"),
		}, CHAP: chap, Secrets: map[string]string{"gate": "ebb and flow"},
	}
}

// talk carries payloads between the two until a time, losing what drop says.
func talk(c *Client, s *Server, now *time.Duration, until time.Duration, drop func() bool) {
	toServer := []Out{}
	push := func(list []Out) { toServer = append(toServer, list...) }
	for *now <= until {
		for len(toServer) > 0 {
			o := toServer[0]
			toServer = toServer[1:]
			if drop() {
				continue
			}
			back, _ := s.Receive(*now, c.MAC, o.Type, o.Data)
			for _, b := range back {
				if !drop() {
					more, _ := c.Receive(*now, s.MAC, b.Type, b.Data)
					push(more)
				}
			}
		}
		at, ok := c.Deadline()
		if !ok {
			return
		}
		*now = max(*now, at)
		if *now <= until {
			push(c.Advance(*now))
		}
	}
}

func TestSession(t *testing.T) {
	never := func() bool { return false }
	for _, chap := range []bool{false, true} {
		c, s := pair(chap, "ebb and flow")
		now := time.Duration(0)
		first := c.Start(now)
		require.Len(t, first, 1)
		assert.Equal(t, mac.Broadcast, first[0].To)
		back, _ := s.Receive(now, c.MAC, first[0].Type, first[0].Data)
		more, _ := c.Receive(now, s.MAC, back[0].Type, back[0].Data)
		back, _ = s.Receive(now, c.MAC, more[0].Type, more[0].Data)
		more, _ = c.Receive(now, s.MAC, back[0].Type, back[0].Data)
		for len(more) > 0 {
			o := more[0]
			more = more[1:]
			back, _ := s.Receive(now, c.MAC, o.Type, o.Data)
			for _, b := range back {
				m, _ := c.Receive(now, s.MAC, b.Type, b.Data)
				more = append(more, m...)
			}
		}
		require.True(t, c.Up(), "chap %v", chap)
		assert.Equal(
			t,
			"172.29.64.128 172.29.64.1 [172.29.64.1 172.29.64.1]",
			c.Address.String()+" "+c.Peer.String()+" "+texts(c.DNS),
		)
		id, client, ok := s.Find(c.Address)
		assert.Equal(t, []any{c.Session, c.MAC, true}, []any{id, client, ok})
		talk(c, s, &now, 10*time.Minute, never)
		assert.True(t, c.Up(), "echoes keep it")

		ip := make([]byte, 20)
		copy(ip[12:], []byte{172, 29, 64, 128})
		_, got := s.Receive(now, c.MAC, TypeSession, Wrap(c.Session, ip))
		assert.Equal(t, ip, got)
		copy(ip[12:], []byte{172, 29, 64, 200})
		_, got = s.Receive(now, c.MAC, TypeSession, Wrap(c.Session, ip))
		assert.Nil(t, got, "a source that is not the session's")
		_, got = s.Receive(now, mac.Address{2, 9}, TypeSession, Wrap(c.Session, ip))
		assert.Nil(t, got, "somebody else in its session")

		// The server restarts: echoes go unanswered, and a new session comes up.
		s.sessions = nil
		talk(c, s, &now, now+5*time.Minute, never)
		assert.True(t, c.Up())

		wrong, s2 := pair(chap, "low tide")
		now = 0
		wrong.Start(now)
		talk(wrong, s2, &now, 5*time.Minute, never)
		assert.False(t, wrong.Up(), "a wrong password")
	}
}

func texts(list []netip.Addr) string {
	out := "["
	for k, a := range list {
		if k > 0 {
			out += " "
		}
		out += a.String()
	}
	return out + "]"
}

// Over a link that loses, a session comes up in the end, and never with an
// address that the server did not give.
func TestLossySession(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c, s := pair(rapid.Bool().Draw(t, "chap"), "ebb and flow")
		seed := rapid.Uint32().Draw(t, "seed") | 1
		loss := rapid.Uint32Range(0, 30).Draw(t, "loss")
		now := time.Duration(0)
		c.Start(now)
		talk(c, s, &now, 30*time.Minute, func() bool {
			seed ^= seed << 13
			seed ^= seed >> 17
			seed ^= seed << 5
			return seed%100 < loss
		})
		if c.Up() {
			_, _, ok := s.Find(c.Address)
			require.True(t, ok || loss > 0)
		}
		if loss == 0 {
			require.True(t, c.Up())
		}
	})
}

// Neither end fails on any payload.
func FuzzPayload(f *testing.F) {
	c, _ := pair(true, "x")
	o := c.Start(0)
	f.Add(uint16(TypeDiscovery), o[0].Data)
	f.Add(uint16(TypeSession), Wrap(1, make([]byte, 20)))
	f.Add(uint16(TypeSession), wrap(1, protoLCP, control(request, 1, option(3, 0xc2, 0x23, 5))))
	f.Add(uint16(TypeSession), wrap(1, protoIPCP, control(nak, 1, option(3, 1, 2, 3, 4), option(129, 1, 2, 3, 4))))
	f.Add(uint16(TypeSession), wrap(1, protoCHAP, control(1, 1, []byte{4}, []byte("abcd"), []byte("n"))))
	f.Fuzz(func(t *testing.T, kind uint16, data []byte) {
		for _, chap := range []bool{false, true} {
			c, s := pair(chap, "ebb and flow")
			now := time.Duration(0)
			c.Start(now)
			talk(c, s, &now, time.Second, func() bool { return false })
			out, _ := s.Receive(now, c.MAC, kind, data)
			for _, o := range out {
				c.Receive(now, s.MAC, o.Type, o.Data)
			}
			c.Receive(now, s.MAC, kind, data)
			c.Advance(now + time.Minute)
		}
	})
}
