package dhcp_test

import (
	"fmt"
	"net/netip"
	"time"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/dhcp"
)

// A client and a server are joined by whatever carries their messages.
func ExampleClient() {
	first := netip.MustParseAddr("10.83.16.50")
	server := dhcp.NewServer(
		dhcp.Config{Address: netip.MustParsePrefix("10.83.16.1/24"), From: first, To: first, Time: time.Hour},
	)
	client := dhcp.Client{MAC: mac.Address{2, 11, 165, 16, 0, 1}}
	for work := client.Start(0); len(work) > 0; {
		next := work[0]
		work = work[1:]
		switch next.Kind {
		case dhcp.Send:
			if reply := server.Receive(0, next.Message); reply != nil {
				work = append(work, client.Receive(0, reply.Message, mac.Address{2, 11, 165, 16, 0, 2}, 0)...)
			}
		case dhcp.Probe:
			work = append(work, client.Probed(0, false)...)
		}
	}
	fmt.Println(client.Binding.Address, server.Leased(0))
	// Output: 10.83.16.50/24 1
}
