package identify

import (
	"bytes"
	"fmt"
	"net/netip"
	"regexp"
	"strings"
	"sync"

	"openbastion/internal/model/lab"
	"openbastion/internal/observe/listing"
)

// pair of addresses as a pool is shown: first and last with a dash or a word between.
var ranges = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(\d+\.\d+\.\d+\.\d+)\s*(?:-|–|to|\.\.+)\s*(\d+\.\d+\.\d+\.\d+)`)
})

// buses are the adapter models that a system has a driver's name for, by the start of the device's.
var buses = map[string]string{"vtnet": "virtio", "virtio": "virtio", "em": "e1000", "igb": "e1000", "vmx": "vmxnet3"}

// Factory is what an appliance's own console shows of how it comes.
type Factory struct {
	System  listing.System
	Devices map[string]string // by adapter model: the name, # for the number from 0
	Seen    []string          // devices whose model the name does not tell
	Roles   []lab.Role        // of the adapters, in their order
	LAN     netip.Prefix      // its address inside; invalid: none, or several
	Pool    [2]netip.Addr     // first and last; invalid: not shown
}

// ReadFactory returns what a paste from the console of an appliance that nobody has set up yet shows.
// Nothing is concluded beyond it: an address without a role is nobody's.
func ReadFactory(text string) Factory {
	l := listing.Read(text)
	f := Factory{System: l.System, Devices: map[string]string{}}
	inside := 0
	for _, i := range l.Interfaces {
		role := roleOf(i.Label)
		if role == "" && i.Device == "" {
			continue
		}
		if role != "" {
			f.Roles = append(f.Roles, role)
		}
		f.device(i.Device)
		if role == lab.LAN && len(i.Addresses) > 0 && i.Addresses[0].Masked {
			inside++
			f.LAN = i.Addresses[0].Prefix
		}
	}
	if inside != 1 {
		f.LAN = netip.Prefix{}
	}
	for _, m := range ranges().FindAllStringSubmatch(text, -1) {
		from, err1 := netip.ParseAddr(m[1])
		to, err2 := netip.ParseAddr(m[2])
		if err1 == nil && err2 == nil && from.Less(to) && f.LAN.IsValid() && f.LAN.Contains(from) &&
			f.LAN.Contains(to) {
			f.Pool = [2]netip.Addr{from, to}
		}
	}
	return f
}

// device notes how the system names an adapter.
func (f *Factory) device(name string) {
	stem := strings.TrimRight(name, "0123456789")
	if stem == "" || stem == name {
		return
	}
	if model := buses[stem]; model != "" {
		f.Devices[model] = stem + "#"
		return
	}
	f.Seen = append(f.Seen, name)
}

// Fill writes what was seen into an empty profile, in the place of its comments.
func (f Factory) Fill(profile []byte) []byte {
	set := func(comment, line string) {
		profile = bytes.Replace(profile, []byte(comment), []byte(line), 1)
	}
	if f.System == listing.Linux || f.System == listing.BSD {
		set("# system: linux\n", fmt.Sprintf("system: %s\n", f.System))
	}
	if len(f.Devices) > 0 {
		text := "devices:\n"
		for _, model := range []string{"virtio", "e1000", "vmxnet3"} {
			if name := f.Devices[model]; name != "" {
				text += fmt.Sprintf("  %s: ['%s']\n", model, name)
			}
		}
		set("# devices:\n#   virtio: [eth#]\n#   e1000: [eth#]\n", text)
	} else if len(f.Seen) > 0 {
		set("# devices:\n", "# Its console shows "+strings.Join(f.Seen, ", ")+": write that below the adapter model it has.\n# devices:\n")
	}
	if len(f.Roles) > 0 {
		var words []string
		for _, r := range f.Roles {
			words = append(words, string(r))
		}
		set("# roles: [wan, lan, dmz]\n", "roles: ["+strings.Join(words, ", ")+"]\n")
	}
	if f.LAN.IsValid() {
		set("# factory:\n#   lan: ADDRESS/LENGTH  ", "factory:\n  lan: "+f.LAN.String()+"  ")
		if f.Pool[0].IsValid() {
			set("#   pool: FIRST-LAST  ", "  pool: "+f.Pool[0].String()+"-"+f.Pool[1].String()+"  ")
		}
	}
	return profile
}
