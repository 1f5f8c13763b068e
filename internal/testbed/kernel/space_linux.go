package kernel

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"strings"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"
)

// Space is a network namespace. It lives until Close, or until this program ends.
type Space struct {
	fd    int
	here  bool // it is the one of this process
	links *netlink.Handle
}

// NewSpace makes an empty namespace, without IPv6 on what will be made in it and
// with its loopback up. It needs the right to make namespaces (CAP_SYS_ADMIN).
func NewSpace() (*Space, error) {
	s := &Space{fd: -1}
	err := apart(func() error {
		if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
			return fmt.Errorf("make a network namespace: %w", err)
		}
		fd, err := unix.Open(ownSpace, unix.O_RDONLY|unix.O_CLOEXEC, 0)
		if err != nil {
			return fmt.Errorf("hold a network namespace: %w", err)
		}
		s.fd = fd
		return errors.Join(set("net.ipv6.conf.all.disable_ipv6", "1"), set("net.ipv6.conf.default.disable_ipv6", "1"))
	})
	if err == nil {
		s.links, err = netlink.NewHandleAt(netns.NsHandle(s.fd), unix.NETLINK_ROUTE)
	}
	if err == nil {
		err = s.up("lo")
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// ownSpace is the network namespace of the calling thread.
const ownSpace = "/proc/thread-self/ns/net"

// apart calls a function on a thread of its own, which ends with it: whatever the
// function did to the thread's namespaces is gone.
func apart(f func() error) error {
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with the goroutine
		done <- f()
	}()
	return <-done
}

// Do calls a function on a thread in the namespace. Sockets that it makes stay there.
func (s *Space) Do(f func() error) error {
	if s.here {
		return f()
	}
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	was, err := unix.Open(ownSpace, unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("this thread's network namespace: %w", err)
	}
	defer unix.Close(was)
	if err := unix.Setns(s.fd, unix.CLONE_NEWNET); err != nil {
		return fmt.Errorf("enter a network namespace: %w", err)
	}
	defer func() {
		if err := unix.Setns(was, unix.CLONE_NEWNET); err != nil {
			panic(fmt.Sprintf("a thread is lost in a network namespace: %v", err)) // to go on would touch the wrong one
		}
	}()
	return f()
}

// Close returns the namespace up; the kernel takes it away when nobody uses it.
func (s *Space) Close() {
	if s.links != nil {
		s.links.Close()
	}
	if s.fd >= 0 {
		_ = unix.Close(s.fd)
		s.fd = -1
	}
}

func (s *Space) up(name string) error {
	l, err := s.links.LinkByName(name)
	if err == nil {
		err = s.links.LinkSetUp(l)
	}
	if err != nil {
		return fmt.Errorf("start %s: %w", name, err)
	}
	return nil
}

// settingName refuses what is no name of a kernel setting: parts of lower-case
// letters, digits, hyphens and underscores.
func settingName(name string) bool {
	return name != "" && strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789_-.") == "" &&
		!strings.Contains(name, "..")
}

// set returns a kernel setting a value, in the namespace of the calling thread. A
// setting that this kernel does not have is no error: it has not what it governs.
func set(name, value string) error {
	if !settingName(name) {
		return fmt.Errorf("%q is not a kernel setting", name)
	}
	err := os.WriteFile("/proc/sys/"+strings.ReplaceAll(name, ".", "/"), []byte(value), 0)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}

// setFor returns a device's setting a value: its name may hold dots.
func setFor(family, device, setting, value string) error {
	if strings.ContainsAny(device, "/\x00") || device == "" || device == "." || device == ".." {
		return fmt.Errorf("%q is not a device name", device)
	}
	err := os.WriteFile("/proc/sys/net/"+family+"/conf/"+device+"/"+setting, []byte(value), 0)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}

// OpenSpace opens a namespace that something holds by a path. It takes the rights to enter it.
func OpenSpace(path string) (*Space, error) {
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("the network namespace %s: %w", path, err)
	}
	s := &Space{fd: fd}
	if s.links, err = netlink.NewHandleAt(netns.NsHandle(fd), unix.NETLINK_ROUTE); err != nil {
		s.Close()
		return nil, fmt.Errorf("the network namespace %s: %w", path, err)
	}
	return s, nil
}
