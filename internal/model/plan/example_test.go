package plan_test

import (
	"fmt"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

func ExampleBuild() {
	l, err := lab.Read("lab.yaml", []byte(`bastion: 1
lab: fen
segments:
  uplink: {reach: upstream}
  fen: {reach: isolated, subnet: 10.83.16.0/24}
appliances:
  weir:
    profile: reference
    ports:
      - {role: wan, segment: uplink}
      - {role: lan, segment: fen}
guests:
  buoy: fen
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
	for _, s := range p.Segments {
		fmt.Println(s.Name, s.Subnet, s.Gateway)
	}
	// Output:
	// uplink 10.170.16.0/24 10.170.16.1
	// fen 10.83.16.0/24 10.83.16.1
}
