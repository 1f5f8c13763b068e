package host

import (
	"bytes"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"openbastion/internal/netsim/outcome"
)

// Fetch is a page asked for over HTTP/1.0 (RFC 1945).
type Fetch struct {
	Done      bool
	Connected bool
	Status    string // first line of the answer
	Body      string
	Frame     int // of the last segment taken in
	Outcome   outcome.Outcome

	conn *Conn
	raw  []byte
}

const maxPage = 64 << 10

// Fetch asks a server for a page.
func (n *Node) Fetch(now time.Duration, to netip.AddrPort, path string) *Fetch {
	c := n.Dial(now, to)
	f := &Fetch{conn: c}
	finish := func() {
		f.Done, f.Outcome, f.Connected, f.Frame = true, c.Outcome, c.Established, c.Frame
		head, body, ok := bytes.Cut(f.raw, []byte("\r\n\r\n"))
		if ok {
			f.Status, _, _ = strings.Cut(string(head), "\r\n")
			f.Body = string(body)
		}
	}
	if c.Done {
		finish()
		return f
	}
	c.unsent = []byte(fmt.Sprintf("GET %s HTTP/1.0\r\nHost: %s\r\n\r\n", path, to.Addr()))
	c.OnData = func(d []byte) {
		if len(f.raw) < maxPage {
			f.raw = append(f.raw, d...)
		}
	}
	c.OnClose = func() { c.Close(); finish() }
	c.OnDone = func() {
		if !f.Done {
			finish()
		}
	}
	return f
}

// ServePages answers every request on a TCP port with what page gives for the
// client.
func (n *Node) ServePages(port uint16, page func(client netip.AddrPort) string) {
	n.Listen(port, Pages(page))
}

// Pages is what takes connections and answers requests on them.
func Pages(page func(client netip.AddrPort) string) func(*Conn) {
	return func(c *Conn) {
		var request []byte
		answered := false
		c.OnData = func(d []byte) {
			if request = append(request, d...); answered || !bytes.Contains(request, []byte("\r\n\r\n")) {
				if len(request) > maxPage {
					c.Abort()
				}
				return
			}
			answered = true
			body := page(c.Remote)
			c.Write(
				[]byte(
					fmt.Sprintf(
						"HTTP/1.0 200 OK\r\nContent-Type: text/plain\r\nContent-Length: %d\r\n\r\n%s",
						len(body),
						body,
					),
				),
			)
			c.Close()
		}
		c.OnClose = func() { c.Close() }
	}
}
