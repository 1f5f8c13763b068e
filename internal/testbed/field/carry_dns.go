package field

import (
	"golang.org/x/net/dns/dnsmessage"

	"openbastion/internal/classroom/witness"
)

// option is the code of the EDNS option that carries a message: one of those for local use
// (RFC 6891, section 9).
const option = 65001

// asDNS puts a message into a question for a name, or into the answer to one.
func asDNS(id uint16, response bool, message []byte) ([]byte, error) {
	name := dnsmessage.MustNewName("witness.example.")
	m := dnsmessage.Message{
		Header:    dnsmessage.Header{ID: id, Response: response, RecursionDesired: true},
		Questions: []dnsmessage.Question{{Name: name, Type: dnsmessage.TypeTXT, Class: dnsmessage.ClassINET}},
	}
	var h dnsmessage.ResourceHeader
	if err := h.SetEDNS0(2*witness.Size, dnsmessage.RCodeSuccess, false); err != nil {
		return nil, err
	}
	m.Additionals = []dnsmessage.Resource{{Header: h,
		Body: &dnsmessage.OPTResource{Options: []dnsmessage.Option{{Code: option, Data: message}}}}}
	return m.Pack()
}

// fromDNS takes a message out of a DNS message; false where there is none.
func fromDNS(data []byte) (id uint16, response bool, message []byte, ok bool) {
	var m dnsmessage.Message
	if m.Unpack(data) != nil {
		return 0, false, nil, false
	}
	for _, r := range m.Additionals {
		opt, is := r.Body.(*dnsmessage.OPTResource)
		if !is {
			continue
		}
		for _, o := range opt.Options {
			if o.Code == option && len(o.Data) == witness.Size {
				return m.ID, m.Response, o.Data, true
			}
		}
	}
	return 0, false, nil, false
}
