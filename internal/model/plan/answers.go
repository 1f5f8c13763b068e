package plan

import (
	"cmp"
	"fmt"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/subnet"
)

// Answer is one question that an appliance must have answered, in our words,
// with the plan's answer to it.
type Answer struct {
	Appliance *Machine
	Stage     string // console or pages
	Topic     lab.Topic
	Port      *Adapter // nil for a question about the whole machine
	About     string   // the port or the machine, as a person tells it from others
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

// answers answers every appliance's questions from the plan.
func (b *builder) answers() {
	for _, m := range b.plan.Appliances() {
		b.plan.Answers = append(b.plan.Answers, b.plan.AnswersWith(m, nil)...)
		b.pages(m)
	}
}

// answersOf answers the questions of one appliance, in the order in which its
// profile asks for their topics; topics of ports that stand in a row are
// answered port by port. devices are those that are known, not only likely.
func answersOf(m *Machine, devices map[*Adapter]string) []Answer {
	var out []Answer
	for _, stage := range []struct {
		name   string
		topics []lab.Topic
	}{{"console", m.Facts.Console}, {"pages", m.Facts.Pages}} {
		add := func(a Answer) {
			if a.Question == "" {
				return
			}
			a.Appliance, a.Stage = m, stage.name
			if words := m.Facts.Asks[a.Topic]; words != "" {
				a.Note = strings.TrimSpace(fmt.Sprintf("Prompt: %s. %s", strings.TrimRight(words, ".?:"), a.Note))
			}
			out = append(out, a)
		}
		for rest := stage.topics; len(rest) > 0; {
			n := 0
			for n < len(rest) && rest[n].ByPort() {
				n++
			}
			if n == 0 {
				add(aboutMachine(m, rest[0]))
				rest = rest[1:]
				continue
			}
			for _, port := range m.Adapters {
				for _, topic := range rest[:n] {
					add(aboutPort(port, topic, devices))
				}
			}
			rest = rest[n:]
		}
	}
	return out
}

// Whole returns the question with what it is about.
func (a Answer) Whole() string { return a.About + ": " + a.Question }

// AnswersWith returns an appliance's questions answered with devices and hardware
// addresses as they really are; where one is not told it is the likely name, and the
// planned address. A guest asks none.
func (p *Plan) AnswersWith(m *Machine, told map[*Adapter]Real) []Answer {
	if m.Facts == nil {
		return nil
	}
	devices := map[*Adapter]string{}
	for _, a := range m.Adapters {
		if seen := a.Seen(); seen != "" {
			devices[a] = seen
		}
	}
	for a, is := range told {
		if is.Device != "" {
			devices[a] = is.Device
		}
		if !is.MAC.IsZero() {
			defer func(was mac.Address) { a.MAC = was }(a.MAC)
			a.MAC = is.MAC
		}
	}
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
	return answersOf(m, devices)
}

// aboutPort answers what is asked about one port; the zero Answer when the
// topic does not concern it.
func aboutPort(a *Adapter, topic lab.Topic, devices map[*Adapter]string) Answer {
	about := fmt.Sprintf("Adapter %d (…%s)", a.Number, a.MAC.Tail(2))
	if a.Over != nil {
		about = fmt.Sprintf("Tag %d on adapter %d (%s)", a.Segment.Tag, a.Number, a.Name)
	}
	put := func(question, answer, note string) Answer {
		return Answer{Topic: topic, Port: a, About: about, Question: question, Answer: answer, Note: note}
	}
	if a.Role == "" {
		if topic != lab.Side {
			return Answer{}
		}
		return put("which side?", "not decided yet", "")
	}
	if a.Role == lab.Unused {
		if topic != lab.Side {
			return Answer{}
		}
		return put("which side?", "none: it is not used", "")
	}
	switch topic {
	case lab.Side:
		answer := fmt.Sprintf("%s, on %s", a.Role, a.Segment.Name)
		if d := devices[a]; d != "" {
			answer += "; it is " + d
		} else if devices[a.Over] != "" {
			answer += "; it is " + a.Devices[0]
		} else if len(a.Devices) > 0 {
			answer += "; likely called " + a.Devices[0]
		}
		return put("which side?", answer, "Identify interfaces by MAC address (last two bytes), not by order.")
	case lab.Tags:
		if a.Over != nil {
			return Answer{}
		}
		if tags := a.tags(); tags != "" {
			return put("which VLAN tags does it carry?", tags, "")
		}
		return put("which VLAN tags does it carry?", "none", "")
	case lab.Way:
		note := ""
		if a.Role == lab.WAN && a.How == FromAbove && a.Port.Address.How != "pppoe" && a.Segment.Lab.Join != "nat" {
			note = "It can change. If it must not, reserve it on the router; do not set an address from the router's pool."
		}
		return put("how does it get its address?", howText(a), note)
	case lab.Addressed:
		if a.How != Static || !a.Address.IsValid() {
			return Answer{}
		}
		note := "An inside port has no gateway; one here sends traffic the wrong way."
		if a.Role == lab.WAN || a.Gateway.IsValid() {
			note = ""
		}
		if a.Unknown() {
			return put("its address and length?", "a free address of "+a.Segment.Name+" outside the router's pool, "+gatewayText(a), note)
		}
		return put(
			"its address and length?",
			fmt.Sprintf("%s (mask %s), %s", a.Address, subnet.Mask(a.Address.Bits()), gatewayText(a)),
			note,
		)
	case lab.Leasing:
		if a.Role == lab.WAN || a.How == NoAddress {
			return Answer{}
		}
		if v := a.Leases; v != nil && v.unknown(a.Segment) {
			return put("does it serve DHCP, from where to where?", "yes, a free range of "+a.Segment.Name, "")
		} else if v != nil {
			return put(
				"does it serve DHCP, from where to where?",
				fmt.Sprintf("yes, from %s to %s", v.Pool.From, v.Pool.To),
				"",
			)
		}
		return put("does it serve DHCP, from where to where?", "no", "")
	}
	return Answer{}
}

// tags lists the tags that a port carries for others, each with its name.
func (a *Adapter) tags() string {
	var list []string
	for _, o := range a.Riders {
		list = append(list, fmt.Sprintf("%d (%s, on %s)", o.Segment.Tag, o.Name, o.Segment.Name))
	}
	return strings.Join(list, ", ")
}

// aboutMachine answers what is asked about the whole machine.
func aboutMachine(m *Machine, topic lab.Topic) Answer {
	out := Answer{Topic: topic, About: m.Name}
	switch topic {
	case lab.Named:
		out.Question, out.Answer = "domain name?", m.Name
		for _, a := range m.Adapters {
			if a.Leases != nil && a.Leases.Domain != "" {
				out.Answer += ", in the domain " + a.Leases.Domain
				break
			}
		}
	case lab.Resolvers:
		out.Question, out.Answer = "where does it look names up?", "the DNS servers from the WAN's DHCP"
		for _, a := range m.Adapters {
			if a.How == Static && len(a.DNS) > 0 && a.DNS[0].IsValid() && !a.Segment.Unknown() {
				out.Answer = "at " + strings.Join(addrTexts(a.DNS), ", ")
				break
			}
		}
	case lab.Private:
		if wans := m.WAN(); len(wans) > 0 {
			out.Question, out.Answer = "does it drop packets from private sources on WAN?", "yes"
			switch {
			case wans[0].Segment.Unknown():
				out.Answer = "no, if your WAN address is private; otherwise yes"
			case subnet.Private(wans[0].Segment.Subnet.Addr()):
				out.Answer, out.Note = "no", "This WAN is on private addresses itself, and must not drop them."
			}
		}
	case lab.Change:
		if len(m.Facts.Change) > 0 {
			out.Question, out.Answer = "what is changed first?", strings.Join(m.Facts.Change, ", ")
		}
	}
	return out
}

func howText(a *Adapter) string {
	switch {
	case a.Port != nil && a.Port.Address.How == "pppoe":
		return "by PPPoE, with the line's name and password"
	case a.How == Static:
		return "static"
	case a.How == NoAddress:
		return "it has none"
	}
	return "by DHCP"
}

func gatewayText(a *Adapter) string {
	switch {
	case !a.Gateway.IsValid():
		return "no gateway"
	case !a.KnownGateway().IsValid():
		return "gateway: the router's address there"
	}
	return "gateway " + a.Gateway.String()
}

// pages lists where the appliance is managed: from the factory, and as planned.
func (b *builder) pages(m *Machine) {
	url := func(host string, s lab.AdminService) string {
		if usual := (lab.AdminService{Scheme: s.Scheme, Port: map[string]uint16{"https": 443, "http": 80, "ssh": 22,
			"telnet": 23}[s.Scheme]}); s == usual {
			return s.Scheme + "://" + host + "/"
		}
		return fmt.Sprintf("%s://%s:%d/", s.Scheme, host, s.Port)
	}
	scheme := cmp.Or(m.Facts.Factory.Scheme, "https")
	if f := m.Facts.Factory; f.LAN.IsValid() {
		at := lab.AdminService{Scheme: scheme, Port: uint16(f.AdminPort)}
		if f.AdminPort == 0 {
			at.Port = map[string]uint16{"https": 443, "http": 80}[scheme]
		}
		b.plan.Pages = append(b.plan.Pages, Page{m, url(f.LAN.Addr().String(), at), true})
	}
	for _, a := range m.Adapters {
		for _, s := range a.Admin {
			if a.Address.IsValid() && !a.Unknown() {
				b.plan.Pages = append(b.plan.Pages, Page{m, url(a.Address.Addr().String(), s), false})
			}
		}
	}
}
