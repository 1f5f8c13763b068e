// Package status is what a lab that runs says of itself: its machines, what was leased,
// which rules were hit, what is translated, and what was refused.
package status

import (
	"net/netip"
	"time"

	"openbastion/internal/model/mac"
)

// Schema names the document.
const Schema = "openbastion.status/1"

// Phase is how far a lab is.
type Phase string

// The phases of a lab. Ended is one whose supervising process is gone without having
// been told to stop.
const (
	Starting Phase = "starting"
	Running  Phase = "running"
	Stopping Phase = "stopping"
	Ended    Phase = "ended"
)

// Lab is the whole document. Its lists are never nil.
type Lab struct {
	Schema   string    `json:"schema"`
	Lab      string    `json:"lab"`
	File     string    `json:"file"`
	Plan     string    `json:"plan,omitempty"` // the fingerprint of the plan that runs
	Stage    string    `json:"stage"`
	Phase    Phase     `json:"phase"`
	Since    time.Time `json:"since"`
	Process  int       `json:"process"`           // the supervising process
	Changed  bool      `json:"changed"`           // the file is another than the one that was started
	Failure  string    `json:"failure,omitempty"` // why it no longer runs as it should
	Machines []Machine `json:"machines"`
	Segments []Segment `json:"segments"`
	Leases   []Lease   `json:"leases"`
	Rules    []Rule    `json:"rules"`
	Flows    []Flow    `json:"flows"`
	Log      []Logged  `json:"log"`
	Escapes  []Escape  `json:"escapes"`
	Checked  *Checked  `json:"checked,omitempty"` // the claims as they were judged last; absent: they were not yet
	Notes    []string  `json:"notes"`
}

// Drift is a difference between a machine and the plan.
type Drift struct {
	Machine string `json:"machine"`
	Found   string `json:"found"`
	Remedy  string `json:"remedy"` // what is done about it, or is to be done by hand
	Undo    bool   `json:"undo"`   // it can be put back as it was found
}

// Machine is a machine of the lab.
type Machine struct {
	Name     string    `json:"name"`
	Kind     string    `json:"kind"`   // appliance or guest
	How      string    `json:"method"` // kernel, simulated or off
	Adapters []Adapter `json:"adapters"`
}

// Adapter is what a machine's adapter has and has carried.
type Adapter struct {
	Number   int            `json:"number"`
	Name     string         `json:"name"`
	Device   string         `json:"device"`
	MAC      mac.Address    `json:"mac"`
	Segment  string         `json:"segment"`
	Plugged  bool           `json:"plugged"`
	Address  netip.Prefix   `json:"address"`
	IPv6     []netip.Prefix `json:"ipv6"`
	Gateway  netip.Addr     `json:"gateway"`
	Received Traffic        `json:"received"`
	Sent     Traffic        `json:"sent"`
}

// Traffic is how much went one way, since the start.
type Traffic struct {
	Packets uint64 `json:"packets"`
	Bytes   uint64 `json:"bytes"`
}

// Segment is what a segment has carried.
type Segment struct {
	Name    string  `json:"name"`
	How     string  `json:"method"` // bridge or switch
	Carried Traffic `json:"carried"`
}

// Lease is an address that is handed out.
type Lease struct {
	Segment  string      `json:"segment"`
	Server   string      `json:"server"`
	Address  netip.Addr  `json:"address"`
	MAC      mac.Address `json:"mac"`
	Hostname string      `json:"hostname"`
	Until    time.Time   `json:"until,omitzero"`
}

// Rule is one of an appliance's rules, with what it was hit by. Number 0 is what no
// rule names: the end of the list.
type Rule struct {
	Appliance string  `json:"appliance"`
	Number    int     `json:"number"`
	Text      string  `json:"text"`
	Blocks    bool    `json:"blocks"` // it stops what it matches
	Hits      Traffic `json:"hits"`
}

// Flow is a conversation that an appliance knows, and what it makes of it.
type Flow struct {
	Appliance  string         `json:"appliance"`
	Protocol   string         `json:"protocol"`
	From       netip.AddrPort `json:"from"`
	To         netip.AddrPort `json:"to"`
	AnswerFrom netip.AddrPort `json:"answer_from"` // whom the far end answers as
	AnswerTo   netip.AddrPort `json:"answer_to"`   // whom it sees
	Packets    uint64         `json:"packets"`
	Bytes      uint64         `json:"bytes"`
}

// Translated reports whether it is a flow whose ends are seen otherwise on the far side.
func (f Flow) Translated() bool { return f.AnswerTo != f.From || f.AnswerFrom != f.To }

// Logged is a packet that a rule with log was hit by.
type Logged struct {
	At        time.Time      `json:"time"`
	Appliance string         `json:"appliance"`
	Rule      string         `json:"rule"`
	In        string         `json:"in"`
	Out       string         `json:"out"`
	Protocol  string         `json:"protocol"`
	From      netip.AddrPort `json:"from"`
	To        netip.AddrPort `json:"to"`
}

// Escape is a frame of a guest that was seen beyond the appliance without having gone
// through it.
type Escape struct {
	At      time.Time `json:"time"`
	Guest   string    `json:"guest"`
	Segment string    `json:"segment"`
	Packet  string    `json:"packet"`
}
