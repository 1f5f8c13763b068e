package lab

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReadWording(t *testing.T) {
	w, err := ReadWording(
		"w.yaml",
		[]byte("bastion-wording: 1\nname: ours\nbridged: \"on {uplink}, {uplink} again\"\naccess: \", tag {tag}\"\n"),
	)
	require.NoError(t, err)
	assert.Equal(t, "ours", w.Name)
	assert.Equal(t, "on enp1, enp1 again", w.Say(w.Bridged, "uplink", "enp1", "tag", "4"))
	assert.Equal(t, ", tag {tag}", w.Say(w.Access), "a key without a value stays")
	w.Fill(&Wording{Machine: "box", Bridged: "other"})
	assert.Equal(
		t,
		[]string{"box", "on {uplink}, {uplink} again"},
		[]string{w.Machine, w.Bridged},
		"what is said stays",
	)
	for text, want := range map[string]string{
		"name: ours\n":                                  "the format version is missing",
		"bastion-wording: 2\nname: ours\n":              "bastion-wording",
		"bastion-wording: 1\nbrigded: x\n":              "did you mean bridged",
		"bastion-wording: 1\nbridged: [a]\n":            "bridged",
		"bastion-wording: 1\nbridged: on {uplnk}\n":     "w.yaml:2:10: bridged: {uplnk} is not a key; this text takes {uplink}, {name}",
		"bastion-wording: 1\nboot: of {name}\n":         "this text takes no key in braces",
		"bastion-wording: 1\nname: a\nname: b\n":        "name",
		"bastion-wording: 1\n" + strings.Repeat("{", 9): "",
	} {
		_, err := ReadWording("w.yaml", []byte(text))
		assert.ErrorContains(t, err, want, text)
	}
	properties := WordingSchema()["properties"].(map[string]any)
	assert.Len(t, properties, len(wordingFields()))
}

// Whatever a wording file holds, reading it ends well.
func FuzzReadWording(f *testing.F) {
	f.Add([]byte("bastion-wording: 1\nname: ours\nbridged: \"on {uplink}\"\n"))
	f.Add([]byte("bastion-wording: [1, {a: &x b}, *x]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if w, err := ReadWording("w.yaml", data); err == nil {
			_ = w.Say(w.Bridged, "uplink", w.Isolated)
		}
	})
}
