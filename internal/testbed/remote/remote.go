package remote

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"time"
)

// Host is a machine that the SSH client reaches, or this one.
type Host struct {
	Name        string
	Destination string // what the client is told; empty: this machine
	Folder      string // of the user's data there: letters, digits, hyphens and slashes
}

// File is one that a host needs, at a path below the host's folder.
type File struct {
	Path   string
	Text   []byte // what is in it; or
	From   string // the file here that it is a copy of
	Run    bool   // it is a program
	digest string
}

// ErrUnreachable is wrapped by errors of a host that the client does not reach.
var ErrUnreachable = errors.New("does not answer")

// How long the client tries, and how long a host that was reached may be silent.
const (
	connecting = "ConnectTimeout=10"
	asking     = "ServerAliveInterval=5"
	silences   = "ServerAliveCountMax=3"
)

// unreached is how the client ends when it does not reach a host (ssh(1)).
const unreached = 255

// longestLine is how long a line from a host may be.
const longestLine = 64 << 20

// Run runs a command of the POSIX shell in the host's folder and hands over each line that
// it says. An error holds what the host said about it.
func (h Host) Run(ctx context.Context, command string, in io.Reader, each func(line []byte) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	script := fmt.Sprintf(
		"umask 077; d=\"${XDG_DATA_HOME:-$HOME/.local/share}/openbastion/%s\"; mkdir -p \"$d\" && cd \"$d\" && %s",
		h.Folder,
		command,
	)
	c := exec.CommandContext(ctx, "sh", "-c", script)
	if h.Destination != "" {
		c = h.overSSH(ctx, script)
	}
	c.WaitDelay = time.Second
	var said bytes.Buffer
	c.Stdin, c.Stderr = in, &said
	out, err := c.StdoutPipe()
	if err != nil {
		return err
	}
	if err := c.Start(); err != nil {
		return fmt.Errorf("%s is not here: %w", c.Path, err)
	}
	lines := bufio.NewScanner(out)
	lines.Buffer(nil, longestLine)
	var failed error
	for failed == nil && lines.Scan() {
		failed = each(lines.Bytes())
	}
	if failed = errors.Join(failed, lines.Err()); failed != nil {
		cancel()
	}
	err = c.Wait()
	switch exit := (*exec.ExitError)(nil); {
	case failed != nil:
		return failed
	case ctx.Err() != nil:
		return ctx.Err()
	case h.Destination != "" && errors.As(err, &exit) && exit.ExitCode() == unreached:
		return fmt.Errorf("%s %w: %s", h.Name, ErrUnreachable, lastLine(said.String(), "no reason was given"))
	case err != nil:
		return fmt.Errorf("%s: %s", h.Name, lastLine(said.String(), err.Error()))
	}
	return nil
}

// overSSH makes the command of the user's SSH client for a script.
func (h Host) overSSH(ctx context.Context, script string) *exec.Cmd {
	return exec.CommandContext(ctx, "ssh", "-T", "-o", "BatchMode=yes", "-o", connecting, "-o", asking, "-o", silences,
		"--", h.Destination, "sh -c "+Quote(script))
}

// Quote makes one word of the POSIX shell of a text (POSIX.1-2024, Shell Command Language 2.2.2).
func Quote(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

func lastLine(text, otherwise string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	if last := strings.TrimSpace(lines[len(lines)-1]); last != "" {
		return last
	}
	return otherwise
}

// System is what a host says of itself, as uname(1): "Linux x86_64".
func (h Host) System(ctx context.Context) (string, error) {
	var name string
	err := h.Run(ctx, "uname -sm", nil, func(line []byte) error {
		name = string(line)
		return nil
	})
	return name, err
}

// Digest reckons the digests of files, so that it is done once for all hosts.
func Digest(files []File) error {
	for i := range files {
		f := &files[i]
		in, err := f.open()
		if err != nil {
			return err
		}
		sum := sha256.New()
		_, err = io.Copy(sum, in)
		if err = errors.Join(err, in.Close()); err != nil {
			return err
		}
		f.digest = hex.EncodeToString(sum.Sum(nil))
	}
	return nil
}

func (f File) open() (io.ReadCloser, error) {
	if f.From == "" {
		return io.NopCloser(bytes.NewReader(f.Text)), nil
	}
	return os.Open(f.From)
}

// Send sends those files that the host does not have with the same digest.
func (h Host) Send(ctx context.Context, files []File) error {
	asked := "sha256sum --"
	for _, f := range files {
		asked += " " + Quote(f.Path)
	}
	there := map[string]string{}
	err := h.Run(ctx, asked+" 2>/dev/null || true", nil, func(line []byte) error {
		if sum, path, ok := strings.Cut(string(line), "  "); ok {
			there[path] = sum
		}
		return nil
	})
	if err != nil {
		return err
	}
	var missing []File
	for _, f := range files {
		if there[f.Path] != f.digest {
			missing = append(missing, f)
		}
	}
	if len(missing) == 0 {
		return nil
	}
	in, out := io.Pipe()
	packed := make(chan error, 1)
	go func() {
		err := pack(out, missing)
		_ = out.CloseWithError(err)
		packed <- err
	}()
	err = h.Run(ctx, "tar -xf -", in, func([]byte) error { return nil })
	_ = in.CloseWithError(errors.New("the host takes no more"))
	if own := <-packed; err == nil && own != nil {
		err = own
	}
	return err
}

// pack writes files as an archive of tar(5), pax form.
func pack(to io.Writer, files []File) error {
	out := tar.NewWriter(to)
	for _, f := range files {
		if err := packOne(out, f); err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
	}
	return out.Close()
}

func packOne(out *tar.Writer, f File) error {
	size, mode := int64(len(f.Text)), int64(0o600)
	if f.From != "" {
		info, err := os.Stat(f.From)
		if err != nil {
			return err
		}
		size = info.Size()
	}
	if f.Run {
		mode = 0o700
	}
	if err := out.WriteHeader(&tar.Header{Name: f.Path, Typeflag: tar.TypeReg, Size: size, Mode: mode}); err != nil {
		return err
	}
	in, err := f.open()
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, in.Close())
}

// Remove takes the host's folder away with all that is in it.
func (h Host) Remove(ctx context.Context) error {
	return h.Run(
		ctx,
		`cd / && rm -rf -- "$d" && { rmdir -- "${d%/*}" 2>/dev/null || true; }`,
		nil,
		func([]byte) error { return nil },
	)
}
