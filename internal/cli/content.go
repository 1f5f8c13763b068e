package cli

import (
	"fmt"
	"strings"
	"time"

	"openbastion/internal/format/disk"
	"openbastion/internal/format/ovf"
	"openbastion/internal/image"
)

// size1024 writes a size for people: three digits and a unit.
func size1024(n int64) string {
	units := []string{"bytes", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"}
	f, k := float64(n), 0
	for f >= 1000 && k < len(units)-1 {
		f, k = f/1024, k+1
	}
	switch {
	case k == 0:
		return fmt.Sprintf("%d %s", n, units[0])
	case f < 10:
		return strings.TrimSuffix(fmt.Sprintf("%.1f", f), ".0") + " " + units[k]
	}
	return fmt.Sprintf("%.0f %s", f, units[k])
}

// showContent shows what a file is, what is in it and how to go on.
func showContent(s *screen, c *image.Content) {
	sign := signHolds
	switch {
	case c.Broken():
		sign = s.paint(broken, signBroken)
	case c.Unknown():
		sign = s.paint(strong, signUnknown)
	}
	s.line(sign, " ", s.paint(strong, c.Name), "  ", inBrief(c))
	if c.Mismatch != "" {
		s.para(2, 2, strong, "! "+c.Mismatch)
	}
	showFacts(s, c, 0)
	showInside(s, c, 2)
	showFaults(s, c, "")
	s.para(2, 2, strong, c.Next)
}

// showFaults tells what is broken in a content and what is inside of it.
func showFaults(s *screen, c *image.Content, within string) {
	for _, f := range c.Faults {
		s.para(2, 2, plain, s.paint(broken, signBroken)+" "+within+f)
	}
	for _, n := range c.Notes {
		s.para(2, 2, faint, signNote+" "+within+n)
	}
	for _, x := range c.Inside {
		showFaults(s, x, x.Name+": ")
	}
}

// inBrief says in a few words what a content is.
func inBrief(c *image.Content) string {
	parts := []string{string(c.Kind)}
	if c.Is != "" {
		parts[0] = c.Is
	}
	switch {
	case c.Virtual != nil:
		parts = append(parts, c.Virtual.Format)
	case c.Table != nil && c.Optical == nil:
		parts = append(parts, strings.ToUpper(c.Table.Scheme))
	case c.Optical != nil && c.Optical.Volume != "":
		parts = append(parts, fmt.Sprintf("%q", c.Optical.Volume))
	}
	if c.Size >= 0 {
		parts = append(parts, size1024(c.Size))
	}
	return strings.Join(parts, ", ")
}

// maxMembers bounds the members that are shown.
const maxMembers = 40

func showInside(s *screen, c *image.Content, indent int) {
	for k, x := range c.Inside {
		if k == maxMembers {
			s.line(strings.Repeat(" ", indent), s.paint(faint, fmt.Sprintf("… and %d more", len(c.Inside)-k)))
			return
		}
		s.line(strings.Repeat(" ", indent), "└ ", x.Name, "  ", s.paint(faint, inBrief(x)))
		showFacts(s, x, indent)
		showInside(s, x, indent+2)
	}
}

func showFacts(s *screen, c *image.Content, indent int) {
	t := table{indent: indent}
	fact := func(name, text string) {
		if text != "" {
			t.add(cell{name, faint}, text)
		}
	}
	starts := func() {
		boots := c.Bootable()
		if boots == "" {
			boots = "no machine"
		}
		fact("starts by", strings.NewReplacer("bios", "BIOS", "uefi", "UEFI").Replace(boots))
	}
	if o := c.Optical; o != nil {
		fact("publisher", o.Publisher)
		fact("application", o.Application)
		fact("volume", size1024(o.Size)+" as declared")
		if c.Table != nil {
			fact("also", "a stick image: it also has a partition table")
		}
	}
	if v := c.Virtual; v != nil {
		fact("a guest sees", size1024(v.Size))
		layout := v.Layout
		if v.Version != "" {
			layout += ", version " + v.Version
		}
		if v.Compressed {
			layout += ", compressed"
		}
		if v.Encrypted {
			layout += ", encrypted"
		}
		fact("layout", layout)
		fact("rests on", v.Backing)
	}
	for _, x := range c.Companions {
		text := x.File + ", its " + x.What
		if !x.There {
			text += ", which does not exist"
		}
		fact("also needs", text)
	}
	if c.Optical != nil || c.Table != nil || c.Kind == image.RawDisk {
		starts()
		fact("made for", strings.Join(c.Processors(), "; "))
		fact("system", map[string]string{"linux": "Linux, by its partitions", "bsd": "BSD, by its partitions",
			"desktop": "a desktop system, by its partitions"}[c.System])
	}
	if c.Table != nil && c.Optical == nil {
		for _, p := range c.Table.Partitions {
			fact(fmt.Sprintf("partition %d", p.Number), partition(p))
		}
	}
	if c.Package != nil && (c.Kind == image.Archive || indent == 0) { // an archive shows what its descriptor says
		packageFacts(fact, c.Package)
	}
	for _, d := range c.Manifest {
		if d.Holds {
			fact("manifest", d.File+": "+d.Algorithm+" holds")
		}
	}
	s.table(t)
}

func partition(p disk.Partition) string {
	text := p.Kind + ", " + size1024(p.Size)
	if p.Name != "" {
		text += fmt.Sprintf(", %q", p.Name)
	}
	if p.Active {
		text += ", active"
	}
	return text
}

func packageFacts(fact func(name, text string), p *ovf.Package) {
	for _, s := range p.Systems {
		fact("machine", s.Title())
		fact("product", strings.TrimSpace(strings.TrimSpace(s.Product+" "+s.Release)+by(s.Vendor)))
		fact("system", s.Guest)
		if s.Licence {
			fact("licence", "it has a licence text to accept at import")
		}
		fact("firmware", s.Firmware)
		fact("starts from", strings.Join(s.Boot, ", then "))
		fact("size", fmt.Sprintf("%s, %s memory", count(s.CPUs, "processor", "processors"), size1024(s.Memory)))
		for _, a := range s.Adapters {
			text := a.Network
			if a.Model != "" {
				text += " (" + a.Model + ")"
			}
			if a.MAC != "" {
				text += ", " + a.MAC
			}
			if !a.Plugged {
				text += ", not connected at start"
			}
			fact(fmt.Sprintf("adapter %d", a.Number), text)
		}
		for _, d := range s.Drives {
			switch {
			case d.Optical && d.File != "":
				fact("optical drive", d.File)
			case !d.Optical:
				fact(
					"disk",
					strings.TrimSuffix(
						strings.TrimSpace(fmt.Sprintf("%s %s %s", size1024(d.Size), d.Bus, d.File)),
						" ",
					),
				)
			}
		}
	}
	for _, s := range p.Systems {
		if len(s.Unread) > 0 {
			fact("not read", "vendor-specific parts: "+strings.Join(s.Unread, "; "))
		}
	}
	for _, o := range p.Options {
		text := o.ID + ": " + o.Label
		if o.Default {
			text += " (unless you choose)"
		}
		fact("choice", text)
	}
}

func by(vendor string) string {
	if vendor == "" {
		return ""
	}
	return ", by " + vendor
}

// meter shows how far a file has been read, with the rate and the time left;
// it asks ten times a second and ends when the function that it gives is called.
func (a *app) meter(what string, total int64, done func() int64) (stop func()) {
	show, line := a.ticker()
	if !show || total == 0 {
		return func() {}
	}
	quit, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		began := time.Now()
		tick := time.NewTicker(100 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-quit:
				line("")
				return
			case <-tick.C:
				spent, n := time.Since(began), min(done(), total)
				if spent < 500*time.Millisecond || n == 0 {
					continue
				}
				left := time.Duration(float64(spent) * float64(total-n) / float64(n)).Round(time.Second)
				line(
					fmt.Sprintf(
						"%s: %d %%, %s/s, %v left",
						what,
						n*100/total,
						size1024(int64(float64(n)/spent.Seconds())),
						left,
					),
				)
			}
		}
	}()
	return func() {
		close(quit)
		<-gone
	}
}
