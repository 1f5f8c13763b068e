package live_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/render/live"
)

const token = "0123456789abcdef0123456789abcdef"

func sample(t *testing.T) *plan.Plan {
	data, err := examples.Labs.ReadFile("saltmarsh-leaky.yaml")
	require.NoError(t, err)
	l, err := lab.Read("saltmarsh-leaky.yaml", data)
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	return p
}

// happened is what the page is told: traffic, a stop, a lease, and an escape whose text
// would be a script if it were not text.
var happened = status.Change{Lab: "saltmarsh", At: time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC), Phase: status.Running,
	Segments: []status.SegmentRate{
		{Name: "causeway", Rate: status.Rate{Packets: 12, Bytes: 1500}},
		{Name: "reedbed", Rate: status.Rate{Packets: 40, Bytes: 90000}},
	},
	Adapters: []status.AdapterRate{
		{Machine: "heron", Number: 1, Segment: "reedbed", Sent: status.Rate{Packets: 30, Bytes: 80000}},
	},
	Events: []status.Event{
		{
			Kind:    status.Escaped,
			Machine: "otter",
			Segment: "causeway",
			Text:    "otter gets out on causeway: <img src=x onerror=document.title='taken'>",
		},
		{Kind: status.Blocked, Machine: "sluice", Rule: 1, Packets: 4, Text: "sluice stops 4 by rule 1"},
		{Kind: status.LeaseGiven, Machine: "heron", Text: "heron gets 10.83.16.50 from sluice"},
	}}

func serve(t *testing.T, watch live.Watch) *httptest.Server {
	h, err := live.Handler(sample(t), token, watch)
	require.NoError(t, err)
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return s
}

func once(ctx context.Context, tell func(status.Change) error) error {
	if err := tell(happened); err != nil {
		return err
	}
	<-ctx.Done()
	return ctx.Err()
}

// The page is given to whoever asks this machine by its own address, with the token, to
// read it; to nobody else.
func TestWhoMaySee(t *testing.T) {
	s := serve(t, once)
	for _, c := range []struct {
		method, path, host string
		want               int
	}{
		{"GET", "/" + token + "/", "", 200},
		{"GET", "/" + token + "/", "localhost:80", 200},
		{"GET", "/" + token + "/", "[::1]:80", 200},
		{"GET", "/", "", 404},
		{"GET", "/0123456789abcdef0123456789abcdee/", "", 404},
		{"GET", "/" + token + "/../" + token + "/", "", 404},
		{"GET", "/" + token + "/other", "", 404},
		{"GET", "/events", "", 404},
		{"POST", "/" + token + "/", "", 405},
		{"DELETE", "/" + token + "/events", "", 405},
		{"GET", "/" + token + "/", "attacker.example", 403},
		{"GET", "/" + token + "/events", "attacker.example:80", 403},
		{"GET", "/" + token + "/", "172.29.64.1:80", 403},
	} {
		r, err := http.NewRequestWithContext(t.Context(), c.method, s.URL+c.path, nil)
		require.NoError(t, err)
		r.URL.Path, r.Host = c.path, c.host
		answer, err := (&http.Transport{}).RoundTrip(r)
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, c.want, answer.StatusCode, "%s %s at %q", c.method, c.path, c.host)
		assert.Equal(t, "no-store", answer.Header.Get("Cache-Control"))
		assert.NotContains(t, answer.Header.Get("Content-Security-Policy"), "script-src 'unsafe")
	}
}

// Changes come as they happen, one message each; no more than so many may listen.
func TestEvents(t *testing.T) {
	s := serve(t, once)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	open := func() *http.Response {
		r, err := http.NewRequestWithContext(ctx, "GET", s.URL+"/"+token+"/events", nil)
		require.NoError(t, err)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		return answer
	}
	first := open()
	defer first.Body.Close()
	assert.Equal(t, "text/event-stream", first.Header.Get("Content-Type"))
	b := make([]byte, 1<<16)
	n, err := first.Body.Read(b)
	require.NoError(t, err)
	data, ok := strings.CutPrefix(strings.TrimRight(string(b[:n]), "\n"), "data: ")
	require.True(t, ok)
	var got status.Change
	require.NoError(t, json.Unmarshal([]byte(data), &got))
	assert.Equal(t, happened, got)
	for range 15 {
		defer open().Body.Close()
	}
	last := open()
	defer last.Body.Close()
	assert.Equal(t, http.StatusServiceUnavailable, last.StatusCode)
}

// browser returns a tab of a headless browser.
func browser(t *testing.T) context.Context {
	name, err := exec.LookPath("chromium")
	if err != nil {
		t.Skip("needs chromium")
	}
	options := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(name),
		chromedp.NoSandbox,
		chromedp.WindowSize(1280, 800),
	)
	ctx, cancel := chromedp.NewExecAllocator(t.Context(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 60*time.Second)
	t.Cleanup(cancel)
	return ctx
}

// visit opens a page, whose events never end loading.
func visit(t *testing.T, ctx context.Context, at string) {
	_, err := chromedp.Run(ctx, chromedp.Evaluate[string](fmt.Sprintf("location.href = %q", at)))
	require.NoError(t, err)
}

// In a browser the page shows what it is told: rates, moving cables, the sign where packets
// died, the escape in words and on the diagram; and what it is told stays text.
func TestInABrowser(t *testing.T) {
	s := serve(t, once)
	ctx := browser(t)
	visit(t, ctx, s.URL+"/"+token+"/")
	require.Eventually(t, func() bool {
		there, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`!!document.querySelector('#escape:not([hidden])')`))
		return err == nil && there
	}, 30*time.Second, 100*time.Millisecond)
	got, err := chromedp.Run(ctx, chromedp.Evaluate[seen](`({
		title: document.title, state: document.querySelector('#state').textContent, escape: document.querySelector('#escape').textContent,
		stopped: document.querySelector('#blocked').textContent, events: document.querySelector('#events').textContent,
		rows: document.querySelectorAll('#rates tr').length, signs: document.querySelectorAll('.stopped').length,
		ways: document.querySelectorAll('polyline.way').length, moving: [...document.querySelectorAll('.moves')].filter(e => e.style.opacity > 0).length})`))
	require.NoError(t, err)
	assert.Equal(t, "saltmarsh: live", got.Title, "what it is told must not run")
	assert.Contains(t, got.State, "running")
	assert.Contains(t, got.Escape, "<img src=x")
	assert.Contains(t, got.Stopped, "sluice stops 4 by rule 1")
	assert.Contains(t, got.Events, "heron gets 10.83.16.50")
	assert.Equal(t, 2, got.Rows)
	assert.Equal(t, 1, got.Signs)
	assert.Equal(t, 1, got.Moving, "heron sends and receives nothing")
	assert.Equal(t, 2, got.Ways, "from otter to causeway, and from there outside")
}

// seen is what stands on the page.
type seen struct {
	Title, State, Escape, Stopped, Events string
	Rows, Signs, Ways, Moving             int
}

// A picture of a page that is served elsewhere (LIVE_PAGE), into a file (PICTURE).
func TestPicture(t *testing.T) {
	at, to := os.Getenv("LIVE_PAGE"), os.Getenv("PICTURE")
	if at == "" || to == "" {
		t.Skip("for make screenshots")
	}
	ctx := browser(t)
	visit(t, ctx, at)
	time.Sleep(5 * time.Second) // for something to happen
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(to, png, 0o644))
}
