package kernel

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"

	"openbastion/internal/model/status"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/testbed/kernel/nfnetlink"
	"openbastion/internal/testbed/stage"
)

// maxLogged bounds the log lines that are kept: the latest.
const maxLogged = 200

// logs keeps what rules with log were met by.
type logs struct {
	mu   sync.Mutex
	kept []status.Logged
}

func (l *logs) add(line status.Logged) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.kept = append(l.kept, line); len(l.kept) > maxLogged {
		l.kept = append([]status.Logged{}, l.kept[len(l.kept)-maxLogged:]...)
	}
}

func (l *logs) list() []status.Logged {
	l.mu.Lock()
	defer l.mu.Unlock()
	return append([]status.Logged{}, l.kept...)
}

// Of nfnetlink_log (linux/netfilter/nfnetlink_log.h): messages, commands, attributes.
const (
	logConfig     = unix.NFNL_SUBSYS_ULOG<<8 | 1
	configCommand = 1 // NFULA_CFG_CMD
	configMode    = 2 // NFULA_CFG_MODE
	commandBind   = 1 // NFULNL_CFG_CMD_BIND
	copyPacket    = 2 // NFULNL_COPY_PACKET
	logInDevice   = 4 // NFULA_IFINDEX_INDEV
	logOutDevice  = 5 // NFULA_IFINDEX_OUTDEV
	logPayload    = 9
	logPrefix     = 10
	copied        = 128 // bytes of a packet that are copied: its headers
	ipv4Version   = 4
)

// follow reads what an appliance's rules log, until the machine is closed.
func (x *machine) follow(into *logs) error {
	c, err := netlink.Dial(unix.NETLINK_NETFILTER, &netlink.Config{NetNS: x.space.fd})
	if err != nil {
		return fmt.Errorf("%s: log of its rules: %w", x.plan.Name, err)
	}
	header := []byte{unix.AF_UNSPEC, unix.NFNETLINK_V0, 0, nfnetlink.LogGroup}
	mode := append(binary.BigEndian.AppendUint32(nil, copied), copyPacket, 0)
	for _, set := range []netlink.Attribute{{Type: configCommand, Data: []byte{commandBind}}, {Type: configMode, Data: mode}} {
		data, err := netlink.MarshalAttributes([]netlink.Attribute{set})
		if err == nil {
			_, err = c.Execute(
				netlink.Message{Header: netlink.Header{Type: logConfig, Flags: netlink.Request | netlink.Acknowledge},
					Data: append(append([]byte{}, header...), data...)},
			)
		}
		if err != nil {
			c.Close()
			return fmt.Errorf("%s: log of its rules: %w", x.plan.Name, err)
		}
	}
	x.stops = append(x.stops, func() { c.Close() })
	go func() {
		for {
			list, err := c.Receive()
			if err != nil && !isOverflow(err) {
				return
			}
			for _, m := range list {
				if line, ok := x.as.Load().logged(m.Data); ok {
					into.add(line)
				}
			}
		}
	}()
	return nil
}

// isOverflow tells that packets were logged faster than they were read; some are lost.
func isOverflow(err error) bool { return strings.Contains(err.Error(), unix.ENOBUFS.Error()) }

// logged reads one message of the log.
func (x *machine) logged(data []byte) (line status.Logged, ok bool) {
	const familyHeader = 4
	if len(data) < familyHeader {
		return line, false
	}
	d, err := netlink.NewAttributeDecoder(data[familyHeader:])
	if err != nil {
		return line, false
	}
	d.ByteOrder = binary.BigEndian
	line = status.Logged{At: time.Now(), Appliance: x.plan.Name}
	for d.Next() {
		switch d.Type() {
		case logPrefix:
			line.Rule = x.ruleOf(d.String())
		case logInDevice:
			line.In = x.port(int(d.Uint32()))
		case logOutDevice:
			line.Out = x.port(int(d.Uint32()))
		case logPayload:
			line.Protocol, line.From, line.To = flow(d.Bytes())
		}
	}
	return line, d.Err() == nil && line.From.IsValid()
}

// ruleOf names the rule whose log prefix this is.
func (x *machine) ruleOf(prefix string) string {
	text := strings.TrimRight(prefix, " :\x00")
	number, ok := strings.CutPrefix(text, "bastion "+x.plan.Name+" rule ")
	if n, err := strconv.Atoi(number); ok && err == nil && n >= 1 && n <= len(x.plan.Rules) {
		return fmt.Sprintf("%d: %s", n, x.plan.Rules[n-1].Text)
	}
	return text
}

// port returns the name of the port whose device has an index.
func (x *machine) port(index int) string {
	link, err := x.space.links.LinkByIndex(index)
	if err != nil {
		return ""
	}
	for _, a := range x.plan.Adapters {
		if device(a) == link.Attrs().Name {
			return a.Name
		}
	}
	return link.Attrs().Name
}

// flow reads who speaks to whom in an IP packet.
func flow(ip []byte) (proto string, from, to netip.AddrPort) {
	if len(ip) == 0 {
		return "", from, to
	}
	kind := uint16(packet.TypeIPv6)
	if ip[0]>>4 == ipv4Version {
		kind = packet.TypeIPv4
	}
	frame := append(binary.BigEndian.AppendUint16(make([]byte, 12), kind), ip...)
	p, err := packet.Decode(frame)
	if err != nil || !p.IP() {
		return "", from, to
	}
	from, to = stage.Ends(p)
	return stage.Protocol(uint8(p.Proto)), from, to
}
