package live

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
)

// Token returns what only whoever is told it knows: 128 bits.
func Token() string {
	var b [16]byte
	_, _ = rand.Read(b[:]) // which never fails (crypto/rand)
	return hex.EncodeToString(b[:])
}

// maxWatchers bounds how many watch a lab at once.
const maxWatchers = 16

// Watch calls tell with each change of a lab, until the context ends or tell fails.
type Watch func(ctx context.Context, tell func(status.Change) error) error

type server struct {
	token    string
	page     []byte
	policy   string
	watch    Watch
	watchers chan struct{}
}

// Handler serves a lab's page below its token, and nothing else: other paths, other
// names of this machine and other methods are refused.
func Handler(p *plan.Plan, token string, watch Watch) (http.Handler, error) {
	text, err := Page(p)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte(script))
	// The page's own script runs, and nothing else; styles stand in the drawing itself.
	policy := fmt.Sprintf(
		"default-src 'none'; script-src 'sha256-%s'; style-src 'unsafe-inline'; connect-src 'self'; base-uri 'none'; "+
			"form-action 'none'; frame-ancestors 'none'",
		base64.StdEncoding.EncodeToString(sum[:]),
	)
	return &server{token, text, policy, watch, make(chan struct{}, maxWatchers)}, nil
}

// ServeHTTP answers one request.
func (s *server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cache-Control", "no-store")
	token, rest, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	known := subtle.ConstantTimeCompare([]byte(token), []byte(s.token)) == 1
	switch {
	case !loopback(r.Host):
		http.Error(w, "this page is for the machine itself", http.StatusForbidden)
	case !known:
		http.Error(w, "the address is incomplete: it ends with a token", http.StatusNotFound)
	case r.Method != http.MethodGet:
		http.Error(w, "this page is only read", http.StatusMethodNotAllowed)
	case rest == "":
		h.Set("Content-Type", "text/html; charset=utf-8")
		h.Set("Content-Security-Policy", s.policy)
		_, _ = w.Write(s.page)
	case rest == "events":
		s.events(w, r)
	default:
		http.NotFound(w, r)
	}
}

// loopback reports whether it is a request to this machine itself by an address of it: a name that
// somebody else made lead here is none.
func loopback(host string) bool {
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = host
	}
	ip := net.ParseIP(strings.Trim(name, "[]"))
	return name == "localhost" || ip != nil && ip.IsLoopback()
}

// events tells changes as they come (server-sent events, WHATWG HTML, section 9.2).
func (s *server) events(w http.ResponseWriter, r *http.Request) {
	select {
	case s.watchers <- struct{}{}:
		defer func() { <-s.watchers }()
	default:
		http.Error(w, "too many watch already", http.StatusServiceUnavailable)
		return
	}
	w.Header().Set("Content-Type", "text/event-stream")
	control := http.NewResponseController(w)
	_ = s.watch(r.Context(), func(c status.Change) error {
		data, err := json.Marshal(c)
		if err != nil {
			return err
		}
		_ = control.SetWriteDeadline(time.Now().Add(writeTime)) // who does not read is let go
		if _, err := fmt.Fprintf(w, "data: %s\n\n", data); err != nil {
			return err
		}
		return control.Flush()
	}) // an end of either side ends it; the page connects again
}

const writeTime = 5 * time.Second
