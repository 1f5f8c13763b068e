package libvirt

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	xdr "github.com/davecgh/go-xdr/xdr2"
)

// Bounds on what a daemon can make this program hold: a packet of the protocol is at most 32 MiB
// (VIR_NET_MESSAGE_MAX), and no list of it is larger.
const (
	maxPacket  = 32 << 20
	headerSize = 28
)

// program is the number of the remote protocol, and its version.
const (
	program = 0x20008086
	version = 1
)

// The kinds of packets and their states.
const (
	kindCall  = 0
	kindReply = 1

	statusOK    = 0
	statusError = 1
)

// header stands before each packet, behind its length; all are big-endian.
type header struct {
	Program, Version uint32
	Procedure        int32
	Kind             int32
	Serial           uint32
	Status           int32
}

// send writes a call.
func send(w io.Writer, procedure int32, serial uint32, args any) error {
	var b bytes.Buffer
	b.Write(make([]byte, 4)) // the length comes last
	if _, err := xdr.Marshal(&b, header{program, version, procedure, kindCall, serial, statusOK}); err != nil {
		return err
	}
	if args != nil {
		if _, err := xdr.Marshal(&b, args); err != nil {
			return err
		}
	}
	binary.BigEndian.PutUint32(b.Bytes(), uint32(b.Len()))
	_, err := w.Write(b.Bytes())
	return err
}

// receive reads one packet: its header, and what is behind it.
func receive(r io.Reader) (h header, body []byte, err error) {
	var size [4]byte
	if _, err := io.ReadFull(r, size[:]); err != nil {
		return h, nil, err
	}
	n := binary.BigEndian.Uint32(size[:])
	if n < headerSize || n > maxPacket {
		return h, nil, fmt.Errorf("a packet of %d bytes is none of the protocol", n)
	}
	data := make([]byte, n-4)
	if _, err := io.ReadFull(r, data); err != nil {
		return h, nil, err
	}
	if _, err := xdr.Unmarshal(bytes.NewReader(data[:headerSize-4]), &h); err != nil {
		return h, nil, err
	}
	return h, data[headerSize-4:], nil
}

// decode reads the data of a reply, none of whose parts is larger than the reply.
func decode(body []byte, into any) error {
	if into == nil {
		return nil
	}
	_, err := xdr.UnmarshalLimited(bytes.NewReader(body), into, uint(len(body)))
	return err
}

// remoteError is how the daemon says why not (remote_error): what comes behind the text is left unread.
type remoteError struct {
	Code, Domain int32
	Message      []string // optional: none or one (RFC 4506, section 4.19)
}

func failed(body []byte) error {
	var e remoteError
	if _, err := xdr.UnmarshalLimited(bytes.NewReader(body), &e, uint(len(body))); err != nil || len(e.Message) != 1 {
		return errors.New("the daemon refuses, and does not say why")
	}
	return errors.New(e.Message[0])
}
