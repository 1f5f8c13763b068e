package qmp

import (
	"context"
	"encoding/json"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// peer is the far end of a talk: it answers each command by a function.
func peer(t *testing.T, answer func(command string, id int, args json.RawMessage) []string) (*Conn, *[]Event) {
	near, far := net.Pipe()
	go func() {
		defer far.Close()
		_, _ = far.Write([]byte(`{"QMP": {"version": {}, "capabilities": []}}` + "\n"))
		in := json.NewDecoder(far)
		for {
			var q struct {
				Execute   string          `json:"execute"`
				Arguments json.RawMessage `json:"arguments"`
				ID        int             `json:"id"`
			}
			if in.Decode(&q) != nil {
				return
			}
			lines := []string{}
			if q.Execute != "qmp_capabilities" {
				lines = answer(q.Execute, q.ID, q.Arguments)
			} else {
				lines = append(lines, reply(q.ID, `{}`))
			}
			if lines == nil {
				return
			}
			for _, l := range lines {
				_, _ = far.Write([]byte(l + "\n"))
			}
		}
	}()
	var events []Event
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	t.Cleanup(cancel)
	c, err := Open(ctx, near, func(e Event) { events = append(events, e) })
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c, &events
}

func reply(id int, result string) string {
	data, _ := json.Marshal(map[string]any{"id": id, "return": json.RawMessage(result)})
	return string(data)
}

// Results, errors and events come apart, whatever order they come in; a job is waited for,
// and what ends in the midst says so.
func TestTalk(t *testing.T) {
	rounds := 0
	c, events := peer(t, func(command string, id int, args json.RawMessage) []string {
		switch command {
		case "query-status":
			return []string{
				`{"event": "STOP", "data": {}}`,
				reply(id+100, `{"status": "not ours"}`),
				reply(id, `{"status": "paused"}`),
			}
		case "human-monitor-command":
			return []string{reply(id, `"portb[0x03d5] = 0x1f"`)}
		case "query-jobs":
			if rounds++; rounds < 3 {
				return []string{
					reply(
						id,
						`[{"id": "save", "status": "running"}, {"id": "other", "status": "concluded", "error": "not ours"}]`,
					),
				}
			}
			return []string{reply(id, `[{"id": "save", "status": "concluded", "error": "no room"}]`)}
		case "job-dismiss":
			return []string{reply(id, `{}`)}
		case "die":
			return nil
		}
		return []string{
			`{"id": ` + string(rune('0'+id)) + `, "error": {"class": "GenericError", "desc": "no such thing"}}`,
		}
	})
	var now struct {
		Status string `json:"status"`
	}
	require.NoError(t, c.Do(t.Context(), "query-status", nil, &now))
	assert.Equal(t, "paused", now.Status)
	require.Len(t, *events, 1)
	assert.Equal(t, "STOP", (*events)[0].Name)
	text, err := c.Human(t.Context(), "i /1b 0x3d5")
	require.NoError(t, err)
	assert.Contains(t, text, "0x1f")
	assert.ErrorContains(t, c.Do(t.Context(), "fly", nil, nil), "fly: no such thing")
	assert.ErrorContains(t, c.Job(t.Context(), "save"), "no room")
	short, cancel := context.WithCancel(t.Context())
	cancel()
	assert.Error(t, c.Do(short, "query-status", nil, nil))
	assert.ErrorIs(t, c.Do(t.Context(), "die", nil, nil), ErrGone)
	<-c.Gone()
	assert.Error(t, c.Do(t.Context(), "query-status", nil, nil))
}

// Who does not greet is no QEMU.
func TestNoGreeting(t *testing.T) {
	for _, said := range []string{"", "hello\n", `{"event": "STOP"}` + "\n"} {
		near, far := net.Pipe()
		go func() { _, _ = far.Write([]byte(said)); far.Close() }()
		_, err := Open(t.Context(), near, nil)
		assert.ErrorIs(t, err, ErrGone, said)
	}
}
