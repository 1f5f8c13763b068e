// Package inside is the program as the first process of a reference machine: it loads the
// modules that came with it, finds the channel to the program outside, and becomes the
// machine that it is told to be. Its console takes a few questions.
package inside

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"openbastion/internal/testbed/machine/agent"
	"openbastion/internal/testbed/machine/boot"
)

// Run is the first process. It does not return but on an error, which ends the machine.
func Run() error {
	for _, m := range []struct{ kind, at string }{{"proc", "/proc"}, {"sysfs", "/sys"}, {"devtmpfs", "/dev"}} {
		if err := unix.Mount(m.kind, m.at, m.kind, 0, ""); err != nil && !errors.Is(err, unix.EBUSY) {
			return fmt.Errorf("mount %s: %w", m.at, err)
		}
	}
	if err := loadModules("/" + boot.Folder); err != nil {
		return err
	}
	go powerButton()
	channel, err := openChannel()
	if err != nil {
		return err
	}
	consoles := startConsoles()
	err = agent.Serve(context.Background(), patient{channel}, func(m *agent.Machine) {
		_ = unix.Sethostname([]byte(m.Self.Name))
		for _, c := range consoles {
			c.become(m)
		}
	})
	return fmt.Errorf("the channel to the program has ended: %w", err)
}

// loadModules loads every file of a folder, in order (finit_module(2)).
func loadModules(folder string) error {
	files, err := filepath.Glob(folder + "/*.ko")
	if err != nil {
		return err
	}
	slices.Sort(files)
	for _, name := range files {
		f, err := os.Open(name)
		if err != nil {
			return err
		}
		err = unix.FinitModule(int(f.Fd()), "", 0)
		f.Close()
		if err != nil && !errors.Is(err, unix.EEXIST) &&
			!errors.Is(err, unix.ENODEV) { // there already, or nothing here for it
			return fmt.Errorf("load %s: %w", filepath.Base(name), err)
		}
		_ = os.Remove(name) // its memory is better used
	}
	return nil
}

// patient reads a channel whose far end may not be there yet, which the system tells as if
// it had ended.
type patient struct{ *os.File }

// Read waits for something to read.
func (p patient) Read(b []byte) (int, error) {
	for {
		n, err := p.File.Read(b)
		if n > 0 || err != nil && !errors.Is(err, io.EOF) {
			return n, err
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// channelTime is how long the system may take to find the channel.
const channelTime = 30 * time.Second

// openChannel finds the channel by its name.
func openChannel() (*os.File, error) {
	for began := time.Now(); time.Since(began) < channelTime; time.Sleep(10 * time.Millisecond) {
		names, _ := filepath.Glob("/sys/class/virtio-ports/*/name")
		for _, file := range names {
			data, err := os.ReadFile(file)
			if err != nil || strings.TrimSpace(string(data)) != agent.Channel {
				continue
			}
			port := filepath.Base(filepath.Dir(file))
			f, err := os.OpenFile("/dev/"+port, os.O_RDWR, 0)
			if err == nil {
				return f, nil
			}
		}
	}
	return nil, errors.New("this machine has no channel to the program")
}

// Of the kernel's input events (linux/input-event-codes.h).
const (
	eventSize = 24 // on machines of 64 bits: two long of the time, two u16, an s32
	eventKey  = 1
	keyPower  = 116
)

// powerButton turns the machine off when somebody presses its button.
func powerButton() {
	for {
		files, _ := filepath.Glob("/dev/input/event*")
		for _, name := range files {
			go func() {
				f, err := os.Open(name)
				if err != nil {
					return
				}
				defer f.Close()
				b := make([]byte, eventSize)
				for {
					if n, err := f.Read(b); err != nil || n < eventSize {
						return
					}
					kind, code, value := uint16(b[16])|uint16(b[17])<<8, uint16(b[18])|uint16(b[19])<<8, b[20]
					if kind == eventKey && code == keyPower && value == 1 {
						off()
					}
				}
			}()
		}
		if len(files) > 0 {
			return
		}
		time.Sleep(200 * time.Millisecond)
	}
}

func off() {
	unix.Sync()
	_ = unix.Reboot(unix.LINUX_REBOOT_CMD_POWER_OFF)
}
