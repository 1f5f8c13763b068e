package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/internal/api"
	"openbastion/internal/atomicfile"
	"openbastion/internal/format/ovf"
	"openbastion/internal/format/sums"
	"openbastion/internal/image"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/sanitize"
)

func (a *app) image() *cobra.Command {
	c := &cobra.Command{
		Use: "image", Short: "Inspect, unpack and verify image files",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	c.AddCommand(a.imageInspect(), a.imageUnpack(), a.imageVerify(), a.imageNeeds())
	return c
}

// inspect looks into one file.
func (a *app) inspect(file string, whole bool) (*image.Content, error) {
	f, size, err := a.open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	counted := &image.Counted{ReaderAt: f}
	stop := a.meter("looking into "+filepath.Base(file), size, counted.Count)
	defer stop()
	o := image.Options{Whole: whole}
	if file == "-" {
		return image.Inspect(stdinName, counted, size, o), nil
	}
	o.Siblings = image.Folder(filepath.Dir(file))
	return image.Inspect(filepath.Base(file), counted, size, o), nil
}

func (a *app) imageInspect() *cobra.Command {
	var whole bool
	c := &cobra.Command{
		Use: "inspect FILE…", Short: "A file's kind by its content, what it contains and what to do next",
		Long: `Tells what each file is by its content, never by its name: compressed, an
archive, an optical image, a disk image, a virtual disk or a package of machines;
looks inside without unpacking to disk; says when a file is cut short or altered,
and how to go on with it.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			var list []*image.Content
			for _, file := range args {
				c, err := a.inspect(file, whole)
				if err != nil {
					return err
				}
				list = append(list, c)
			}
			bad := false
			for _, c := range list {
				bad = bad || c.Broken() || c.Unknown()
			}
			if a.format == "json" {
				err := a.json(api.Images{Schema: api.ImagesSchema, Files: list})
				if err != nil {
					return err
				}
			} else {
				s := a.screen()
				for k, c := range list {
					if k > 0 {
						s.line()
					}
					showContent(s, c)
				}
			}
			if bad {
				return failure{status: exitBroken}
			}
			return nil
		},
	}
	c.Flags().
		BoolVar(&whole, "whole", false, "read compressed files completely: verifies every checksum, and takes longer")
	return c
}

func (a *app) imageUnpack() *cobra.Command {
	var to, member string
	var huge bool
	c := &cobra.Command{
		Use: "unpack FILE", Short: "Unpack a compressed or archived image, completely or not at all",
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			found, err := a.inspect(args[0], false)
			if err != nil {
				return err
			}
			choice, err := found.Pick(member)
			if err != nil {
				hint := ""
				if len(found.Choices()) > 1 {
					hint = "name it with --member NAME"
				}
				return failure{exitUsage, args[0] + ": " + err.Error(), hint}
			}
			f, size, err := a.open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			if to, err = unpackTo(args[0], to, choice.Name()); err != nil {
				return err
			}
			if free, ok := image.Free(filepath.Dir(to)); ok && choice.Content.Size > free {
				return failure{
					exitLacking,
					fmt.Sprintf(
						"%s needs %s, but only %s are free there",
						to,
						size1024(choice.Content.Size),
						size1024(free),
					),
					"make room, or unpack to another folder with --to",
				}
			}
			counted := &image.Counted{ReaderAt: f}
			r, err := choice.Open(counted, size, !huge)
			if err != nil {
				return failure{exitBroken, args[0] + ": " + err.Error(), ""}
			}
			defer r.Close()
			target, err := atomicfile.Create(to, atomicfile.Options{Inputs: append([]string{args[0]}, a.inputs...)})
			if err != nil {
				return notWritten(err)
			}
			a.onInterrupt(target.Abort)
			defer target.Abort()
			stop := a.meter("unpacking "+filepath.Base(to), size, counted.Count)
			n, err := image.Write(target, r)
			stop()
			if errors.Is(err, image.ErrRatio) {
				return failure{exitBroken, args[0] + ": " + err.Error(), "if you trust it: --huge"}
			}
			if err != nil {
				status := exitUsage
				if n > 0 {
					status = exitBroken
				}
				return failure{status, fmt.Sprintf("%s: %v; nothing was written", args[0], err), ""}
			}
			if a.format == "json" {
				return a.json(api.Unpacked{Schema: api.UnpackedSchema, File: args[0], To: to, Size: n})
			}
			s := a.screen()
			s.line(signHolds, " ", to, "  ", s.paint(faint, size1024(n)))
			after, err := a.inspect(to, false)
			if err != nil {
				return err
			}
			showContent(s, after)
			if after.Broken() {
				return failure{status: exitBroken}
			}
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "", "output file or folder (default: beside the packed file)")
	c.Flags().StringVar(&member, "member", "", "the member of an archive, if there are several")
	c.Flags().BoolVar(&huge, "huge", false, "unpack regardless of the size")
	return c
}

// stdinName is what content from standard input is called.
const stdinName = "standard input"

// unpackTo returns the file to unpack to: beside the packed one, in a folder, or as
// it was said.
func unpackTo(packed, to, name string) (string, error) {
	info, err := os.Stat(to)
	folder := err == nil && info.IsDir()
	switch {
	case to != "" && !folder:
		return to, nil
	case packed == "-" && strings.HasPrefix(name, stdinName):
		return "", usage("standard input has no file name: use --to FILE")
	case !sanitize.Clean(name):
		return "", usage(
			"the name of its content, %s, contains invisible characters: use --to NAME",
			sanitize.Line(name),
		)
	case folder:
		return filepath.Join(to, name), nil
	}
	return filepath.Join(filepath.Dir(packed), name), nil
}

func (a *app) imageVerify() *cobra.Command {
	var list, digest, sha256, sha512 string
	c := &cobra.Command{
		Use: "verify FILE", Short: "Check a file against its published checksum",
		Long: `Takes the digest of a file and holds it against what its maker lists: a list
given with --sums, a digest given with --sha256, --sha512 or --digest, or a list
that lies beside the file. A file that was renamed is found in the list by its
digest. Whether the list itself is its maker's is shown by its signature alone,
which is not checked here: how to check it is said.`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			want, err := a.wanted(args[0], list, map[string]string{"sha256": sha256, "sha512": sha512, "": digest})
			if err != nil {
				return err
			}
			var verdicts []image.Verdict
			if args[0] == "-" {
				verdicts, err = image.Verify(stdinName, a.in, want)
			} else {
				f, size, e := a.open(args[0])
				if e != nil {
					return e
				}
				defer f.Close()
				counted := &image.Counted{ReaderAt: f}
				stop := a.meter("reading "+filepath.Base(args[0]), size, counted.Count)
				verdicts, err = image.Verify(filepath.Base(args[0]), image.All(counted, size), want)
				stop()
			}
			if err != nil {
				return failure{exitUsage, args[0] + ": " + err.Error(),
					"is it the list for this version? Pass the publisher's list with --sums, or the digest with --digest"}
			}
			holds := true
			for _, v := range verdicts {
				holds = holds && v.Holds
			}
			if a.format == "json" {
				if err := a.json(api.Digests{Schema: api.DigestsSchema, Verdicts: verdicts}); err != nil {
					return err
				}
			} else {
				s := a.screen()
				for _, v := range verdicts {
					if v.Holds {
						s.para(0, 2, plain, fmt.Sprintf("%s %s matches the %s digest from %s: %s", signHolds, v.File, sums.Title(v.Algorithm), v.From,
							v.Saw))
						showNotes(s, v.Notes)
						continue
					}
					s.para(0, 2, plain, fmt.Sprintf("%s %s does not match %s", s.paint(broken, signBroken), v.File, v.From))
					if v.Want != v.Saw {
						s.line("  promised  ", v.Want)
						s.line("  is        ", s.paint(broken, v.Saw))
					}
					showNotes(s, v.Notes)
					s.para(2, 0, plain,
						"It is truncated, altered, or another version. Do not use it; download it again, with the list from the publisher's own page.")
				}
			}
			if !holds {
				return failure{status: exitBroken}
			}
			return nil
		},
	}
	c.Flags().
		StringVar(&list, "sums", "", "a list of checksums, as makers publish them: a file, or - for standard input")
	c.Flags().StringVar(&sha256, "sha256", "", "the SHA-256 digest, 64 hexadecimal digits")
	c.Flags().StringVar(&sha512, "sha512", "", "the SHA-512 digest, 128 hexadecimal digits")
	c.Flags().StringVar(&digest, "digest", "", "a digest as published: ALGORITHM:DIGITS, hexadecimal or base64")
	return c
}

func showNotes(s *screen, notes []string) {
	for _, n := range notes {
		s.para(2, 2, faint, "! "+n)
	}
}

// wanted gathers the digests that a file should have.
func (a *app) wanted(file, list string, typed map[string]string) ([]image.Wanted, error) {
	var want []image.Wanted
	for _, algorithm := range []string{"sha256", "sha512", ""} {
		if typed[algorithm] == "" {
			continue
		}
		w, err := image.Typed(algorithm, typed[algorithm])
		if err != nil {
			return nil, usage("%v", err)
		}
		want = append(want, w)
	}
	if list != "" {
		text, err := a.read(list, 8<<20)
		if err != nil {
			return nil, err
		}
		w, err := image.Listed(filepath.Base(file), list, text)
		if err != nil {
			return nil, usage("%v", err)
		}
		if list != "-" && w.Signed == "" {
			w.Signed = image.Signature(image.Folder(filepath.Dir(list)), filepath.Base(list))
		}
		want = append(want, w)
	}
	if len(want) > 0 {
		return want, nil
	}
	if file == "-" {
		return nil, usage(
			"standard input has no list of checksums: pass the digest with --sha256, or a list with --sums",
		)
	}
	w, err := image.Beside(image.Folder(filepath.Dir(file)), filepath.Base(file))
	if err != nil {
		return nil, failure{
			exitUsage,
			fmt.Sprintf("%s: %v", file, err),
			"pass the publisher's list with --sums, or the digest with --sha256 or --digest",
		}
	}
	return []image.Wanted{w}, nil
}

// pack reads the package that a file is, and chooses one of its machines.
func (a *app) pack(file, machine string) (*ovf.System, *image.Content, error) {
	c, err := a.inspect(file, false)
	if err != nil {
		return nil, nil, err
	}
	if c.Package == nil {
		why := ""
		if len(c.Faults) > 0 {
			why = ": " + c.Faults[0]
		}
		return nil, nil, failure{
			exitUsage,
			fmt.Sprintf("%s is not a package of virtual machines, but %s%s", file, c.Kind, why),
			c.Next,
		}
	}
	var names []string
	for k := range c.Package.Systems {
		s := &c.Package.Systems[k]
		if machine == "" && len(c.Package.Systems) == 1 || machine != "" && (s.ID == machine || s.Name == machine) {
			return s, c, nil
		}
		names = append(names, s.Title())
	}
	if near := lab.Nearest(machine, names); machine != "" && near != "" {
		return nil, nil, usage("%s has no machine %s; did you mean %s?", file, machine, near)
	}
	return nil, nil, failure{
		exitUsage,
		fmt.Sprintf("%s has %d machines: %s", file, len(names), strings.Join(names, ", ")),
		"name it with --machine NAME",
	}
}
