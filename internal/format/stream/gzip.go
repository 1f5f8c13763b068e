package stream

import (
	"bufio"
	"errors"
	"io"

	"github.com/klauspost/compress/gzip"
)

// members reads gzip members one behind the other (RFC 1952, section 2.2). Zeros behind
// the last are padding, as tapes and block devices leave it.
type members struct {
	in *bufio.Reader
	z  *gzip.Reader
}

// errBehind says that a stream is followed by something else.
var errBehind = errors.New("gzip: data that is not gzip follows the stream")

func openGzip(r io.Reader) (io.Reader, error) {
	in := bufio.NewReaderSize(r, 64<<10)
	z, err := gzip.NewReader(in)
	if err != nil {
		return nil, err
	}
	z.Multistream(false)
	return &members{in, z}, nil
}

// Read returns what the members hold.
func (m *members) Read(b []byte) (int, error) {
	for {
		n, err := m.z.Read(b)
		if err != io.EOF || n > 0 {
			if err == io.EOF {
				err = nil
			}
			return n, err
		}
		if err := m.next(); err != nil {
			return 0, err
		}
	}
}

// next goes on to the member behind; io.EOF when there is none.
func (m *members) next() error {
	for {
		head, err := m.in.Peek(1)
		if err != nil {
			return err
		}
		if head[0] != 0 {
			break
		}
		_, _ = m.in.Discard(1)
	}
	if head, _ := m.in.Peek(2); len(head) < 2 || head[0] != 0x1f || head[1] != 0x8b {
		return errBehind
	}
	if err := m.z.Reset(m.in); err != nil {
		return err
	}
	m.z.Multistream(false)
	return nil
}
