package keys

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every layout types all that can be printed, each character by keys of its own.
func TestLayouts(t *testing.T) {
	for _, name := range Layouts() {
		k, err := Of(name)
		require.NoError(t, err)
		by := map[string]rune{}
		for r := rune(' '); r < 0x7f; r++ {
			if name == "de" && strings.ContainsRune("^`", r) {
				continue // dead keys, which give nothing by themselves
			}
			p, err := k.Text(string(r))
			require.NoError(t, err, "%s: %q", name, r)
			pressed := strings.Join(p[0], "-")
			assert.Zero(t, by[pressed], "%s: %q and %q are both %s", name, by[pressed], r, pressed)
			by[pressed] = r
		}
	}
	_, err := Of("xx")
	assert.ErrorContains(t, err, "us, gb, de")
}

// What a layout puts elsewhere is pressed there.
func TestPlaces(t *testing.T) {
	for _, c := range []struct{ layout, text, want string }{
		{"us", "y", "y"}, {"de", "y", "z"}, {"de", "Z", "shift-y"}, {"us", "@", "shift-2"}, {"gb", "@", "shift-apostrophe"}, {"de", "@", "alt_r-q"},
		{"us", "/", "slash"}, {"de", "/", "shift-7"}, {"de", "ü", "bracket_left"}, {"gb", "£", "shift-3"}, {"us", "\n", "ret"},
		{"us", "A1 ", "shift-a 1 spc"},
	} {
		k, err := Of(c.layout)
		require.NoError(t, err)
		list, err := k.Text(c.text)
		require.NoError(t, err)
		var got []string
		for _, p := range list {
			got = append(got, strings.Join(p, "-"))
		}
		assert.Equal(t, c.want, strings.Join(got, " "), "%s: %s", c.layout, c.text)
	}
	k, err := Of("us")
	require.NoError(t, err)
	_, err = k.Text("schön")
	assert.ErrorContains(t, err, "'ö'")
}

func TestNamed(t *testing.T) {
	for text, want := range map[string]string{"enter": "ret", "Ctrl-Alt-Delete": "ctrl alt delete", "f12": "f12", "ctrl-c": "ctrl c", "space": "spc",
		"pageup": "pgup"} {
		p, err := Named(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, strings.Join(p, " "), text)
	}
	for _, text := range []string{"", "hyper", "ctrl-", "f13", "ctrl-ö", "ab"} {
		_, err := Named(text)
		assert.Error(t, err, text)
	}
}
