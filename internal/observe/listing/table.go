package listing

import (
	"slices"
	"strings"
)

// table is the columns under a heading.
type table struct {
	columns []column
	routes  bool // it tells ways
	around  bool // it tells neighbors
	line    string
	rows    int
}

type column struct {
	name  string
	is    field
	start int
}

var cells = form(`\S+(?: \S+)*`)

// plainColumns are names of columns that say nothing of an interface.
var plainColumns = form(
	`^(name|status|state|type|typ|tipo|mtu|metric|metrik|flags|ref|refs|use|expire|speed|link ?speed|protocol|proto|method|ok|index|idx|` +
		`if ?index|scope|family|window|irtt|mss|iface|zone|no|nr|num|vendor|driver|route ?metric|is ?management ?os|port|age|hw ?type|media|comment|policy ?store|` +
		`start|starts|end|ends|online|host|expires|expiry|lease|lease ?start|lease ?end|remaining|client|ablauf|beginn|ende|debut|fin|scadenza|expira|` +
		`description|interface description|server addresses|address family|mode|nameif|security|ip ?addresses|prefix ?origin|suffix ?origin|address ?state)$`,
)

// heading begins a table when a line is names of columns.
func (r *reader) heading(line string, words []word) bool {
	for _, w := range words {
		if w.kind != plainWord && w.kind != arrow || w.label {
			return false
		}
	}
	line = strings.ReplaceAll(line, "\t", "    ")
	spans := cells.FindAllStringIndex(line, -1)
	if strings.Contains(line, "|") {
		spans = nil
		at := 0
		for _, part := range strings.Split(line, "|") {
			if t := strings.TrimSpace(part); t != "" {
				spans = append(spans, []int{at + strings.Index(part, t), at + strings.Index(part, t) + len(t)})
			}
			at += len(part) + 1
		}
	}
	if len(spans) < 2 {
		if spans = single.FindAllStringIndex(line, -1); len(spans) < 4 || line[0] == ' ' {
			return false
		}
	}
	t := &table{line: line}
	for _, s := range spans {
		name := line[s[0]:s[1]]
		if isColumn(name) {
			t.add(name, s[0])
			continue
		}
		for _, w := range single.FindAllStringIndex(name, -1) { // names with one space between
			if !isColumn(name[w[0]:w[1]]) || !strings.Contains(name, " ") {
				return false
			}
			t.add(name[w[0]:w[1]], s[0]+w[0])
		}
	}
	if useful := slices.DeleteFunc(slices.Clone(t.columns), func(c column) bool {
		return c.is == noField ||
			c.is == ignored
	}); len(useful) < 2 &&
		len(t.columns) < 4 {
		return false
	}
	t.settle()
	r.table, r.now, r.last = t, nil, noField
	return true
}

// settle decides what columns are whose names say little: a name beside an adapter of its own is a
// machine's; an address with a hardware address and a time is a lease.
func (t *table) settle() {
	at := func(names ...string) int {
		return slices.IndexFunc(t.columns, func(c column) bool { return slices.Contains(names, foldLabel(c.name)) })
	}
	if name, adapter := at("name", "nom", "nombre", "nome"), at("adapter", "network adapter", "nic", "netzwerkadapter"); name >= 0 &&
		adapter > name {
		t.columns[name].is = machine
		if t.columns[adapter].is == deviceField {
			t.columns[adapter].is = nameField
		}
	}
	has := func(f field) bool {
		return slices.ContainsFunc(t.columns, func(c column) bool { return c.is == f })
	}
	if has(ownAddress) && has(hardware) &&
		at(
			"start",
			"end",
			"expires",
			"expiry",
			"ends",
			"starts",
			"lease",
			"lease end",
			"lease start",
			"remaining",
			"ablauf",
			"beginn",
			"ende",
			"debut",
			"fin",
			"expira",
			"scadenza",
			"online",
		) >= 0 {
		t.around = true
	}
}

var (
	single = form(`\S+`)
	dashes = form(`-+`)
)

func isColumn(name string) bool {
	return !isDevice(name) &&
		(foldLabel(name) == "" || fieldOf(name) != noField || plainColumns.MatchString(foldLabel(name)))
}

// add adds a column by its name.
func (t *table) add(name string, start int) {
	c := column{name, fieldOf(name), start}
	folded := foldLabel(name)
	switch {
	case strings.Contains(folded, "internet"):
		c.is = neighborIP
	case folded == "name" || folded == "nom" || folded == "nombre" || folded == "nome":
		c.is = nameField
	case folded == "method":
		c.is = leased
	case folded == "ip addresses" || folded == "ipaddresses":
		c.is = ownAddress
	case folded == "server addresses" || folded == "serveraddresses":
		c.is = resolver
	case strings.Contains(folded, "port") && folded != "port group":
		c.is = deviceField
	}
	t.routes = t.routes || c.is == destination
	t.around = t.around || c.is == neighborIP || folded == "hwtype"
	t.columns = append(t.columns, c)
}

// ruled takes the columns from the rule under a heading, where each has one of its
// own: names may hold single spaces.
func (t *table) ruled(rule string) {
	spans := dashes.FindAllStringIndex(rule, -1)
	if len(spans) < 2 || strings.Trim(rule, "- ") != "" {
		return
	}
	was := t.line
	*t = table{line: was}
	for i, s := range spans {
		end := len(was)
		if i+1 < len(spans) {
			end = min(end, spans[i+1][0])
		}
		if s[0] < end {
			t.add(strings.TrimSpace(was[s[0]:end]), s[0])
		}
	}
	t.settle()
}

// row reads a line under a heading; false when it is none.
func (r *reader) row(line string, words []word) bool {
	t := r.table
	if strings.Trim(line, " -=+|_\t") == "" { // a rule under the heading
		if t.rows == 0 {
			t.ruled(line)
		}
		return true
	}
	values := 0
	for _, w := range words {
		if w.kind != plainWord && w.kind != arrow || isDevice(w.text) || isNothing(w.text) {
			values++
		}
	}
	if values == 0 && t.rows == 0 && len(words) <= len(t.columns)+1 &&
		!slices.ContainsFunc(words, func(w word) bool { return w.label }) {
		return true // the heading goes on
	}
	t.rows++
	if values == 0 ||
		t.routes && words[0].kind == plainWord && !words[0].is("default", "on-link") && !isDevice(words[0].text) &&
			!isCount(words[0].text) {
		return false
	}
	cellOf := t.cells(line)
	switch {
	case t.routes:
		r.routeRow(cellOf, words)
	case t.around:
		r.neighborRow(words)
	default:
		r.interfaceRow(cellOf)
	}
	return true
}

var adapterWords = form(`(?i)^(?:(?:network|virtual|ethernet|netzwerk)[ -]?)*(?:adapter|nic|karte|interface)$`)

func isCount(w string) bool { return strings.Trim(w, "0123456789") == "" && w != "" }

func isNothing(w string) bool { return w == "-" || w == "—" || strings.EqualFold(w, "unassigned") }

// cells returns what a row has in each column: by spaces where they are as many as the
// columns, else by where it stands.
func (t *table) cells(line string) []string {
	line = strings.ReplaceAll(line, "\t", "    ")
	if strings.Contains(line, "|") {
		var out []string
		for _, part := range strings.Split(strings.Trim(line, "| "), "|") {
			out = append(out, strings.TrimSpace(part))
		}
		if len(out) == len(t.columns) {
			return out
		}
	}
	spans := cells.FindAllStringIndex(line, -1)
	if len(spans) != len(t.columns) {
		spans = single.FindAllStringIndex(line, -1)
	}
	out := make([]string, len(t.columns))
	for i, s := range spans {
		at := i
		if len(spans) != len(t.columns) {
			at = t.near(s[0], s[1])
		}
		out[at] = strings.TrimSpace(out[at] + " " + line[s[0]:s[1]])
	}
	return out
}

// near returns the column that a span of a row stands under: the one whose name it
// overlaps, else the last that begins before it.
func (t *table) near(from, to int) int {
	best := 0
	for i, c := range t.columns {
		if from < c.start+len(c.name) && c.start < to {
			return i
		}
		if c.start <= from {
			best = i
		}
	}
	return best
}

// routeRow takes a row of a routing table.
func (r *reader) routeRow(cellOf []string, words []word) {
	r.out.RoutesHere, r.used = true, true
	everywhere := false
	by, device := word{}, ""
	for i, text := range cellOf {
		switch list := split(text); r.table.columns[i].is {
		case destination:
			everywhere = everywhere || strings.HasPrefix(text, "0.0.0.0") || strings.HasPrefix(text, "default")
		case gateway:
			if len(list) > 0 && list[0].kind == addressWord {
				by = list[0]
			}
		case deviceField, nameField:
			if isDevice(text) {
				device = text
			}
		}
	}
	if device == "" {
		device = lastDevice(words)
	}
	if everywhere && by.address.IsValid() {
		if r.now = nil; device != "" {
			r.start(device, "", 0)
		}
		r.apply(gateway, by)
		r.now = nil
	}
}

func lastDevice(words []word) string {
	for i := len(words) - 1; i > 0; i-- {
		if words[i].kind == plainWord && isDevice(words[i].text) {
			return words[i].text
		}
	}
	return ""
}

func (r *reader) neighborRow(words []word) {
	r.used = true
	n := Neighbor{Line: r.n}
	for _, w := range words {
		switch w.kind {
		case addressWord:
			if n.Address.IsValid() {
				continue
			}
			n.Address = w.address
		case macWord:
			n.Tail = w.digits
		}
	}
	r.neighbor(n)
}

func (r *reader) neighbor(n Neighbor) {
	if n.Address.IsValid() && n.Tail != "" && len(r.out.Neighbors) < maxKept {
		r.out.Neighbors = append(r.out.Neighbors, n)
	}
}

// interfaceRow takes a row about an interface.
func (r *reader) interfaceRow(cellOf []string) {
	r.used = true
	device, label, number, name := "", "", 0, ""
	for i, text := range cellOf {
		switch r.table.columns[i].is {
		case deviceField:
			for _, w := range split(text) {
				switch {
				case w.kind != plainWord:
				case isRole(w.text) && label == "":
					label = w.text
				case isCount(w.text) && number == 0:
					number = tagOf(w.text)
				case device == "" && !isRole(w.text):
					device = w.text
				}
			}
		case roleField:
			label = text
		case machine:
			name = text
		case nameField:
			switch m := adapterName.FindStringSubmatch(text); {
			case m != nil:
				number = tagOf(m[2])
			case adapterWords.MatchString(text):
			case isDevice(text) && device == "":
				device = text
			case isRole(text) && label == "":
				label = text
			case device == "":
				device = text
			}
		}
	}
	if isNothing(device) || isCount(device) {
		device = ""
	}
	was, t := r.machine, r.table
	if name != "" {
		r.named(name)
		r.table = t
	}
	defer func() { r.machine, r.now = was, nil }()
	r.start(device, label, number)
	for i, text := range cellOf {
		r.cell(r.table.columns[i].is, text)
	}
}

// cell takes what a row has in one column.
func (r *reader) cell(f field, text string) {
	switch f {
	case link, leased, network, vlan, mask, attachedAs, trunk:
		list := split(text)
		switch {
		case r.now == nil:
		case f == mask && len(list) == 1 && list[0].kind == maskWord:
			r.apply(mask, list[0])
		case len(list) == 0 || list[0].kind == plainWord: // the network's own address is none of the interface
			r.value(f, text)
		}
		return
	case roleField, machine, ignored:
		return
	case deviceField, nameField:
		f = noField
	}
	list := split(text)
	if nothing(text) || len(list) == 0 {
		r.none(f)
		return
	}
	for _, w := range list {
		if w.kind != plainWord && (f != noField || w.kind == macWord || w.kind == prefixWord) {
			r.apply(f, w)
		}
	}
}
