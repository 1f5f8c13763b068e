package cli

import (
	"fmt"
	"os"
	"runtime"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/internal/format/iso"
)

// carry makes a disc for a guest that can be given nothing else.
func (a *app) carry() *cobra.Command {
	var o carryOptions
	var program string
	c := &cobra.Command{
		Use: "carry [LAB] --for GUEST --to FILE.iso", Short: "Put the program and a plan on a disc for guests",
		Long: `Writes an optical image with this program and the plan for one guest, for
guests that no network reaches. Nothing on it starts by itself. For a guest with another
system than this one, name a program for it: --program.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if o.guest == "" || o.to == "" {
				return usage("--for GUEST and --to FILE.iso are required")
			}
			p, err := a.load(labArg(args))
			if err != nil {
				return err
			}
			c, err := a.carriedFor(labArg(args), p, o)
			if err != nil {
				return err
			}
			line, err := c.Line()
			if err != nil {
				return err
			}
			system := runtime.GOOS
			if m := p.Machine(o.guest); m != nil && m.Guest != nil && m.Guest.System == "windows" {
				system = "windows"
			}
			if program == "" && system != runtime.GOOS {
				return usage(
					"%s runs %s, but this program is for %s: pass one for it with --program FILE",
					o.guest,
					system,
					runtime.GOOS,
				)
			}
			files, err := disc(program, system, line, o)
			if err != nil {
				return err
			}
			image, err := iso.Write("BASTION", files)
			if err != nil {
				return err
			}
			if err := a.writeNew(o.to, image, o.replace); err != nil {
				return err
			}
			a.note(
				fmt.Sprintf(
					"%s, %s: insert it into %s's drive; README.TXT on it explains the rest.",
					o.to,
					size1024(int64(len(image))),
					o.guest,
				),
			)
			return nil
		},
	}
	c.Flags().StringVar(&o.guest, "for", "", "the guest to make it for")
	c.Flags().StringVar(&o.bench, "bench", "", "the bench that the guest is of, where there are several")
	c.Flags().StringVar(&o.witness, "witness", "", "the address of the test server outside")
	c.Flags().StringVar(&o.name, "name", "", "a name that resolves to the test server")
	c.Flags().StringVar(&o.to, "to", "", "the image to write")
	c.Flags().StringVar(&program, "program", "", "the program for the guest's system (default: this one)")
	c.Flags().BoolVar(&o.replace, "replace", false, "replace an existing file")
	return c
}

// disc returns what is on a disc for a guest.
func disc(program, system, line string, o carryOptions) ([]iso.File, error) {
	if program == "" {
		own, err := os.Executable()
		if err != nil {
			return nil, err
		}
		program = own
	}
	data, err := os.ReadFile(program)
	if err != nil {
		return nil, failure{exitUsage, fmt.Sprintf("cannot read the program: %v", cause(err)), ""}
	}
	name, start := "bastion", "cp /mnt/bastion /mnt/plan.txt /tmp/\nchmod +x /tmp/bastion\nsudo /tmp/bastion probe --plan /tmp/plan.txt --to /tmp/evidence.json"
	mount := "mount /dev/sr0 /mnt\n"
	if system == "windows" {
		name, mount = "bastion.exe", ""
		start = "copy D:\\bastion.exe %TEMP%\r\ncopy D:\\plan.txt %TEMP%\r\ncd %TEMP%\r\nbastion.exe probe --plan plan.txt --to evidence.json"
	}
	readme := fmt.Sprintf(`This disc is for the guest %s.

It holds the program bastion and the plan of the lab for this guest. Nothing starts by
itself. In the guest:

%s%s

With --cut it checks too that the guest is cut off when the firewall's outer cable is
unplugged: it says when to pull it and when to plug it in again. Without administrator's
rights it does what it can, and says what it could not.

What comes of it is evidence.json: carry it back, or copy the line that
"bastion probe --plan plan.txt --line" writes.
`, o.guest, mount, start)
	return []iso.File{{Name: name, Data: data}, {Name: "plan.txt", Data: []byte(line + "\n")},
		{
			Name: "README.TXT",
			Data: []byte(strings.ReplaceAll(strings.ReplaceAll(readme, "\r\n", "\n"), "\n", "\r\n")),
		}}, nil
}
