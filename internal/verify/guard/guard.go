// Package guard watches a lab that runs: which of its claims broke when, what changed just before, and when they held again. It
// asks nothing itself; it says when to ask, and takes what was seen.
package guard

import (
	"slices"
	"time"

	"openbastion/internal/model/status"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// Kind is what an entry of the history is about.
type Kind string

// The kinds of entries.
const (
	Began   Kind = "began"   // the first check, with what did not hold from the beginning
	Broke   Kind = "broke"   // a claim that held, or was not known, is broken
	Held    Kind = "held"    // a claim that was broken holds again
	Lost    Kind = "lost"    // a claim that held cannot be decided any more
	Bypass  Kind = "bypass"  // a packet got out past the appliance
	Changed Kind = "changed" // something of the lab is otherwise
)

// Entry is a line of the history.
type Entry struct {
	At    time.Time `json:"time"`
	Kind  Kind      `json:"kind"`
	Claim string    `json:"claim,omitempty"`
	Guest string    `json:"guest,omitempty"`
	Text  string    `json:"text"`
	After []string  `json:"after,omitempty"` // what changed shortly before
	Lasts int       `json:"lasts,omitempty"` // seconds that it was broken, when it holds again
}

// How soon after a change the claims are asked again, and for how long a change is told as one shortly before.
const (
	settles = time.Second
	shortly = 30 * time.Second
)

// Guard is what is known of a lab that is watched.
type Guard struct {
	every  time.Duration
	due    time.Time
	began  bool
	known  map[string]claims.Verdict
	broken map[string]time.Time
	recent []status.Event
}

// New returns a guard that has the claims asked at once, and every so often.
func New(now time.Time, every time.Duration) *Guard {
	return &Guard{every: every, due: now, known: map[string]claims.Verdict{}, broken: map[string]time.Time{}}
}

// Due reports whether the claims are to be asked now; the next time is set by their verdict.
func (g *Guard) Due(now time.Time) bool { return !now.Before(g.due) }

// Broken returns how many claims are broken, by the last verdict.
func (g *Guard) Broken() int { return len(g.broken) }

// changes are the kinds of events after which a claim may be otherwise.
var changes = []status.Kind{
	status.Escaped,
	status.Plugged,
	status.Unplugged,
	status.Moved,
	status.Failed,
	status.Applied,
}

// Seen takes what happened in the lab: a bypass is told at once; after a change the claims are asked soon.
func (g *Guard) Seen(now time.Time, events []status.Event) (out []Entry) {
	for _, e := range events {
		if !slices.Contains(changes, e.Kind) {
			continue
		}
		kind := Changed
		if e.Kind == status.Escaped {
			kind = Bypass
		}
		out = append(out, Entry{At: e.At, Kind: kind, Guest: e.Machine, Text: e.Text, After: g.before(e.At)})
		g.recent = append(g.recent, e)
		if soon := now.Add(settles); soon.Before(g.due) {
			g.due = soon
		}
	}
	const most = 64
	g.recent = g.recent[max(len(g.recent)-most, 0):]
	return out
}

// before returns what changed shortly before a time.
func (g *Guard) before(at time.Time) (out []string) {
	for _, e := range g.recent {
		if e.Kind != status.Escaped && at.Sub(e.At) <= shortly && !slices.Contains(out, e.Text) {
			out = append(out, e.Text)
		}
	}
	return out
}

// Judged takes a verdict that was asked for, and returns what became of the claims since the last.
func (g *Guard) Judged(now time.Time, doc verdict.Document) (out []Entry) {
	g.due = now.Add(g.every)
	first := !g.began
	g.began = true
	for _, r := range doc.Claims {
		was, known := g.known[r.ID]
		g.known[r.ID] = r.Verdict
		e := Entry{At: now, Claim: r.ID, Guest: r.Guest, Text: r.Observed}
		switch {
		case known && was == r.Verdict:
			continue
		case r.Verdict == claims.Broken:
			g.broken[r.ID] = now
			e.Kind, e.After = Broke, g.before(now)
			if first {
				e.Kind, e.After = Began, nil
			}
		case was == claims.Broken:
			e.Lasts = int(now.Sub(g.broken[r.ID]).Seconds())
			delete(g.broken, r.ID)
			e.Kind = Held
			if r.Verdict == claims.Unknown {
				e.Kind = Lost
			}
		case known && r.Verdict == claims.Unknown:
			e.Kind, e.After = Lost, g.before(now)
		default:
			continue
		}
		out = append(out, e)
	}
	return out
}
