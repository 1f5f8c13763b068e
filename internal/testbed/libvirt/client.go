package libvirt

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// The procedures that are called (remote_protocol.x).
const (
	procedureOpen       = 1
	procedureDomainXML  = 14
	procedureNetworkXML = 43
	procedureAuthList   = 66
	procedureDomains    = 273
	procedureNetworks   = 283
)

// readOnly is the flag by which a connection may change nothing (VIR_CONNECT_RO).
const readOnly = 1

// authNone is the kind of authentication that asks for nothing.
const authNone = 0

// Client is a connection to a daemon, for one caller at a time.
type Client struct {
	conn   io.ReadWriteCloser
	serial uint32
}

// Definition is what the daemon keeps of a network or a machine.
type Definition struct {
	Name string
	XML  string
}

// New opens a connection for reading by the protocol, on one that is there, to what a URI as qemu:///system names.
func New(conn io.ReadWriteCloser, uri string) (*Client, error) {
	c := &Client{conn: conn}
	var kinds struct{ List []int32 }
	if err := c.call(procedureAuthList, nil, &kinds); err != nil {
		return nil, err
	}
	if len(kinds.List) > 0 && !slices.Contains(kinds.List, authNone) {
		return nil, errors.New(
			"the daemon requires authentication, even for reading: use the read-only socket, or a user of the group libvirt",
		)
	}
	args := struct {
		Name  []string // optional: none or one
		Flags uint32
	}{[]string{uri}, readOnly}
	if err := c.call(procedureOpen, args, nil); err != nil {
		return nil, fmt.Errorf("%s: %w", uri, err)
	}
	return c, nil
}

// Close ends the connection.
func (c *Client) Close() error { return c.conn.Close() }

// call calls a procedure and reads its reply: other packets, as of events, are passed over.
func (c *Client) call(procedure int32, args, into any) error {
	c.serial++
	if err := send(c.conn, procedure, c.serial, args); err != nil {
		return err
	}
	for {
		h, body, err := receive(c.conn)
		switch {
		case errors.Is(err, io.EOF):
			return errors.New("the daemon hangs up")
		case err != nil:
			return err
		case h.Program != program || h.Kind != kindReply || h.Serial != c.serial:
			continue
		case h.Status == statusError:
			return failed(body)
		case h.Status != statusOK || h.Procedure != procedure:
			return fmt.Errorf(
				"procedure %d is answered with the state %d of procedure %d",
				procedure,
				h.Status,
				h.Procedure,
			)
		}
		return decode(body, into)
	}
}

// domain names a machine, network one of its networks.
type (
	domain struct {
		Name string
		UUID [16]byte
		ID   int32
	}
	network struct {
		Name string
		UUID [16]byte
	}
	every struct {
		Results int32 // 1: the list, and not only how many
		Flags   uint32
	}
	text struct{ XML string }
)

// Networks returns the definitions of all networks, by name.
func (c *Client) Networks() ([]Definition, error) {
	var reply struct {
		List  []network
		Count uint32
	}
	if err := c.call(procedureNetworks, every{1, 0}, &reply); err != nil {
		return nil, fmt.Errorf("the list of networks: %w", err)
	}
	var out []Definition
	for _, n := range reply.List {
		var t text
		if err := c.call(procedureNetworkXML, struct {
			Network network
			Flags   uint32
		}{n, 0}, &t); err != nil {
			return nil, fmt.Errorf("network %s: %w", n.Name, err)
		}
		out = append(out, Definition{n.Name, t.XML})
	}
	return sorted(out), nil
}

// Domains returns the definitions of all machines, running or not, by name.
func (c *Client) Domains() ([]Definition, error) {
	var reply struct {
		List  []domain
		Count uint32
	}
	if err := c.call(procedureDomains, every{1, 0}, &reply); err != nil {
		return nil, fmt.Errorf("the list of machines: %w", err)
	}
	var out []Definition
	for _, d := range reply.List {
		var t text
		if err := c.call(procedureDomainXML, struct {
			Domain domain
			Flags  uint32
		}{d, 0}, &t); err != nil {
			return nil, fmt.Errorf("machine %s: %w", d.Name, err)
		}
		out = append(out, Definition{d.Name, t.XML})
	}
	return sorted(out), nil
}

func sorted(list []Definition) []Definition {
	slices.SortFunc(list, func(a, b Definition) int { return strings.Compare(a.Name, b.Name) })
	return list
}
