package witness

import (
	"crypto/ed25519"
	"slices"
)

// Client asks a witness one thing: it makes the question, and the second one with the cookie.
type Client struct {
	Witness ed25519.PublicKey // whose report it takes: the one that was named, else the one that has the token

	key []byte
	ask ask
}

// NewClient makes a question by a bench's token; without a name it is the lab's own. witness
// is the key that its report must be signed with; nil takes the key that a witness shows who
// has the token too. nonce is random.
func NewClient(t Token, bench string, witness ed25519.PublicKey, way Way, nonce Nonce) *Client {
	return &Client{
		key:     t.asking(),
		Witness: witness,
		ask:     ask{Nonce: nonce, Way: way, Bench: bench[:min(len(bench), maxBench)]},
	}
}

// AskOf has the question ask what was heard of a run too, from one place on.
func (c *Client) AskOf(run uint32, first int) { c.ask.Run, c.ask.First = run, uint16(first) }

// Question returns what is sent.
func (c *Client) Question() []byte { return c.ask.marshal(c.key) }

// Take reads what came back: the witness's report, or, with done false and no error, that
// the question is to be sent again, which Question gives then. Whoever does not have the
// token, or another witness, gives an error.
func (c *Client) Take(data []byte) (r Report, done bool, err error) {
	switch kindOf(data) {
	case kindAgain:
		if Nonce(data[nonceAt:cookieAt]) != c.ask.Nonce || !authentic(data, c.key) {
			return r, false, ErrForged
		}
		shown := ed25519.PublicKey(slices.Clone(data[bodyAt : bodyAt+ed25519.PublicKeySize]))
		switch {
		case c.Witness == nil:
			c.Witness = shown
		case !c.Witness.Equal(shown):
			return r, false, ErrSigned
		}
		c.ask.Cookie = Cookie(data[cookieAt:bodyAt])
		return r, false, nil
	case kindReport:
		r, err = ReadReport(data, c.Witness)
		if err == nil && (r.Nonce != c.ask.Nonce || r.Way != c.ask.Way || r.Heard.Run != c.ask.Run) {
			err = ErrForged
		}
		return r, err == nil, err
	}
	return r, false, ErrOther
}
