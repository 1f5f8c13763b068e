//go:build linux

package cli

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/binary"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"openbastion/internal/classroom/class"
	"openbastion/internal/verify/claims"
)

// sshHost is a host that the SSH client reaches: this machine, with folders of its own.
type sshHost struct {
	t        *testing.T
	dir      string
	port     int
	config   ssh.ServerConfig
	listener net.Listener
	lock     sync.Mutex
	open     []net.Conn
}

// newSSHHost makes a host with a key of its own, which lets one key of a user in.
func newSSHHost(t *testing.T, user ssh.PublicKey) *sshHost {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	own, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	h := &sshHost{t: t, dir: t.TempDir()}
	h.config.PublicKeyCallback = func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if string(key.Marshal()) != string(user.Marshal()) {
			return nil, errors.New("unknown key")
		}
		return nil, nil
	}
	h.config.AddHostKey(own)
	h.up()
	t.Cleanup(h.down)
	return h
}

func (h *sshHost) up() {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", h.port))
	require.NoError(h.t, err)
	h.listener, h.port = l, l.Addr().(*net.TCPAddr).Port
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			h.lock.Lock()
			h.open = append(h.open, c)
			h.lock.Unlock()
			go h.serve(c)
		}
	}()
}

// down is a host that dies: nothing answers any more.
func (h *sshHost) down() {
	_ = h.listener.Close()
	h.lock.Lock()
	defer h.lock.Unlock()
	for _, c := range h.open {
		_ = c.Close()
	}
	h.open = nil
}

func (h *sshHost) serve(c net.Conn) {
	conn, channels, requests, err := ssh.NewServerConn(c, &h.config)
	if err != nil {
		return
	}
	defer conn.Close()
	go ssh.DiscardRequests(requests)
	for ch := range channels {
		channel, requests, err := ch.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range requests {
				_ = r.Reply(r.Type == "exec", nil)
				if r.Type == "exec" {
					go h.run(channel, string(r.Payload[4:]))
				}
			}
		}()
	}
}

func (h *sshHost) run(channel ssh.Channel, command string) {
	c := exec.Command("sh", "-c", command)
	c.Env = append(os.Environ(), "XDG_STATE_HOME="+h.dir+"/state", "XDG_DATA_HOME="+h.dir+"/data")
	c.Stdout, c.Stderr = channel, channel.Stderr()
	in, err := c.StdinPipe()
	if err == nil {
		go func() {
			buffer := make([]byte, 1<<16)
			for n, err := 0, error(nil); err == nil; {
				if n, err = channel.Read(buffer); n > 0 {
					_, _ = in.Write(buffer[:n])
				}
			}
			_ = in.Close()
		}()
		_ = c.Run()
	}
	_, _ = channel.SendRequest(
		"exit-status",
		false,
		binary.BigEndian.AppendUint32(nil, uint32(max(c.ProcessState.ExitCode(), 0))),
	)
	_ = channel.Close()
}

// classroom returns hosts, and a call of the program that reaches them by the SSH client.
func classroom(t *testing.T, names ...string) (map[string]*sshHost, func(args ...string) *exec.Cmd) {
	client, err := exec.LookPath("ssh")
	if err != nil || os.Getuid() != 0 {
		t.Skip("needs an SSH client, and root for network namespaces")
	}
	public, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(key, "")
	require.NoError(t, err)
	user, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	b := newBench(t)
	require.NoError(t, os.WriteFile(b.dir+"/key", pem.EncodeToMemory(block), 0o600))
	hosts, config := map[string]*sshHost{}, ""
	for _, name := range names {
		hosts[name] = newSSHHost(t, user)
		config += fmt.Sprintf(
			"Host %s\n HostName 127.0.0.1\n Port %d\n IdentityFile %s/key\n StrictHostKeyChecking no\n"+
				" UserKnownHostsFile /dev/null\n LogLevel ERROR\n",
			name,
			hosts[name].port,
			b.dir,
		)
	}
	require.NoError(t, os.WriteFile(b.dir+"/config", []byte(config), 0o600))
	require.NoError(t, os.Mkdir(b.dir+"/bin", 0o700))
	require.NoError(
		t,
		os.WriteFile(
			b.dir+"/bin/ssh",
			fmt.Appendf(nil, "#!/bin/sh\nexec %s -F %s/config \"$@\"\n", client, b.dir),
			0o700,
		),
	)
	t.Cleanup(func() { _ = b.bastion("stop", "--all").Run() })
	return hosts, func(args ...string) *exec.Cmd {
		c := b.bastion(args...)
		c.Env = append(c.Env, "PATH="+b.dir+"/bin:"+os.Getenv("PATH"))
		return c
	}
}

// said runs a command that ends with a status, and reads what it says.
func said[T any](t *testing.T, c *exec.Cmd, status int) (doc T) {
	c.Args = append(c.Args, "--format", "json")
	out, err := c.Output()
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		assert.Equal(t, status, exit.ExitCode(), "%v: %s", c.Args, exit.Stderr)
	} else {
		require.NoError(t, err)
		assert.Equal(t, status, 0, "%v", c.Args)
	}
	require.NoError(t, json.Unmarshal(out, &doc), "%s", out)
	return doc
}

// where returns on which host each bench runs.
func where(s class.Status) map[string]string {
	out := map[string]string{}
	for _, b := range s.Benches {
		if b.Phase == "running" && b.Why == "" {
			out[b.Name] = b.Host
		}
	}
	return out
}

// The benches of a class run on two hosts; one dies, and what it carried is unknown, while
// the rest holds; a start again puts that elsewhere; when the host is back, what still ran
// there is ended; a stop leaves nothing anywhere.
func TestClassOverHosts(t *testing.T) {
	hosts, bastion := classroom(t, "kiln", "loft")
	dir := bastion().Dir
	file := func(memory string) {
		require.NoError(t, os.WriteFile(dir+"/hosts.yaml", fmt.Appendf(
			nil,
			"bastion-hosts: 1\nbenches: 3\nhosts:\n  kiln: {cpus: 4, memory: %s}\n  loft: {cpus: 2, memory: 1GiB}\n",
			memory,
		), 0o600))
	}
	file("1GiB")
	placed := map[string]string{"saltmarsh-1": "kiln", "saltmarsh-2": "kiln", "saltmarsh-3": "loft"}
	start := []string{"start", "--hosts", "hosts.yaml"}
	assert.Equal(t, placed, where(said[class.Status](t, bastion(start...), 0)))
	assert.Equal(t, placed, where(said[class.Status](t, bastion("status"), 0)))
	v := said[class.Verdict](t, bastion("verify", "saltmarsh"), 0)
	assert.Equal(t, claims.Holds, v.Verdict)

	hosts["loft"].down()
	v = said[class.Verdict](t, bastion("verify"), 1)
	assert.Equal(t, claims.Unknown, v.Verdict)
	for _, b := range v.Benches {
		assert.Equal(t, b.Host == "loft", b.Verdict == claims.Unknown, b.Name)
	}
	placed["saltmarsh-3"] = "kiln"
	assert.Equal(t, placed, where(said[class.Status](t, bastion(start...), 0)), "healed")

	hosts["loft"].up()
	there := func() []string {
		list, err := filepath.Glob(hosts["loft"].dir + "/state/openbastion/labs/*/record.json")
		require.NoError(t, err)
		return list
	}
	assert.Len(t, there(), 1, "it goes on while nobody reaches it")
	assert.Equal(t, placed, where(said[class.Status](t, bastion(start...), 0)))
	assert.Empty(t, there(), "it was told that its bench is elsewhere")

	file("128MiB") // less than what it carries
	moved := where(said[class.Status](t, bastion(start...), 0))
	assert.Equal(t, map[string]string{"saltmarsh-1": "kiln", "saltmarsh-2": "loft", "saltmarsh-3": "loft"}, moved)

	hosts["kiln"].down()
	require.Error(t, bastion("stop").Run(), "one host is silent: it is not over")
	hosts["kiln"].up()
	out, err := bastion("stop").CombinedOutput()
	require.NoError(t, err, "%s", out)
	for name, h := range hosts {
		left, err := filepath.Glob(h.dir + "/*/openbastion/*/*")
		require.NoError(t, err)
		assert.Empty(t, left, name)
	}
	require.Error(t, bastion("status", "saltmarsh").Run(), "nothing is known of it any more")
}
