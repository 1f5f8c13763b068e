package cli

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/internal/api"
	"openbastion/internal/model/sanitize"
	keyboard "openbastion/internal/testbed/machine/keys"
	display "openbastion/internal/testbed/machine/screen"
	"openbastion/internal/testbed/supervisor"
)

// machine is what can be done with one virtual machine of a lab that runs.
func (a *app) machine() *cobra.Command {
	c := &cobra.Command{
		Use: "machine", Short: "Control the virtual machines of a lab",
		Long: `What one does at a machine that stands on a desk, with a virtual machine of a lab that
was started with --on machines.`,
	}
	c.AddCommand(
		a.machineConsole(),
		a.machineScreen(),
		a.machineType(),
		a.machineMedia(),
		a.machinePlug("plug",
			"Plug the cable of an adapter in"),
		a.machinePlug(
			"unplug",
			"Pull the cable of an adapter",
		),
		a.machineDisplay(),
		a.machinePower("on", "Turn a machine on that is off"),
		a.machinePower("off", "Ask the machine's system to power down, and wait until it has"),
	)
	return c
}

// done runs an operation of which nothing is to be shown but that it was done.
func (a *app) done(named string, o supervisor.Operation, text string) error {
	if err := a.wantFormat("text", "json"); err != nil {
		return err
	}
	if _, err := a.operate(named, o); err != nil {
		return err
	}
	if a.format == "json" {
		return a.json(api.Done{Schema: api.DoneSchema, Machine: o.Machine, Done: text})
	}
	if !a.quiet {
		a.screen().line(signHolds, " ", text)
	}
	return nil
}

func (a *app) machineConsole() *cobra.Command {
	return &cobra.Command{
		Use: "console LAB MACHINE", Short: "The machine's serial console; Ctrl-^ leaves it",
		Long: `Joins the terminal to the machine's first serial line. What it said last is shown first.
Ctrl-^ (on many keyboards Ctrl and 6) leaves it, and the machine goes on. Without a
terminal standard input is typed, and what the machine answers within a moment is shown.`,
		Args: cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error { return a.atConsole(args[0], args[1]) },
	}
}

func (a *app) machineScreen() *cobra.Command {
	var png string
	var replace, square bool
	c := &cobra.Command{
		Use: "screen LAB MACHINE", Short: "What the machine's screen shows, as text or as a picture",
		Long: `Reads the text on a machine's screen: from its memory in text mode, else from its pixels,
held against the font of its own firmware. A cell that is in no font is shown as \uFFFD:
nothing is guessed. --square writes what the square code on it says, as "probe --square"
shows one in a guest that nothing else comes out of.`,
		Args: cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			if png != "" {
				return a.savePicture(args[0], args[1], png, replace)
			}
			said, err := a.operate(args[0], supervisor.Operation{Verb: "screen", Machine: args[1]})
			if err != nil {
				return err
			}
			var t display.Text
			if err := json.Unmarshal([]byte(said), &t); err != nil {
				return err
			}
			if square {
				return a.squareOn(args[1], t)
			}
			if a.format == "json" {
				return a.json(api.Screen{Schema: api.ScreenSchema, Machine: args[1], Text: t})
			}
			fmt.Fprintln(a.out, t)
			if t.Unknown > 0 {
				a.note(fmt.Sprintf("%d cells are in no font that is known here; --png FILE shows them.", t.Unknown))
			}
			return nil
		},
	}
	c.Flags().StringVar(&png, "png", "", "write a picture of the screen to this file")
	c.Flags().BoolVar(&square, "square", false, "write the text of its QR code")
	c.Flags().BoolVar(&replace, "replace", false, "replace an existing file")
	return c
}

// squareOn writes what the square codes on a machine's screen say.
func (a *app) squareOn(machine string, t display.Text) error {
	if len(t.Squares) == 0 {
		return failure{exitBroken, "no square code that can be read is on the screen of " + machine,
			"The whole code must be on the screen: use a display with more rows."}
	}
	for _, text := range t.Squares {
		fmt.Fprintln(a.out, sanitize.Line(text))
	}
	return nil
}

func (a *app) machineType() *cobra.Command {
	var layout string
	var enter bool
	c := &cobra.Command{
		Use: "type LAB MACHINE TEXT…", Short: "Type text, or keys by name, on the machine's keyboard",
		Long: `Types each text, one after another. What begins with a plus is a key by its name, as
+enter, +tab, +f2 or +ctrl-alt-delete; what begins with an equals sign is text without
it. A machine is sent keys by position: --layout says for which keyboard its system is set
up.`,
		Args: cobra.MinimumNArgs(3),
		RunE: func(_ *cobra.Command, args []string) error {
			board, err := keyboard.Of(layout)
			if err != nil {
				return usage("--layout: %v", err)
			}
			texts := args[2:]
			if _, err := board.Typed(texts); err != nil {
				return usage("%v", err)
			}
			if enter {
				texts = append(texts, "+enter")
			}
			return a.done(
				args[0],
				supervisor.Operation{Verb: "type", Machine: args[1], Args: append([]string{layout}, texts...)},
				"typed",
			)
		},
	}
	c.Flags().
		StringVar(&layout, "layout", "us", "the keyboard that its system is set up for: "+strings.Join(keyboard.Layouts(), ", "))
	c.Flags().BoolVar(&enter, "enter", false, "press Enter after it")
	return c
}

func (a *app) machineMedia() *cobra.Command {
	return &cobra.Command{
		Use: "media LAB MACHINE [FILE]", Short: "Insert a medium into the machine's drive; without a file, eject it",
		Args: cobra.RangeArgs(2, 3),
		RunE: func(_ *cobra.Command, args []string) error {
			o, text := supervisor.Operation{Verb: "media", Machine: args[1]}, "the drive of "+args[1]+" is empty"
			if len(args) > 2 {
				file, err := filepath.Abs(args[2])
				if err != nil {
					return err
				}
				o.Args, text = []string{file}, args[2]+" is in the drive of "+args[1]
			}
			return a.done(args[0], o, text)
		},
	}
}

func (a *app) machinePlug(verb, short string) *cobra.Command {
	return &cobra.Command{
		Use: verb + " LAB MACHINE ADAPTER", Short: short,
		Long: short + `: by its name in the plan, or its number. The machine sees its
link come and go, as with a real cable.`,
		Args: cobra.ExactArgs(3),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.done(
				args[0],
				supervisor.Operation{Verb: verb, Machine: args[1], Args: args[2:]},
				fmt.Sprintf("%s of %s: %sged", args[2],
					args[1], verb),
			)
		},
	}
}

func (a *app) machinePower(verb, short string) *cobra.Command {
	return &cobra.Command{
		Use: verb + " LAB MACHINE", Short: short, Args: cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.done(args[0], supervisor.Operation{Verb: verb, Machine: args[1]}, args[1]+" is "+verb)
		},
	}
}

func (a *app) machineDisplay() *cobra.Command {
	return &cobra.Command{
		Use: "display LAB MACHINE", Short: "Where a viewer sees the machine's screen, from this machine only",
		Long: `Serves the machine's screen to a viewer of the remote framebuffer protocol (RFC 6143) on
a port of 127.0.0.1, under a password that is made again each time.`,
		Args: cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			said, err := a.operate(args[0], supervisor.Operation{Verb: "display", Machine: args[1]})
			if err != nil {
				return err
			}
			address, password, _ := strings.Cut(said, " ")
			if a.format == "json" {
				return a.json(
					api.Display{Schema: api.DisplaySchema, Machine: args[1], Address: address, Password: password},
				)
			}
			a.screen().line(address, "  password ", password)
			return nil
		},
	}
}
