// Package keys says which keys of a keyboard are pressed to type a text. A machine is sent
// positions of keys, which its system turns into characters by its own layout: so that
// layout must be said.
package keys

import (
	"fmt"
	"slices"
	"strings"
	"sync"
)

// Press is keys that are pressed together, by the names that QEMU has for their positions
// (QKeyCode).
type Press []string

// layout gives for each key that has a character the characters that it gives: alone, with
// shift, and with the right alt key; a blank where there is none.
type layout map[string]string

var letters = "abcdefghijklmnopqrstuvwxyz"

// common are keys that give the same in all layouts.
var common = sync.OnceValue(func() layout {
	return layout{"spc": "  ", "ret": "\n\n", "tab": "\t\t"}
})

// signs are what the keys give that are no letters, by layout; and the letters that have
// changed places.
var signs = sync.OnceValue(func() map[string]layout {
	return map[string]layout{
		"us": {
			"1":             "1!",
			"2":             "2@",
			"3":             "3#",
			"4":             "4$",
			"5":             "5%",
			"6":             "6^",
			"7":             "7&",
			"8":             "8*",
			"9":             "9(",
			"0":             "0)",
			"minus":         "-_",
			"equal":         "=+",
			"bracket_left":  "[{",
			"bracket_right": "]}",
			"semicolon":     ";:",
			"apostrophe":    "'\"",
			"grave_accent":  "`~",
			"backslash":     "\\|",
			"comma":         ",<",
			"dot":           ".>",
			"slash":         "/?",
		},
		"gb": {
			"1":             "1!",
			"2":             "2\"",
			"3":             "3£",
			"4":             "4$",
			"5":             "5%",
			"6":             "6^",
			"7":             "7&",
			"8":             "8*",
			"9":             "9(",
			"0":             "0)",
			"minus":         "-_",
			"equal":         "=+",
			"bracket_left":  "[{",
			"bracket_right": "]}",
			"semicolon":     ";:",
			"apostrophe":    "'@",
			"grave_accent":  "`¬",
			"backslash":     "#~",
			"less":          "\\|",
			"comma":         ",<",
			"dot":           ".>",
			"slash":         "/?",
		},
		"de": {
			"1":             "1!",
			"2":             "2\"",
			"3":             "3§",
			"4":             "4$",
			"5":             "5%",
			"6":             "6&",
			"7":             "7/{",
			"8":             "8([",
			"9":             "9)]",
			"0":             "0=}",
			"minus":         "ß?\\",
			"bracket_left":  "üÜ",
			"bracket_right": "+*~",
			"semicolon":     "öÖ",
			"apostrophe":    "äÄ",
			"backslash":     "#'",
			"less":          "<>|",
			"comma":         ",;",
			"dot":           ".:",
			"slash":         "-_",
			"q":             "qQ@",
			"y":             "zZ",
			"z":             "yY",
		},
	}
})

// Layouts names the layouts that are known.
func Layouts() []string { return []string{"us", "gb", "de"} }

// Keyboard is a layout that text is typed with.
type Keyboard map[rune]Press

// Of returns the keyboard of a layout.
func Of(name string) (Keyboard, error) {
	own, ok := signs()[name]
	if !ok {
		return nil, fmt.Errorf("the keyboard layout %q is not known; there are %s", name, strings.Join(Layouts(), ", "))
	}
	k := Keyboard{}
	add := func(key, gives string) {
		for i, r := range []rune(gives) {
			if k[r] == nil {
				k[r] = append(Press{}, [][]string{{key}, {"shift", key}, {"alt_r", key}}[i]...)
			}
		}
	}
	for key, gives := range own {
		add(key, gives)
	}
	for key, gives := range common() {
		add(key, gives)
	}
	for _, r := range letters {
		if key := string(r); own[key] == "" {
			add(key, key+strings.ToUpper(key))
		}
	}
	return k, nil
}

// Text returns what is pressed for a text. A character that the layout does not have is an
// error: nothing is left out.
func (k Keyboard) Text(text string) ([]Press, error) {
	var out []Press
	for _, r := range text {
		p, ok := k[r]
		if !ok {
			return nil, fmt.Errorf("the keyboard has no %q", r)
		}
		out = append(out, p)
	}
	return out, nil
}

// Typed returns what is pressed for texts, one after another. What begins with a plus is keys
// by name, as [Named] reads them; what begins with an equals sign is the text behind it.
func (k Keyboard) Typed(texts []string) (out []Press, err error) {
	for _, text := range texts {
		var list []Press
		if name, ok := strings.CutPrefix(text, "+"); ok {
			list = make([]Press, 1)
			list[0], err = Named(name)
		} else {
			list, err = k.Text(strings.TrimPrefix(text, "="))
		}
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	return out, nil
}

// named are the keys that people name otherwise than QEMU.
var named = sync.OnceValue(func() map[string]string {
	return map[string]string{
		"enter":    "ret",
		"escape":   "esc",
		"space":    "spc",
		"del":      "delete",
		"pageup":   "pgup",
		"pagedown": "pgdn",
		"control":  "ctrl",
		"win":      "meta_l",
	}
})

// others are the keys without a character that may be named.
var others = []string{
	"ret",
	"esc",
	"tab",
	"spc",
	"backspace",
	"delete",
	"insert",
	"home",
	"end",
	"pgup",
	"pgdn",
	"up",
	"down",
	"left",
	"right",
	"shift",
	"ctrl",
	"alt",
	"meta_l",
	"f1",
	"f2",
	"f3",
	"f4",
	"f5",
	"f6",
	"f7",
	"f8",
	"f9",
	"f10",
	"f11",
	"f12",
}

// Named returns what is pressed for keys by name, together with a hyphen between them, as
// enter, f2 or ctrl-alt-delete.
func Named(text string) (Press, error) {
	var out Press
	for _, name := range strings.Split(strings.ToLower(text), "-") {
		if n, ok := named()[name]; ok {
			name = n
		}
		one := len(name) == 1 && strings.Contains(letters+"0123456789", name)
		if !one && !slices.Contains(others, name) {
			return nil, fmt.Errorf(
				"no key is named %q; there are enter, escape, tab, up, f1 and the like, together as ctrl-alt-delete",
				name,
			)
		}
		out = append(out, name)
	}
	return out, nil
}
