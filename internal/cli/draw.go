package cli

import (
	"bytes"
	"fmt"
	"net/netip"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/internal/render/diagram"
	"openbastion/internal/verify/reachability"
	"openbastion/internal/verify/verdict"
)

func (a *app) draw() *cobra.Command {
	var form, to, with, ground string
	var o diagram.Options
	var scale float64
	var replace, matrix bool
	c := &cobra.Command{
		Use: "draw [LAB]", Short: "Draw the network diagram",
		Long: `Draws the lab: the outside at the top, appliances as gates, the segments inside
as bars, guests below. Without --form it follows the name of --to, and is text
otherwise. --with takes what "rehearse --format json" wrote and paints it in.
Of more than eight guests on a segment those that are alike become one group.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text"); err != nil {
				return err
			}
			if form == "" {
				form = "text"
				if ext := strings.TrimPrefix(strings.ToLower(filepath.Ext(to)), "."); oneOf(ext, "svg", "png", "pdf") {
					form = ext
				}
			}
			if !oneOf(form, "svg", "png", "pdf", "text") {
				return usage("--form is svg, png, pdf or text, not %q", form)
			}
			if g := diagram.Ground(ground); g != diagram.Light && g != diagram.Dark {
				return usage("--ground is light or dark, not %q", ground)
			}
			p, err := a.loadWarned(labArg(args))
			if err != nil {
				return err
			}
			if with != "" {
				if o.Verdict, err = a.verdictFile(with, p.Name); err != nil {
					return err
				}
			}
			if matrix {
				o.Passes = reachability.New(p, netip.Addr{}).Matrix()
			}
			var b bytes.Buffer
			g := diagram.Ground(ground)
			switch form {
			case "svg":
				err = diagram.Of(p, o).SVG(&b, g)
			case "png":
				picture := diagram.Of(p, o)
				if scale == 0 {
					scale = picture.Screen()
				}
				err = picture.PNG(&b, g, scale)
			case "pdf":
				err = diagram.Of(p, o).PDF(&b, g)
			case "text":
				for _, line := range diagram.Text(p, o, a.lineWidth(to)) {
					fmt.Fprintln(&b, line)
				}
			}
			if err != nil {
				return usage("%s", err)
			}
			if s := a.screen(); to == "" && s.tty && (form == "png" || form == "pdf") {
				return usage("%s does not fit a terminal; use --to FILE", form)
			}
			return a.deliver(to, "the drawing", b.Bytes(), replace)
		},
	}
	c.Flags().StringVar(&form, "form", "", "svg, png, pdf or text")
	c.Flags().StringVar(&to, "to", "", "the file to write (default: standard output)")
	c.Flags().BoolVar(&replace, "replace", false, "replace an existing file")
	c.Flags().StringVar(&with, "with", "", "a verdict to show: a JSON file, or - for standard input")
	c.Flags().StringVar(&ground, "ground", "light", "background: light or dark")
	c.Flags().BoolVar(&matrix, "matrix", false, "below each guest, what it reaches and where, from the proof")
	c.Flags().BoolVar(&o.All, "all", false, "every guest, however many")
	c.Flags().Float64Var(&scale, "scale", 0, "png: pixels per point (default: as fits a screen)")
	return c
}

// maxVerdict bounds a verdict file.
const maxVerdict = 64 << 20

// verdictFile reads a verdict that is about a lab.
func (a *app) verdictFile(file, name string) (*verdict.Document, error) {
	data, err := a.read(file, maxVerdict)
	if err != nil {
		return nil, err
	}
	doc, err := verdict.ReadDocument(data)
	if err != nil {
		return nil, usage("%s is not a verdict: %s", file, err)
	}
	if doc.Lab != name {
		return nil, usage("%s is for the lab %s, not %s", file, doc.Lab, name)
	}
	return &doc, nil
}
