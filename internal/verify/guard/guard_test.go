package guard

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"openbastion/internal/model/status"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// Metrics are lines that a monitoring system reads: undecided claims have none, and names cannot break out of theirs.
func TestMetrics(t *testing.T) {
	doc := verdict.Document{Claims: []claims.Result{
		{
			ID:      "heron.outside",
			Verdict: claims.Broken,
		}, {ID: "heron.dns", Verdict: claims.Holds}, {ID: "otter.dns", Verdict: claims.Unknown},
	}}
	assert.Equal(t, `# TYPE bastion_claim_holds gauge
# HELP bastion_claim_holds Whether a claim on the lab holds.
bastion_claim_holds{lab="salt\"marsh",claim="heron.dns"} 1
bastion_claim_holds{lab="salt\"marsh",claim="heron.outside"} 0
# TYPE bastion_claims gauge
# HELP bastion_claims How many claims have each verdict.
bastion_claims{lab="salt\"marsh",verdict="holds"} 1
bastion_claims{lab="salt\"marsh",verdict="broken"} 1
bastion_claims{lab="salt\"marsh",verdict="unknown"} 1
# TYPE bastion_checked_timestamp_seconds gauge
# UNIT bastion_checked_timestamp_seconds seconds
# HELP bastion_checked_timestamp_seconds When the claims were asked last.
bastion_checked_timestamp_seconds{lab="salt\"marsh"} 1764316800.500
# EOF
`, string(Metrics(`salt"marsh`, doc, time.UnixMilli(1764316800500))))
}

// A claim that breaks is told once, with what changed just before, and once when it holds again; a bypass at once; and a change
// has the claims asked soon, whatever the interval.
func TestGuard(t *testing.T) {
	at := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
	after := func(d time.Duration) time.Time { return at.Add(d) }
	doc := func(gateway, dns claims.Verdict) verdict.Document {
		return verdict.Document{Claims: []claims.Result{
			{
				ID:       "heron.gateway",
				Guest:    "heron",
				Verdict:  gateway,
				Observed: "seen",
			}, {ID: "heron.dns", Guest: "heron", Verdict: dns},
		}}
	}
	g := New(at, 5*time.Minute)
	assert.True(t, g.Due(at))
	assert.Equal(
		t,
		[]Entry{{At: at, Kind: Began, Claim: "heron.dns", Guest: "heron"}},
		g.Judged(at, doc(claims.Holds, claims.Broken)),
	)
	assert.False(t, g.Due(after(time.Minute)))

	unplugged := status.Event{
		At:      after(2 * time.Minute),
		Kind:    status.Unplugged,
		Machine: "sluice",
		Text:    "lan of sluice is unplugged",
	}
	flow := status.Event{At: unplugged.At, Kind: status.FlowBegun, Text: "a flow"}
	assert.Equal(t, []Entry{{At: unplugged.At, Kind: Changed, Guest: "sluice", Text: unplugged.Text}},
		g.Seen(unplugged.At, []status.Event{flow, unplugged}))
	assert.False(t, g.Due(unplugged.At), "it settles first")
	now := after(2*time.Minute + time.Second)
	assert.True(t, g.Due(now))
	assert.Equal(
		t,
		[]Entry{
			{
				At:    now,
				Kind:  Broke,
				Claim: "heron.gateway",
				Guest: "heron",
				Text:  "seen",
				After: []string{unplugged.Text},
			},
		},
		g.Judged(now, doc(claims.Broken, claims.Broken)),
	)
	assert.Empty(t, g.Judged(now, doc(claims.Broken, claims.Broken)), "once")
	assert.Equal(t, 2, g.Broken())

	now = after(10 * time.Minute)
	got := g.Seen(now, []status.Event{{At: now, Kind: status.Escaped, Machine: "otter", Text: "otter gets out"}})
	assert.Equal(
		t,
		[]Entry{{At: now, Kind: Bypass, Guest: "otter", Text: "otter gets out"}},
		got,
		"nothing changed shortly before",
	)
	assert.Equal(t, []Entry{
		{At: now, Kind: Held, Claim: "heron.gateway", Guest: "heron", Text: "seen", Lasts: 479},
		{At: now, Kind: Lost, Claim: "heron.dns", Guest: "heron", Lasts: 600},
	}, g.Judged(now, doc(claims.Holds, claims.Unknown)))
	assert.Zero(t, g.Broken())
	assert.Equal(t, Lost, g.Judged(now, doc(claims.Unknown, claims.Unknown))[0].Kind)
}
