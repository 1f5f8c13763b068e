package inside

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/netip"
	"os"
	"strings"
	"sync"
	"time"

	"openbastion/internal/testbed/machine/agent"
)

// console is a terminal of the machine, where a person may ask a few things.
type console struct {
	terminal io.ReadWriter

	mu   sync.Mutex
	self *agent.Machine
}

// startConsoles serves the serial line and the screen, where they are.
func startConsoles() (list []*console) {
	for _, name := range []string{"/dev/ttyS0", "/dev/tty1"} {
		f, err := os.OpenFile(name, os.O_RDWR, 0)
		if err != nil {
			continue
		}
		c := &console{terminal: f}
		list = append(list, c)
		go c.serve()
	}
	return list
}

// become has the console show who the machine is.
func (c *console) become(m *agent.Machine) {
	c.mu.Lock()
	c.self = m
	c.mu.Unlock()
	c.say("\r\n%s, a machine of the lab %s. Type help for its commands.\r\n", m.Self.Name, m.Plan.Name)
	c.prompt()
}

func (c *console) machine() *agent.Machine {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.self
}

func (c *console) say(format string, args ...any) { fmt.Fprintf(c.terminal, format, args...) }

func (c *console) prompt() {
	if m := c.machine(); m != nil {
		c.say("%s> ", m.Self.Name)
	}
}

func (c *console) serve() {
	in := bufio.NewScanner(c.terminal)
	for in.Scan() {
		if m := c.machine(); m != nil {
			c.say("%s", strings.ReplaceAll(answer(m, strings.Fields(in.Text())), "\n", "\r\n"))
		}
		c.prompt()
	}
}

// askTime bounds what a person waits for an answer.
const askTime = 10 * time.Second

// answer answers what a person typed.
func answer(m *agent.Machine, words []string) string {
	ctx, cancel := context.WithTimeout(context.Background(), askTime)
	defer cancel()
	switch {
	case len(words) == 0:
		return ""
	case words[0] == "addresses" && len(words) == 1:
		return addresses(m)
	case words[0] == "ping" && len(words) == 2:
		at, err := netip.ParseAddr(words[1])
		if err != nil {
			return words[1] + " is not an address\n"
		}
		return m.Stacks.Ping(ctx, m.Self, at) + "\n"
	case words[0] == "name" && len(words) == 2:
		return m.Stacks.Name(ctx, m.Self, words[1]) + "\n"
	case words[0] == "fetch" && len(words) == 2:
		at, err := netip.ParseAddrPort(words[1])
		if err != nil {
			return words[1] + " is not an address and port, as in 203.0.113.80:80\n"
		}
		return m.Stacks.Fetch(ctx, m.Self, at) + "\n"
	case words[0] == "off" && len(words) == 1:
		go off()
		return "turning off\n"
	}
	return `addresses            what its adapters have
ping ADDRESS         does it answer
name NAME            what its DNS server says
fetch ADDRESS:PORT   a page
off                  turn the machine off
`
}

func addresses(m *agent.Machine) string {
	var out strings.Builder
	for _, s := range m.Stacks.Status().Machines {
		for _, a := range s.Adapters {
			fmt.Fprintf(&out, "%-10s %s  %-10s %s", a.Device, a.MAC, a.Segment, a.Address)
			if a.Gateway.IsValid() {
				fmt.Fprintf(&out, "  by %s", a.Gateway)
			}
			for _, six := range a.IPv6 {
				fmt.Fprintf(&out, "  %s", six)
			}
			out.WriteByte('\n')
		}
	}
	return out.String()
}
