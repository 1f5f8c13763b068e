package check_test

import (
	"fmt"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/check"
)

func ExampleRun() {
	l, err := lab.Read("lab.yaml", []byte(`bastion: 1
lab: fen
segments:
  uplink: {reach: upstream}
  fen: {reach: isolated}
appliances:
  weir:
    profile: reference
    ports:
      - {role: wan, segment: uplink}
      - {role: lan, segment: fen}
guests:
  buoy: {adapters: [{segment: fen}, {segment: uplink}]}
`))
	if err != nil {
		fmt.Println(err)
		return
	}
	p, err := plan.Build(l)
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, f := range check.Run(p, time.Time{}) {
		fmt.Println(f.Severity, f.Code, f.Subject)
	}
	// Output: error dual-homed-guest buoy
}
