//go:build linux

package kernel

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/verify/claims"
)

// edited returns the sample lab with texts replaced, each by the one after it.
func edited(t testing.TB, pairs ...string) string {
	data, err := examples.Labs.ReadFile("saltmarsh.yaml")
	require.NoError(t, err)
	text := string(data)
	for i := 0; i < len(pairs); i += 2 {
		require.Contains(t, text, pairs[i])
		text = strings.Replace(text, pairs[i], pairs[i+1], 1)
	}
	return text
}

// dial opens a TCP connection from a machine of a lab.
func dial(t *testing.T, l *Lab, machine, to string) net.Conn {
	x, err := l.byName(machine)
	require.NoError(t, err)
	var c net.Conn
	require.NoError(t, x.space.Do(func() error {
		c, err = (&net.Dialer{}).DialContext(t.Context(), "tcp", to)
		return err
	}))
	t.Cleanup(func() { c.Close() })
	return c
}

// Connections that no change touches go on, inside and through the appliance to the outside; what the new rules
// forbid is ended, and a program in a machine that stays goes on.
func TestApplyInterruptsNothingElse(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	l, err := Up(t.Context(), planned(t, edited(t)), Options{})
	require.NoError(t, err)
	defer func() { l.Down() }()
	ferry, err := l.byName("ferry")
	require.NoError(t, err)
	server, err := ferry.space.listen(9000)
	require.NoError(t, err)
	defer server.Close()
	go func() {
		for {
			c, err := server.Accept()
			if err != nil {
				return
			}
			go func() { _, _ = io.Copy(c, c) }()
		}
	}()
	inside := dial(t, l, "heron", "10.83.32.10:9000")
	outside := dial(t, l, "heron", net.JoinHostPort(l.live.Facts().Witness.Address.String(), "80"))
	echo := func(what string) {
		_, err := fmt.Fprintln(inside, what)
		require.NoError(t, err, what)
		line, err := bufio.NewReader(inside).ReadString('\n')
		require.NoError(t, err, what)
		assert.Equal(t, what+"\n", line)
	}
	echo("before")
	guest := []string{"  newt: tidepool\n", "  newt: tidepool\n  egret: reedbed\n"}
	rule := []string{"      - refuse tcp/25 from", "      - deny tcp/587 from boathouse to outside\n      - refuse tcp/25 from"}
	segment := []string{
		"appliances:", "  islet: {reach: isolated, subnet: 10.83.64.0/24}\n\nappliances:",
		"      - {role: lan, name: quarantine", "      - {role: lan, name: islet, segment: islet}\n      - {role: lan, name: quarantine",
	}
	for _, edits := range [][]string{guest, append(guest, rule...), append(append(guest, rule...), segment...)} {
		p := planned(t, edited(t, edits...))
		made, err := l.Apply(t.Context(), p)
		require.NoError(t, err)
		l = made.(*Lab)
		echo(fmt.Sprint("after ", len(edits)))
	}
	_, err = fmt.Fprint(outside, "GET / HTTP/1.0\r\n\r\n")
	require.NoError(t, err)
	page, err := io.ReadAll(outside)
	require.NoError(t, err)
	assert.Contains(t, string(page), "200", "the connection to the outside went on")
	p := planned(t, edited(t, append(append(append(guest, rule...), segment...),
		"      - allow any from reedbed to outside,boathouse", "      - allow any from reedbed to outside")...))
	made, err := l.Apply(t.Context(), p)
	require.NoError(t, err)
	l = made.(*Lab)
	_, err = fmt.Fprintln(inside, "forbidden now")
	require.NoError(t, err)
	require.NoError(t, inside.SetReadDeadline(time.Now().Add(700*time.Millisecond)))
	_, err = bufio.NewReader(inside).ReadString('\n')
	assert.ErrorIs(t, err, os.ErrDeadlineExceeded, "what the rules forbid now does not go on")
	doc, _, err := claims.Run(t.Context(), p, l)
	require.NoError(t, err)
	for _, r := range doc.Claims {
		if r.Verdict == claims.Broken {
			assert.Contains(t, []string{"heron-ferry.expect"}, r.ID, r.Observed)
		}
	}
}

// A plan that cannot be made leaves the lab as it was.
func TestApplyOrNothing(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	l, err := Up(t.Context(), planned(t, edited(t)), Options{Servers: []string{"boathouse"}})
	require.NoError(t, err)
	defer l.Down()
	before := l.Inventory()
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	for name, apply := range map[string]func() error{
		"a segment that is needed is gone": func() error {
			_, err := l.Apply(t.Context(), planned(t, edited(t, "  newt: tidepool", "  newt: reedbed",
				"      - {role: dmz, segment: boathouse, address: 10.83.32.1/24}\n", "",
				"  ferry: {segment: boathouse, static: 10.83.32.10/24, gateway: 10.83.32.1, dns: [10.83.32.1]}", "  ferry: reedbed",
				"  boathouse:                     # a published web server\n    reach: isolated\n    subnet: 10.83.32.0/24\n", "",
				"      - allow any from reedbed to outside,boathouse", "      - allow any from reedbed to outside",
				"      - allow tcp/80,tcp/443,udp/53,udp/123,icmp from boathouse to outside\n", "")))
			return err
		},
		"it is interrupted": func() error {
			_, err := l.Apply(ctx, planned(t, edited(t, "  newt: tidepool\n", "  newt: tidepool\n  egret: reedbed\n")))
			return err
		},
	} {
		require.Error(t, apply(), name)
		assert.Equal(t, before, l.Inventory(), name)
	}
	made, err := l.Apply(t.Context(), planned(t, edited(t, "  newt: tidepool\n", "  newt: tidepool\n  egret: reedbed\n")))
	require.NoError(t, err, "and it can be changed after that")
	l = made.(*Lab)
	assert.Len(t, l.Status().Machines, 6)
}

// How long it takes to change one rule of a lab that runs, and to add one guest, beside a fresh start.
func BenchmarkApply(b *testing.B) {
	if os.Getuid() != 0 {
		b.Skip("needs root for network namespaces")
	}
	for name, edits := range map[string][]string{
		"one rule":  {"      - refuse tcp/25 from", "      - deny tcp/587 from boathouse to outside\n      - refuse tcp/25 from"},
		"one guest": {"  newt: tidepool\n", "  newt: tidepool\n  egret: reedbed\n"},
	} {
		b.Run(name, func(b *testing.B) {
			was, now := planned(b, edited(b)), planned(b, edited(b, edits...))
			l, err := Up(b.Context(), was, Options{})
			require.NoError(b, err)
			defer func() { l.Down() }()
			for i := 0; b.Loop(); i++ {
				p := now
				if i%2 == 1 {
					p = was
				}
				made, err := l.Apply(b.Context(), p)
				require.NoError(b, err)
				l = made.(*Lab)
			}
		})
	}
	b.Run("fresh start", func(b *testing.B) {
		p := planned(b, edited(b))
		for b.Loop() {
			l, err := Up(b.Context(), p, Options{})
			require.NoError(b, err)
			l.Down()
		}
	})
}
