package libvirt

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"testing"

	xdr "github.com/davecgh/go-xdr/xdr2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// reply writes a packet as a daemon does.
func reply(w io.Writer, h header, data any) {
	var b bytes.Buffer
	b.Write(make([]byte, 4))
	_, _ = xdr.Marshal(&b, h)
	if data != nil {
		_, _ = xdr.Marshal(&b, data)
	}
	binary.BigEndian.PutUint32(b.Bytes(), uint32(b.Len()))
	_, _ = w.Write(b.Bytes())
}

// daemon answers calls as it is told: by procedure, with data or an error.
func daemon(conn net.Conn, answers map[int32]any) {
	for {
		h, _, err := receive(conn)
		if err != nil {
			return
		}
		reply(conn, header{program, version, 316, 2, 0, statusOK}, nil) // an event, which was not asked for
		h.Kind = kindReply
		data, known := answers[h.Procedure]
		if why, refused := data.(string); refused || !known {
			h.Status = statusError
			reply(conn, h, remoteError{38, 0, []string{why}})
			continue
		}
		reply(conn, h, data)
	}
}

type networksReply struct {
	List  []network
	Count uint32
}

func TestClient(t *testing.T) {
	auth := struct{ List []int32 }{[]int32{0}}
	asks := struct{ List []int32 }{[]int32{2}}
	two := networksReply{[]network{{"wet", [16]byte{1}}, {"dry", [16]byte{2}}}, 2}
	for name, c := range map[string]struct {
		answers    map[int32]any
		open, list string // what is wrong, or nothing
	}{
		"all is well":        {map[int32]any{procedureAuthList: auth, procedureOpen: nil, procedureNetworks: two, procedureNetworkXML: text{"<network/>"}}, "", ""},
		"it asks who one is": {map[int32]any{procedureAuthList: asks}, "requires authentication", ""},
		"no such driver":     {map[int32]any{procedureAuthList: auth, procedureOpen: "no driver"}, "qemu:///system: no driver", ""},
		"a network is gone":  {map[int32]any{procedureAuthList: auth, procedureOpen: nil, procedureNetworks: two, procedureNetworkXML: "gone"}, "", "network wet: gone"},
	} {
		near, far := net.Pipe()
		go daemon(far, c.answers)
		client, err := New(near, "qemu:///system")
		if c.open != "" {
			assert.ErrorContains(t, err, c.open, name)
			continue
		}
		require.NoError(t, err, name)
		list, err := client.Networks()
		if c.list != "" {
			assert.ErrorContains(t, err, c.list, name)
		} else {
			assert.Equal(t, []Definition{{"dry", "<network/>"}, {"wet", "<network/>"}}, list, name)
		}
		require.NoError(t, client.Close())
	}
}

// Whatever a daemon says, reading it ends well, and no list is larger than what came.
func FuzzReceive(f *testing.F) {
	var b bytes.Buffer
	reply(&b, header{program, version, procedureNetworks, kindReply, 1, statusOK}, networksReply{[]network{{"wet", [16]byte{1}}}, 1})
	f.Add(b.Bytes())
	f.Add([]byte{0, 0, 0, 28})
	f.Add([]byte{0xff, 0xff, 0xff, 0xff})
	f.Fuzz(func(t *testing.T, data []byte) {
		_, body, err := receive(bytes.NewReader(data))
		if err != nil {
			return
		}
		var nets networksReply
		if decode(body, &nets) == nil {
			assert.LessOrEqual(t, len(nets.List)*20, len(body))
		}
		var t2 text
		_ = decode(body, &t2)
		_ = failed(body)
	})
}

func TestIsURI(t *testing.T) {
	for text, is := range map[string]bool{"qemu:///system": true, "qemu+ssh://desk/system": true, "qemu:///session": true,
		"lab.yaml": false, "host=lab.yaml": false, "https://example.com/": false, "-": false, "": false} {
		assert.Equal(t, is, IsURI(text), text)
	}
	for text, why := range map[string]string{"qemu://there/system": "reached by SSH", "qemu:///other": "its end is /system or /session",
		"qemu+ssh:///system": "names no host", "qemu+ssh://-oProxyCommand=x/system": "names no host", "qemu:///system?socket=/nowhere": "does not run here"} {
		_, err := Dial(t.Context(), text)
		assert.ErrorContains(t, err, why, text)
	}
}
