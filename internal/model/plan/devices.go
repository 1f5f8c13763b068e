package plan

import (
	"cmp"
	"fmt"
	"strings"
	"sync"

	"openbastion/internal/model/lab"
)

// guestDevices are what systems of guests call their adapters, by family and
// model, likeliest first.
var guestDevices = sync.OnceValue(func() map[string]*lab.Profile {
	return map[string]*lab.Profile{
		"linux":   {Devices: map[string][]string{"virtio": {"enp%s0", "eth#"}, "e1000": {"enp0s%", "eth#"}}},
		"bsd":     {Devices: map[string][]string{"virtio": {"vtnet#"}, "e1000": {"em#"}}},
		"desktop": {Devices: map[string][]string{"virtio": {"Ethernet %"}, "e1000": {"Ethernet %"}}},
	}
})

// devices notes what each adapter will likely be called by its machine's
// system, and how to attach it, in plain words.
func (b *builder) devices() {
	for _, a := range b.plan.Adapters {
		profile := a.Machine.Profile
		if g := a.Machine.Guest; g != nil {
			if profile = guestDevices()[g.System]; profile == nil {
				profile = guestDevices()["linux"]
			}
		}
		a.Devices = profile.Device(a.NIC, a.Number)
		if seen := a.Seen(); seen != "" {
			a.Devices = []string{seen}
		} else if a.Over != nil && a.Over.Seen() != "" {
			a.Devices = []string{a.Over.Seen()}
		}
		if a.Over != nil && a.Seen() == "" {
			for i, d := range a.Devices {
				a.Devices[i] = a.taggedDevice(d)
			}
		}
		a.Attach = b.attach(a)
	}
}

// taggedDevice returns the name of a port over another whose device is known.
func (a *Adapter) taggedDevice(device string) string {
	form := cmp.Or(a.Machine.Profile.Tagged, "DEVICE.TAG")
	return strings.NewReplacer("DEVICE", device, "TAG", fmt.Sprint(a.Segment.Tag)).Replace(form)
}

// TaggedName returns what the machine's system calls a port over another.
func (a *Adapter) TaggedName() string { return a.taggedDevice(a.Over.Device()) }

// Seen returns what the machine's system calls the adapter, as the file says it was
// seen; empty while nobody knows.
func (a *Adapter) Seen() string {
	if a.Port != nil {
		return a.Port.Device
	}
	return a.Guest.Device
}

// Call has the plan go by what interfaces of adapters are really called.
func (p *Plan) Call(devices map[*Adapter]string) {
	if len(devices) == 0 {
		return
	}
	for a, device := range devices {
		if a.Port != nil {
			a.Port.Device = device
		} else {
			a.Guest.Device = device
		}
	}
	b := &builder{plan: p, lab: p.Lab}
	b.devices()
	p.Answers, p.Pages = nil, nil
	b.answers()
}

// Device returns the likeliest name of the adapter in its system, or "adapter N".
func (a *Adapter) Device() string {
	if len(a.Devices) > 0 {
		return a.Devices[0]
	}
	return fmt.Sprintf("adapter %d", a.Number)
}

func (b *builder) attach(a *Adapter) string {
	if a.Over != nil {
		return fmt.Sprintf("nothing to attach: tag %d on adapter %d", a.Segment.Tag, a.Number)
	}
	s := a.Segment
	root := s.Wire.Root()
	var text string
	switch {
	case a.Role == lab.Unused:
		text = "unplugged: it is not used"
	case s.Nowhere(), a.Port != nil && a.Role == "":
		text = "not decided yet"
	case root.Reach == lab.Upstream && root.Lab.Join == "nat":
		text = "NAT by the host"
	case root.Reach == lab.Upstream && root.Lab.Uplink != "":
		text = "bridged to " + root.Lab.Uplink
	case root.Reach == lab.Upstream:
		text = "bridged to the host's uplink"
	case root.Reach == lab.Host:
		text = "host-only network " + root.Called()
	default:
		text = "isolated network " + root.Called()
		if root.Lab.Uplink != "" {
			text += ", with " + root.Lab.Uplink + " on it"
		}
	}
	if s.Tag != 0 {
		text += fmt.Sprintf(", access tag %d", s.Tag)
	}
	var tags []string
	for _, o := range a.Riders {
		tags = append(tags, fmt.Sprint(o.Segment.Tag))
	}
	if tags != nil {
		text += ", trunk with tag " + strings.Join(tags, ", ")
	}
	return text
}

// Linux returns the likely name of the adapter on a Linux machine, also where
// nothing returns what the machine's system calls it.
func (a *Adapter) Linux() string {
	d := a.Device()
	if strings.Contains(d, " ") {
		if d = fmt.Sprintf("eth%d", a.Number-1); a.Over != nil {
			d += fmt.Sprintf(".%d", a.Segment.Tag)
		}
	}
	return d
}
