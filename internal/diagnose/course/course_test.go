package course

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/verdict"
)

// mends is what somebody who understood it changes in each exercise.
var mends = [][]string{
	{
		"      # here something is missing: nothing answers on reedbed",
		"      - {role: lan, segment: reedbed, address: 10.83.16.1/24}",
	},
	{"otter: reedbed ", "otter: {segment: reedbed, reserve: 10.83.16.20} "},
	{
		"static: 10.83.32.130/25, gateway: 10.83.32.1, dns: [10.83.32.11]",
		"static: 10.83.32.10/24, gateway: 10.83.32.1, dns: [10.83.32.1]",
	},
	{"causeway, admin: true}", "causeway}", "address: 10.83.16.1/24}", "address: 10.83.16.1/24, admin: true}",
		"guests:", "    nat: {publish: [{port: tcp/8443, to: ferry, at: tcp/443}]}\nguests:"},
	{"      - allow any from tidepool to outside,reedbed\n", ""},
	{"{reach: host, dhcp: host,", "{reach: isolated,"},
	{"dns: [10.83.16.2]", "dns: [self]", "dns: [172.29.64.1]", "dns: [10.83.32.1]"},
	{
		"{adapters: [{segment: reedbed, reserve: 10.83.16.20}, {segment: causeway}]}",
		"{segment: reedbed, reserve: 10.83.16.20}",
	},
}

func judge(t *testing.T, e Exercise, text string) ([]Goal, bool) {
	t.Helper()
	l, err := lab.Read("exercise", []byte(text))
	require.NoError(t, err, "%d", e.Number)
	p, err := plan.Build(l)
	require.NoError(t, err, "%d", e.Number)
	doc, _, err := verdict.Run(context.Background(), p, simulator.New(p))
	require.NoError(t, err)
	return e.Judge(p, doc)
}

// No exercise is done as it begins, none by taking away what is in the way, and each is
// by the change that it is about.
func TestExercises(t *testing.T) {
	require.Len(t, Exercises, 8)
	for i, e := range Exercises {
		start := string(e.Start())
		goals, done := judge(t, e, start)
		assert.False(t, done, "%d is done before it begins", e.Number)
		assert.NotEmpty(t, goals)
		mended := start
		for k := 0; k < len(mends[i]); k += 2 {
			require.Contains(t, mended, mends[i][k], "%d", e.Number)
			mended = strings.Replace(mended, mends[i][k], mends[i][k+1], 1)
		}
		goals, done = judge(t, e, mended)
		assert.True(t, done, "%d: %v", e.Number, goals)
		assert.Equal(t, i+1, e.Number)
		assert.Len(t, e.Hints, 3)
		gone := start[:strings.Index(start, "guests:")] + "guests: {}\n"
		if _, err := lab.Read("exercise", []byte(gone)); err == nil { // others name guests, and are no lab files then
			_, emptied := judge(t, e, gone)
			assert.False(t, emptied, "%d is done without guests", e.Number)
		}
	}
}
