package host

import (
	"bytes"
	"fmt"
	"net/netip"
	"strconv"
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

// Fetch asks a server for a page, and sends a body to it where there is one.
func (n *Node) Fetch(now time.Duration, to netip.AddrPort, path string, body []byte) *Fetch {
	c := n.Dial(now, to)
	f := &Fetch{conn: c}
	finish := func() {
		f.Done, f.Outcome, f.Connected, f.Frame = true, c.Outcome, c.Established, c.Frame
		head, page, ok := bytes.Cut(f.raw, []byte("\r\n\r\n"))
		if ok {
			f.Status, _, _ = strings.Cut(string(head), "\r\n")
			f.Body = string(page)
		}
	}
	if c.Done {
		finish()
		return f
	}
	c.unsent = []byte(fmt.Sprintf("GET %s HTTP/1.0\r\nHost: %s\r\n\r\n", path, to.Addr()))
	if len(body) > 0 {
		c.unsent = append(fmt.Appendf(nil, "POST %s HTTP/1.0\r\nHost: %s\r\nContent-Length: %d\r\n\r\n",
			path, to.Addr(), len(body)), body...)
	}
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

// Pages is what takes connections and answers requests on them. A request with a body is answered when all of it has come, and
// its page is followed by as many zeros.
func Pages(page func(client netip.AddrPort) string) func(*Conn) {
	return func(c *Conn) {
		var request []byte
		answered := false
		c.OnData = func(d []byte) {
			if request = append(request, d...); len(request) > maxPage {
				c.Abort()
				return
			}
			size, whole := bodyOf(request)
			if answered || !whole {
				return
			}
			answered = true
			body := page(c.Remote) + strings.Repeat("\x00", size)
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

// bodyOf returns the size of a request's body, and whether all of it has come.
func bodyOf(request []byte) (size int, whole bool) {
	head, body, ok := bytes.Cut(request, []byte("\r\n\r\n"))
	if !ok {
		return 0, false
	}
	if _, after, has := bytes.Cut(head, []byte("\r\nContent-Length: ")); has {
		text, _, _ := bytes.Cut(after, []byte("\r\n"))
		size, _ = strconv.Atoi(string(text)) // what is no number is no body
	}
	size = min(max(size, 0), maxPage)
	return size, len(body) >= size
}
