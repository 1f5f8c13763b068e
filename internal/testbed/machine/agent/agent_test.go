package agent

import (
	"bufio"
	"encoding/json"
	"net"
	"net/netip"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/testbed/stage"
	"openbastion/internal/verify/claims"
	"openbastion/profiles"
)

// A profile comes through as it is.
func TestProfilesComeThrough(t *testing.T) {
	for _, name := range profiles.Names() {
		text, _ := profiles.Profile(name)
		p, err := lab.ReadProfile(name+".yaml", text)
		require.NoError(t, err)
		data, err := json.Marshal(Role{Profiles: map[string]*lab.Profile{name: p}})
		require.NoError(t, err)
		var r Role
		require.NoError(t, json.Unmarshal(data, &r))
		again, err := json.Marshal(r)
		require.NoError(t, err)
		assert.JSONEq(t, string(data), string(again))
	}
}

// far is a machine's end of the channel: it answers each request by lines.
func far(t *testing.T, answer func(q request) []reply) (*Client, func(...reply)) {
	near, end := net.Pipe()
	var mu sync.Mutex
	say := func(list ...reply) {
		mu.Lock()
		defer mu.Unlock()
		for _, r := range list {
			data, err := json.Marshal(r)
			assert.NoError(t, err)
			_, _ = end.Write(append(data, '\n'))
		}
	}
	go func() {
		defer end.Close()
		in := bufio.NewScanner(end)
		for in.Scan() {
			var q request
			if json.Unmarshal(in.Bytes(), &q) != nil {
				return
			}
			list := answer(q)
			if list == nil {
				return
			}
			say(list...)
		}
	}()
	c := Dial(near)
	t.Cleanup(c.Hang)
	return c, say
}

func question(id string) stage.Request {
	return stage.Request{
		Question: claims.Question{ID: id, Ask: claims.AskAddress{At: claims.Ref{Machine: "heron", Adapter: 1}}},
		Payload:  id,
	}
}

// What comes early is told at once and what comes late when it is asked for; what does not
// come, is not asked, or comes twice is told as that or not at all.
func TestQuestions(t *testing.T) {
	c, _ := far(t, func(q request) []reply {
		got := func(id string) *claims.Answer { return &claims.Answer{ID: id, Got: claims.GotAddress{}} }
		switch q.Do {
		case "ask":
			return []reply{
				{Number: q.Number, Answer: got("a")},
				{Number: q.Number, Answer: got("a")},
				{Number: q.Number, Answer: got("z")},
				{Number: q.Number, Early: true},
				{Number: q.Number, Answer: got("b")},
				{Number: q.Number, Done: true},
			}
		case "introduce":
			return []reply{{Number: q.Number, Done: true, Error: "no packet filter"}}
		}
		return nil
	})
	var told []string
	tell := func(a claims.Answer) { told = append(told, a.ID+a.Missing) }
	late := c.Ask(t.Context(), claims.Witness{}, []stage.Request{question("a"), question("b"), question("c")}, tell)
	assert.Equal(t, []string{"a"}, told)
	assert.ErrorContains(
		t,
		c.Introduce(t.Context(), true),
		"no packet filter",
		"others are served while something is late",
	)
	late(tell)
	assert.Equal(t, []string{"a", "b", "cthe machine did not answer that"}, told)
	late(tell)
	assert.Len(t, told, 3)

	told = nil
	assert.ErrorIs(t, c.Forget(t.Context()), ErrGone)
	<-c.Gone()
	c.Ask(t.Context(), claims.Witness{}, []stage.Request{question("a")}, tell)(tell)
	require.Len(t, told, 1)
	assert.Contains(t, told[0], "the machine is gone")
}

// What a machine says by itself is kept; noise before it is not heard.
func TestSaidByItself(t *testing.T) {
	c, say := far(t, func(q request) []reply { return []reply{{Number: q.Number, Done: true}} })
	assert.Nil(t, c.Addresses())
	say(reply{Hello: true}, reply{Hello: true})
	<-c.Hello()
	say(reply{Addresses: []Address{{Four: netip.MustParsePrefix("10.83.16.50/24")}}})
	require.NoError(t, c.Become(t.Context(), Role{Machine: "heron"}))
	assert.Equal(t, "10.83.16.50/24", c.Addresses()[0].Four.String())
	select {
	case <-c.Ready():
		t.Fatal("it is not ready yet")
	default:
	}
	say(reply{Settled: true}, reply{Settled: true})
	<-c.Ready()
	c.Restarted()
	assert.Nil(t, c.Addresses())
	say(reply{Settled: true})
	<-c.Ready()
}
