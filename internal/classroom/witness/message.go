package witness

import (
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"net/netip"
)

// Size is how many bytes every message has, either way: nothing is amplified. A question may be followed by zeros, which its
// answer is then too.
const Size = 256

// The kinds of messages.
const (
	kindAsk    = 1 // a guest asks
	kindAgain  = 2 // the witness: ask again with this cookie, and this is my key
	kindReport = 3 // the witness says what it saw
)

// Where what stands in a message, in bytes. Every message begins with the magic and its kind.
const (
	magic     = "obw1"
	headSize  = len(magic) + 1
	nonceSize = 16
	macSize   = 16
	maxBench  = 63

	nonceAt  = headSize
	cookieAt = nonceAt + nonceSize
	cookieLn = 16
	bodyAt   = cookieAt + cookieLn // of an ask: the way, the bench's length and name; of an again: the key
	macAt    = Size - macSize      // of an ask and an again
	runAt    = macAt - 6           // of an ask: the run, and the first of what was heard of it that is to be told

	sourceAt = bodyAt // of a report: address, port, hop limit, way, seconds
	portAt   = sourceAt + 16
	hopsAt   = portAt + 2
	wayAt    = hopsAt + 1
	timeAt   = wayAt + 1
	heardAt  = timeAt + 8  // what was heard of a run: it, whether frames are listened to, how many came, the first told, and they
	flagsAt  = heardAt + 4 // beside it what else is told in bits
	marksAt  = flagsAt + 1 + 2 + 2
	signedAt = Size - ed25519.SignatureSize

	most = (signedAt - marksAt) / 2 // that a report tells

	listens, opens = 1, 2 // bits of the flags
)

// Way is how a message went.
type Way byte

// The ways.
const (
	UDP  Way = 1
	TCP  Way = 2
	HTTP Way = 3
	DNS  Way = 4
)

// String names the way.
func (w Way) String() string {
	if name, ok := map[Way]string{UDP: "udp", TCP: "tcp", HTTP: "http", DNS: "dns"}[w]; ok {
		return name
	}
	return "unknown"
}

// Nonce is one question's own number.
type Nonce [nonceSize]byte

// Cookie is what the witness gives who asks, and who asks gives back.
type Cookie [cookieLn]byte

// ask is a guest's question.
type ask struct {
	Nonce  Nonce
	Cookie Cookie
	Way    Way
	Bench  string // at most 63 bytes
	Run    uint32 // whose forged packets it asks about; 0: none
	First  uint16 // from which of those heard on
}

// Report is what the witness saw of who asked.
type Report struct {
	Nonce  Nonce
	Cookie Cookie         // the one that was given back
	Source netip.AddrPort // where the question came from
	Hops   int            // the hop limit that was left; 0: not seen
	Way    Way
	Time   int64 // when it came, in seconds since 1970 by the witness's clock
	Heard  Heard
	Opens  bool // it listens on every port that the lab's claims ask it on
}

// Heard is what a witness says of the forged packets of a run, in the order in which it heard
// them first.
type Heard struct {
	Run       uint32
	Listening bool     // to all that comes to the witness's machine; else to what is sent to its ports
	Count     int      // how many of the run were heard
	First     int      // the place of the first that is told here
	Attempts  []uint16 // as many as a report has room for
}

// Errors of messages. ErrOther is of what is no message of this protocol.
var (
	ErrOther  = errors.New("witness: no message of this protocol")
	ErrForged = errors.New("witness: the sender does not have the token")
	ErrSigned = errors.New("witness: not signed by this witness")
)

// kindOf returns a message's kind; 0 for what is none.
func kindOf(data []byte) byte {
	if len(data) != Size || string(data[:len(magic)]) != magic {
		return 0
	}
	return data[len(magic)]
}

// Is reports whether data begins with a message of this protocol.
func Is(data []byte) bool { return len(data) >= Size && kindOf(data[:Size]) != 0 }

func head(kind byte, n Nonce, c Cookie) []byte {
	b := make([]byte, 0, Size)
	b = append(append(append(b, magic...), kind), n[:]...)
	return append(b, c[:]...)
}

// authenticated pads a message and puts its code at the end.
func authenticated(b, key []byte) []byte {
	b = append(b, make([]byte, macAt-len(b))...)
	return append(b, codeOf(b, key)...)
}

func codeOf(b, key []byte) []byte {
	m := hmac.New(sha256.New, key)
	m.Write(b)
	return m.Sum(nil)[:macSize]
}

func authentic(b, key []byte) bool { return hmac.Equal(codeOf(b[:macAt], key), b[macAt:]) }

func (a ask) marshal(key []byte) []byte {
	b := head(kindAsk, a.Nonce, a.Cookie)
	b = append(b, byte(a.Way), byte(len(a.Bench)))
	b = append(b, a.Bench...)
	b = append(b, make([]byte, runAt-len(b))...)
	b = binary.BigEndian.AppendUint32(b, a.Run)
	return authenticated(binary.BigEndian.AppendUint16(b, a.First), key)
}

// parseAsk reads a question, whose code is still to be checked. data has Size bytes.
func parseAsk(data []byte) (a ask, ok bool) {
	a.Nonce, a.Cookie = Nonce(data[nonceAt:cookieAt]), Cookie(data[cookieAt:bodyAt])
	a.Way = Way(data[bodyAt])
	length := int(data[bodyAt+1])
	if length > maxBench {
		return a, false
	}
	a.Bench = string(data[bodyAt+2 : bodyAt+2+length])
	a.Run, a.First = binary.BigEndian.Uint32(data[runAt:]), binary.BigEndian.Uint16(data[runAt+4:])
	return a, true
}

// signedBy is what a witness signs a message as: nothing else that its key may ever sign
// begins so.
const signedBy = "openbastion witness report 1\n"

// again asks to ask again.
func again(n Nonce, c Cookie, public ed25519.PublicKey, key []byte) []byte {
	return authenticated(append(head(kindAgain, n, c), public...), key)
}

func (r Report) marshal(key ed25519.PrivateKey) []byte {
	b := head(kindReport, r.Nonce, r.Cookie)
	at := r.Source.Addr().As16()
	b = append(b, at[:]...)
	b = binary.BigEndian.AppendUint16(b, r.Source.Port())
	b = append(b, byte(min(max(r.Hops, 0), 255)), byte(r.Way))
	b = binary.BigEndian.AppendUint64(b, uint64(r.Time))
	b = r.Heard.append(b, r.Opens)
	b = append(b, make([]byte, signedAt-len(b))...)
	return append(b, ed25519.Sign(key, append([]byte(signedBy), b...))...)
}

// ReadReport reads what a witness said, and checks that it is signed by its key.
func ReadReport(data []byte, key ed25519.PublicKey) (r Report, err error) {
	if kindOf(data) != kindReport {
		return r, ErrOther
	}
	if len(key) != ed25519.PublicKeySize ||
		!ed25519.Verify(key, append([]byte(signedBy), data[:signedAt]...), data[signedAt:]) {
		return r, ErrSigned
	}
	r.Nonce, r.Cookie = Nonce(data[nonceAt:cookieAt]), Cookie(data[cookieAt:bodyAt])
	r.Source = netip.AddrPortFrom(
		netip.AddrFrom16([16]byte(data[sourceAt:portAt])).Unmap(),
		binary.BigEndian.Uint16(data[portAt:hopsAt]),
	)
	r.Hops, r.Way = int(data[hopsAt]), Way(data[wayAt])
	r.Time = int64(binary.BigEndian.Uint64(data[timeAt:heardAt]))
	r.Heard, r.Opens = readHeard(data)
	return r, nil
}
