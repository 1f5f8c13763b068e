package libvirt

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// systemSocket is where the system's daemon is asked by whoever may only read.
const systemSocket = "/run/libvirt/libvirt-sock-ro"

// IsURI reports whether a text names a machine manager: qemu:///system, qemu:///session, or
// qemu+ssh://[USER@]HOST/system for the one of another host.
func IsURI(text string) bool {
	driver, _, ok := strings.Cut(text, ":///")
	if !ok {
		driver, _, ok = strings.Cut(text, "://")
	}
	return ok && (driver == "qemu" || driver == "qemu+ssh" || driver == "qemu+unix")
}

// Dial reaches the daemon that a URI names: on this host by its socket, which ?socket=PATH may name, on another one by the
// user's own SSH client.
func Dial(ctx context.Context, uri string) (*Client, error) {
	u, err := url.Parse(uri)
	if err != nil || !IsURI(uri) {
		return nil, fmt.Errorf(
			"%q names no machine manager: write qemu:///system, qemu:///session or qemu+ssh://HOST/system",
			uri,
		)
	}
	local := "qemu://" + u.Path
	if u.Path != "/system" && u.Path != "/session" {
		return nil, fmt.Errorf("%q: its end is /system or /session", uri)
	}
	var conn io.ReadWriteCloser
	if u.Scheme == "qemu+ssh" {
		conn, err = bySSH(ctx, u, local)
	} else if u.Host != "" {
		return nil, fmt.Errorf("%q: another host is reached by SSH: qemu+ssh://%s%s", uri, u.Host, u.Path)
	} else {
		conn, err = (&net.Dialer{}).DialContext(ctx, "unix", socketOf(u))
	}
	if err != nil {
		return nil, unreached(uri, err)
	}
	c, err := New(conn, local)
	if err != nil {
		conn.Close()
	}
	return c, err
}

// socketOf returns where the daemon of a URI listens on this host.
func socketOf(u *url.URL) string {
	if path := u.Query().Get("socket"); path != "" {
		return path
	}
	if u.Path == "/system" {
		return systemSocket
	}
	base := os.Getenv("XDG_RUNTIME_DIR")
	if base == "" {
		base = fmt.Sprintf("/run/user/%d", os.Getuid())
	}
	return filepath.Join(base, "libvirt", "libvirt-sock")
}

// missing is a daemon that is not there, or may not be asked.
type missing struct{ error }

func (e missing) Unwrap() error { return e.error }

// Lacks says that it is this machine that lacks something.
func (missing) Lacks() bool { return true }

func unreached(uri string, err error) error {
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	switch {
	case errors.Is(err, os.ErrNotExist):
		err = errors.New("its daemon does not run here")
	case errors.Is(err, os.ErrPermission):
		err = errors.New("this user may not ask its daemon")
	}
	return missing{fmt.Errorf("%s: %w", uri, err)}
}

// session is the connection by an SSH client.
type session struct {
	io.WriteCloser
	io.Reader
	cmd *exec.Cmd
}

func (s session) Close() error {
	err := s.WriteCloser.Close()
	_ = s.cmd.Wait() // what it says of its end is of no use any more
	return err
}

// bySSH asks on another host: by libvirt's own helper there, or else by a program that joins its socket.
func bySSH(ctx context.Context, u *url.URL, local string) (io.ReadWriteCloser, error) {
	host := u.Hostname()
	if u.User != nil {
		host = u.User.Username() + "@" + host
	}
	if u.Hostname() == "" || strings.HasPrefix(host, "-") {
		return nil, errors.New("it names no host")
	}
	args := []string{"-T"}
	if port := u.Port(); port != "" {
		args = append(args, "-p", port)
	}
	there := fmt.Sprintf(
		"if command -v virt-ssh-helper >/dev/null; then exec virt-ssh-helper -r %s; else exec nc -U %s; fi",
		local,
		systemSocket,
	)
	cmd := exec.CommandContext(ctx, "ssh", append(args, "--", host, there)...)
	cmd.Stderr = os.Stderr
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	return session{in, out, cmd}, nil
}
