package bundle

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/classroom/witness"
)

func sample(t testing.TB) Plan {
	text, err := examples.Labs.ReadFile("saltmarsh.yaml")
	require.NoError(t, err)
	return Plan{
		Schema:   Schema,
		Lab:      "saltmarsh",
		Guest:    "heron",
		Bench:    "saltmarsh-07",
		File:     "lab.yaml",
		Text:     string(text),
		Token:    witness.Token{1, 2}.String(),
		Profiles: map[string]string{},
	}
}

// A line gives back what went into it, also broken by a terminal; one that lost or changed a
// letter is told.
func TestLine(t *testing.T) {
	p := sample(t)
	line, err := p.Line()
	require.NoError(t, err)
	t.Logf("%d letters", len(line))
	assert.Less(t, len(line), 4096, "a terminal takes a line of it")
	for _, text := range []string{line, " " + line + "\r\n", line[:80] + "\n" + line[80:160] + "\r\n  " + line[160:]} {
		got, err := Read([]byte(text))
		require.NoError(t, err)
		assert.Equal(t, p, got)
	}
	for i := range line {
		altered := line[:i] + "x" + line[i+1:]
		if _, err := Read([]byte(altered)); altered != line {
			assert.Error(t, err, "letter %d", i)
		}
		_, err := Read([]byte(line[:i]))
		assert.Error(t, err, "%d letters", i)
	}
	_, err = Read([]byte(`{"schema": "openbastion.carried/2"}`))
	assert.ErrorContains(t, err, "schema")
}

func FuzzRead(f *testing.F) {
	line, err := sample(f).Line()
	require.NoError(f, err)
	f.Add([]byte(line))
	f.Add([]byte(strings.Replace(line, ".", "\n", 1)))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := Read(data)
		if err != nil {
			return
		}
		again, err := p.Line()
		require.NoError(t, err)
		got, err := Read([]byte(again))
		require.NoError(t, err)
		assert.Equal(t, p, got)
	})
}
