package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/internal/model/lab"
)

// topic makes a page of help that is no command.
func topic(name, short, long string) *cobra.Command {
	return &cobra.Command{Use: name, Short: short, Long: long}
}

func (a *app) labTopic() *cobra.Command {
	return topic(
		"lab-file",
		"Every key of the lab file",
		`The lab file is YAML. All that it does not say is planned. The shortest whole
lab:

  bastion: 1
  lab: saltmarsh
  segments:
    causeway: {reach: upstream}
    reedbed: {reach: isolated}
  appliances:
    sluice:
      ports:
        - {role: wan, segment: causeway}
        - {role: lan, segment: reedbed}
  guests:
    heron: reedbed

Names are a small letter, then small letters, digits and hyphens. A port over
another is a tagged interface of that one's adapter. "bastion schema" gives the
same for an editor; "bastion demo --dir DIR" leaves a commented lab.

Keys:
`+strings.TrimRight(keys(lab.Schema(), 1), "\n"),
	)
}

// keys lists the keys of a schema with what each says, an inner one further in.
func keys(schema map[string]any, depth int) string {
	var b strings.Builder
	properties, _ := schema["properties"].(map[string]any)
	for _, name := range slices.Sorted(maps.Keys(properties)) {
		p, _ := properties[name].(map[string]any)
		lead := strings.Repeat("  ", depth) + name
		text, _ := p["description"].(string)
		if list := words(p); list != "" {
			text = strings.TrimSuffix(text, ".") + ": " + list + "."
		}
		lines := wrap(text, 76-max(len(lead), 24)-2)
		fmt.Fprintf(&b, "%-24s  %s\n", lead, strings.Join(lines, "\n"+strings.Repeat(" ", max(len(lead), 24)+2)))
		for _, inner := range held(p) {
			b.WriteString(keys(inner, depth+1))
		}
	}
	return b.String()
}

// words returns what a key's value may be, where the schema lists it.
func words(p map[string]any) string {
	list, _ := p["enum"].([]string)
	if list == nil {
		for _, v := range anys(p["enum"]) {
			list = append(list, fmt.Sprint(v))
		}
	}
	return strings.Join(list, ", ")
}

func anys(v any) []any { list, _ := v.([]any); return list }

// held returns the schemas of the objects that a value holds.
func held(p map[string]any) []map[string]any {
	var out []map[string]any
	add := func(v any) {
		if m, ok := v.(map[string]any); ok {
			if _, has := m["properties"]; has {
				out = append(out, m)
			} else {
				out = append(out, held(m)...)
			}
		}
	}
	if _, has := p["properties"]; has {
		return []map[string]any{p}
	}
	add(p["additionalProperties"])
	add(p["items"])
	switch list := p["anyOf"].(type) {
	case []any:
		for _, v := range list {
			add(v)
		}
	case []map[string]any:
		for _, v := range list {
			add(v)
		}
	}
	return out
}

func (a *app) sentenceTopic() *cobra.Command {
	return topic("sentences", "Rules and expectations: the sentences in the lab file", `A rule:

  ACTION PROTO[/PORT[-PORT]][,…] from SOURCE to DESTINATION [log]

  ACTION  allow; deny: dropped silently; refuse: dropped, and the sender gets a
          reset or "unreachable"
  PROTO   any, icmp, tcp, udp; tcp and udp may have a port or a range
  SOURCE  any, outside, a segment, a guest, an appliance, an address or prefix,
          or several with commas; on a transparent appliance a segment means the
          port there
  log     the appliance logs what the rule decides

First match decides; replies to allowed connections pass; default deny. Without
rules each lan and dmz segment may reach outside, and nothing else.

  allow any from reedbed to outside
  refuse tcp/25 from reedbed to outside
  allow tcp/80,tcp/443,udp/53 from boathouse to outside log
  deny any from tidepool to any

An expectation, checked in addition to the standard checks:

  SOURCE reaches DESTINATION [PROTO[/PORT[-PORT]]]
  SOURCE never reaches DESTINATION [PROTO[/PORT[-PORT]]]

  reaches        from each sender to each receiver and port that is named, some
                 packet passes and is answered, over IPv4 or IPv6, at its
                 address or where it is published; of a prefix outside, one
                 address is enough
  never reaches  no packet passes, also with forged sources, or to an address
                 that no machine has yet
  any            every segment and the outside
  a segment      its whole network, also an upstream one
  a prefix       exactly its addresses, of its IP version, inside or outside
  an appliance   all its addresses

  newt never reaches outside
  outside reaches ferry tcp/8443
  heron reaches ferry tcp/443`)
}

func (a *app) exitTopic() *cobra.Command {
	return topic("exit-status", "Exit status", `  0    ok, or done
  1    broken: a finding of severity error, a claim that is broken
       or unknown, a path outside
  2    wrong usage or input
  3    this machine lacks something the command needs (see the message)
  130  interrupted, with everything cleaned up

Results go to standard output, messages and progress to standard error. A file
is written whole or not at all, and one that is there stays, unless --replace.`)
}
