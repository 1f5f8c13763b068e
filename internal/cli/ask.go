package cli

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/term"

	"openbastion/internal/model/draft"
	"openbastion/internal/model/lab"
	"openbastion/profiles"
)

// dialogue asks questions on a terminal, a line each.
type dialogue struct {
	t *term.Terminal
	s *screen
}

// readWriter joins the terminal's two directions.
type readWriter struct {
	io.Reader
	io.Writer
}

// errLeft says that the person left; nothing is written then.
var errLeft = failure{exitInterrupted, "cancelled; nothing was written", ""}

// ask puts a question until its answer fits. An empty answer is the default;
// ? tells more.
func (d *dialogue) ask(question, fallback, more string, fits func(string) error) error {
	for {
		prompt := question
		if fallback != "" {
			prompt += " [" + fallback + "]"
		}
		d.t.SetPrompt(prompt + ": ")
		line, err := d.t.ReadLine()
		if err != nil {
			fmt.Fprintln(d.t)
			return errLeft
		}
		switch line = strings.TrimSpace(line); {
		case line == "?":
			for _, l := range wrap(more, 74) {
				fmt.Fprintln(d.t, "  "+l)
			}
			continue
		case line == "":
			line = fallback
		}
		if err := fits(line); err != nil {
			fmt.Fprintln(d.t, "  "+err.Error())
			continue
		}
		return nil
	}
}

// text asks for a text that draft takes as a name or title.
func (d *dialogue) text(at *string, question, more string) error {
	return d.ask(question, *at, more, func(line string) error { *at = line; return nil })
}

func (d *dialogue) number(at *int, question, more string, low, high int) error {
	return d.ask(question, strconv.Itoa(*at), more, func(line string) error {
		n, err := strconv.Atoi(line)
		if err != nil || n < low || n > high {
			return fmt.Errorf("a whole number from %d to %d", low, high)
		}
		*at = n
		return nil
	})
}

func (d *dialogue) name(at *string, question, more string) error {
	return d.ask(question, *at, more, func(line string) error {
		if err := lab.CheckName(line); err != nil {
			return err
		}
		*at = line
		return nil
	})
}

// dialogue lets ask put questions on the terminal.
func (a *app) dialogue(in *os.File, ask func(*dialogue) error) error {
	state, err := term.MakeRaw(int(in.Fd()))
	if err != nil {
		return failure{exitLacking, "this terminal cannot show prompts: " + err.Error(), "use the options"}
	}
	defer func() { _ = term.Restore(int(in.Fd()), state) }()
	return ask(&dialogue{t: term.NewTerminal(readWriter{in, a.err}, ""), s: newScreen(a.err, a.color)})
}

// askNew asks, in the order in which people work, for what no flag told.
func (a *app) askNew(in *os.File, o *draft.Options, to *string, told func(flag string) bool) error {
	return a.dialogue(in, func(d *dialogue) error { return d.newLab(o, to, told) })
}

// newLab asks for what a new lab is made of.
func (d *dialogue) newLab(o *draft.Options, to *string, told func(flag string) bool) error {
	fmt.Fprintln(d.t, "A new lab. Enter accepts the value in brackets; ?: help; Ctrl-C: quit.")

	if o.Lab == "" {
		if err := d.name(&o.Lab, "Name of the lab",
			"One word in lower case, such as saltmarsh. MAC addresses and subnets are derived from it, so two labs with different names do not clash."); err != nil {
			return err
		}
	}
	if !told("title") {
		if err := d.text(&o.Title, "Description", "A few words of description, such as: incident bench. Optional."); err != nil {
			return err
		}
	}
	if !told("shape") {
		if err := d.shape(o); err != nil {
			return err
		}
	}
	if !told("uplink") && o.Shape != "one-armed" {
		if err := d.text(&o.Uplink, "Uplink for the WAN, bridged (empty: NAT by the host)",
			"The host's adapter towards upstream. The WAN is bridged to it, and the appliance is then a machine on your network. Most wireless access points refuse that: leave it empty there, and the host uses NAT."); err != nil {
			return err
		}
		o.NAT = o.Uplink == ""
	}
	if !told("profile") && o.Shape != "four-sided" {
		if err := d.profile(o); err != nil {
			return err
		}
	}
	if !told("hypervisor") {
		if err := d.hypervisor(o); err != nil {
			return err
		}
	}
	if !told("appliance") && o.Shape != "chain" {
		if err := d.name(&o.Appliance, "Name of the appliance",
			"The firewall or router between the segments. Also its host name."); err != nil {
			return err
		}
	}
	if !told("lan") && o.Shape == "one-lan" {
		if err := d.name(&o.LANs[0], "Name of the LAN segment",
			"The guests' network. Use exactly this name on the appliance's adapter and on the guests': another spelling is another segment."); err != nil {
			return err
		}
	}
	if err := d.lan(o, told); err != nil {
		return err
	}
	if !told("benches") && o.Shape == "classroom" {
		if err := d.number(&o.Benches, "How many benches", "Each is its own segment behind the appliance.", 1, 200); err != nil {
			return err
		}
	}
	if !told("guests") {
		if err := d.number(&o.Guests, "How many guests on each inside segment",
			"You can add more in the file later; the planned values do not change.", 1, 1000); err != nil {
			return err
		}
	}
	if !told("to") {
		return d.text(to, "Output file", "The lab file. An existing file is not overwritten.")
	}
	return nil
}

// profile asks for the kind of appliance.
func (d *dialogue) profile(o *draft.Options) error {
	names := profiles.Names()
	for _, n := range names {
		fmt.Fprintf(d.t, "  %-14s %s\n", n, profiles.Title(n))
	}
	return d.ask(
		"Which kind of appliance",
		cmp.Or(o.Profile, profiles.Default),
		"Sets how its system names interfaces, what its console asks and its factory settings. `bastion schema --of profile` describes a profile of your own.",
		func(line string) error {
			if _, shipped := profiles.Profile(line); !shipped && !strings.ContainsAny(line, "./") {
				return fmt.Errorf("one of %s, or a file", strings.Join(names, ", "))
			}
			if o.Profile = line; line == profiles.Default {
				o.Profile = ""
			}
			return nil
		},
	)
}

// hypervisor asks whose words a runbook shall speak.
func (d *dialogue) hypervisor(o *draft.Options) error {
	names := profiles.WordingNames()
	return d.ask(
		"Which hypervisor ("+strings.Join(names, ", ")+", or none)",
		cmp.Or(o.Hypervisor, "none"),
		"Desktop: a program on your own machine. Server: a hypervisor managed remotely. Kernel: Linux bridges and taps. The runbook uses its terms.",
		func(line string) error {
			if line == "none" {
				o.Hypervisor = ""
				return nil
			}
			if _, shipped := profiles.Wording(line); !shipped && !strings.ContainsAny(line, "./") {
				return fmt.Errorf("one of %s, none, or a file", strings.Join(names, ", "))
			}
			o.Hypervisor = line
			return nil
		},
	)
}

// withoutLAN are the shapes whose inside network is upstream's, or many.
var withoutLAN = []string{"transparent", "one-armed", "chain", "classroom"}

// lan asks for the address and pool of the first LAN.
func (d *dialogue) lan(o *draft.Options, told func(flag string) bool) error {
	if slices.Contains(withoutLAN, o.Shape) {
		return nil
	}
	if !told("lan-address") {
		if err := d.ask("The appliance's address on the LAN (empty: planned)", "",
			"With its prefix length, such as 10.83.16.1/24. If empty, the plan chooses a network that this machine is not on.", func(line string) error {
				return draft.SetLAN(o, line)
			}); err != nil {
			return err
		}
	}
	if told("pool") || !o.LANAddress.IsValid() || o.Shape == "later-server" {
		return nil
	}
	return d.ask("DHCP pool there, FIRST-LAST (empty: planned)", "",
		"The DHCP pool. Leave room before it for static addresses.", func(line string) error {
			if line == "" {
				return nil
			}
			return draft.SetPool(o, line)
		})
}

// shape asks for the shape, by number or name.
func (d *dialogue) shape(o *draft.Options) error {
	more := ""
	for i, s := range draft.Shapes {
		fmt.Fprintf(d.t, "  %2d  %-14s %s\n", i+1, s.Name, s.What)
		more += fmt.Sprintf("%s: %s ", s.Name, s.Why)
	}
	return d.ask("Which shape", o.Shape, more, func(line string) error {
		if n, err := strconv.Atoi(line); err == nil && n >= 1 && n <= len(draft.Shapes) {
			line = draft.Shapes[n-1].Name
		}
		if _, ok := draft.ShapeNamed(line); !ok {
			return fmt.Errorf("a number from 1 to %d, or a shape's name", len(draft.Shapes))
		}
		o.Shape = line
		return nil
	})
}
