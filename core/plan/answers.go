package plan

import (
	"cmp"
	"fmt"

	"strings"

	"openbastion/core/lab"
	"openbastion/core/subnet"
)

// Answer is one question of an appliance's console or first-run pages with
// the plan's answer to it.
type Answer struct {
	Appliance *Machine
	Stage     string // console or first-run
	Question  string
	Answer    string
	Note      string
}

// Page is an admin page.
type Page struct {
	Appliance *Machine
	URL       string
	Factory   bool // before anything is set up
}

// answers fills the profile's questions in from the plan.
func (b *builder) answers() {
	for _, m := range b.plan.Appliances() {
		b.ask(m)
		b.pages(m)
	}
}

// ask fills one appliance's questions in.
func (b *builder) ask(m *Machine) {
	for _, stage := range []struct {
		name string
		list []lab.Question
	}{{"console", m.Profile.Console}, {"first-run", m.Profile.FirstRun}} {
		for rest := stage.list; len(rest) > 0; {
			n := 1 // questions of one kind in a row are asked port by port
			for n < len(rest) && rest[0].Each != "" && rest[n].Each == rest[0].Each {
				n++
			}
			for _, port := range asked(m, rest[0].Each) {
				fill := strings.NewReplacer(pairs(m, port)...)
				for _, q := range rest[:n] {
					b.plan.Answers = append(b.plan.Answers, Answer{m, stage.name, fill.Replace(q.Ask), fill.Replace(q.Answer), q.Note})
				}
			}
			rest = rest[n:]
		}
	}
}

// AnswersWith gives an appliance's questions answered with devices as they are
// really called; where one is not told it is the likely name.
func (p *Plan) AnswersWith(m *Machine, devices map[*Adapter]string) []Answer {
	for _, a := range m.Adapters {
		d, ok := devices[a]
		if carrier, has := devices[a.Over]; !ok && has {
			d, ok = a.taggedDevice(carrier), true
		}
		if ok {
			defer func(was []string) { a.Devices = was }(a.Devices)
			a.Devices = []string{d}
		}
	}
	b := builder{plan: &Plan{Lab: p.Lab, Machines: []*Machine{m}}}
	b.ask(m)
	return b.plan.Answers
}

// asked gives the ports that a question is asked for; one nil for a question
// that is asked once.
func asked(m *Machine, each string) []*Adapter {
	if each == "" {
		return []*Adapter{nil}
	}
	var list []*Adapter
	for _, a := range m.Adapters {
		if each == "wan" && a.Role == lab.WAN || each == "inside" && a.Role != lab.WAN && a.How != NoAddress || each == "tagged" && a.Over != nil {
			list = append(list, a)
		}
	}
	return list
}

// pairs gives each key of an answer with its value, as strings.Replacer wants
// them.
func pairs(m *Machine, port *Adapter) []string {
	values := map[string]string{"hostname": m.Name, "private": "no", "tags": "no", "resolver": "as the WAN lease says"}
	var inside, other []string
	first := true
	for _, a := range m.Adapters {
		name := fmt.Sprintf("%s (…%s)", a.Device(), a.MAC.Tail(2))
		switch {
		case a.Role == lab.WAN:
			if values["wan.device"] == "" {
				values["wan.device"], values["wan.how"] = name, howText(a)
				if a.Address.IsValid() {
					values["wan.address"] = a.Address.String()
				}
				values["wan.gateway"] = text(a.Gateway)
				if !subnet.Private(a.Segment.Subnet.Addr()) {
					values["private"] = "yes"
				}
				if a.How == Static && len(a.DNS) > 0 {
					values["resolver"] = strings.Join(addrTexts(a.DNS), ", ")
				}
			}
		case a.Role.Inside():
			inside = append(inside, name)
			if first {
				values["lan.device"], first = name, false
				values["lan.address"] = a.Shown()
			} else if a.Over == nil {
				other = append(other, name)
			}
		}
		if a.Over != nil {
			if values["tags"] == "no" {
				values["tags"] = "yes:"
			}
			values["tags"] += fmt.Sprintf(" %d on %s;", a.Segment.Tag, a.Over.Device())
		}
		if a.Leases != nil && values["domain"] == "" {
			values["domain"] = a.Leases.Domain
		}
	}
	values["tags"] = strings.TrimSuffix(values["tags"], ";")
	values["lan.devices"], values["other.devices"] = strings.Join(inside, ", "), cmp.Or(strings.Join(other, ", "), "none")
	if port != nil {
		values["port.name"], values["port.segment"] = port.Name, port.Segment.Name
		values["port.device"], values["port.how"] = port.Device(), howText(port)
		values["port.gateway"], values["port.tag"] = cmp.Or(text(port.Gateway), "none"), fmt.Sprint(port.Segment.Tag)
		if port.Address.IsValid() {
			values["port.address"], values["port.length"] = port.Address.Addr().String(), fmt.Sprint(port.Address.Bits())
			values["port.mask"] = subnet.Mask(port.Address.Bits())
		}
		values["port.leases"], values["port.pool.from"], values["port.pool.to"] = "no", "none", "none"
		if v := port.Leases; v != nil {
			values["port.leases"] = "yes, " + v.Pool.String()
			values["port.pool.from"], values["port.pool.to"] = v.Pool.From.String(), v.Pool.To.String()
		}
	}
	out := make([]string, 0, 2*len(lab.AnswerKeys))
	for _, k := range lab.AnswerKeys {
		out = append(out, "{"+k+"}", cmp.Or(values[k], "none"))
	}
	return out
}

func howText(a *Adapter) string {
	switch {
	case a.Port != nil && a.Port.Address.How == "pppoe":
		return "PPPoE"
	case a.How == Static:
		return "static, " + a.Address.String() + gatewayText(a)
	case a.How == NoAddress:
		return "none"
	}
	return "a lease"
}

func gatewayText(a *Adapter) string {
	if !a.Gateway.IsValid() {
		return ""
	}
	return ", gateway " + a.Gateway.String()
}

// pages lists the addresses of the appliance's admin page: where it answers
// from the factory, and as planned.
func (b *builder) pages(m *Machine) {
	url := func(host string, port int) string {
		scheme := cmp.Or(m.Profile.Factory.Scheme, "https")
		if usual := map[string]int{"https": 443, "http": 80}[scheme]; port == 0 || port == usual {
			return scheme + "://" + host + "/"
		}
		return fmt.Sprintf("%s://%s:%d/", scheme, host, port)
	}
	if f := m.Profile.Factory; f.LAN.IsValid() {
		b.plan.Pages = append(b.plan.Pages, Page{m, url(f.LAN.Addr().String(), f.AdminPort), true})
	}
	for _, a := range m.Adapters {
		if a.Admin != 0 && a.Address.IsValid() {
			b.plan.Pages = append(b.plan.Pages, Page{m, url(a.Address.Addr().String(), int(a.Admin)), false})
		}
	}
}
