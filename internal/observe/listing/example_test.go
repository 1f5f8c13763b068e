package listing_test

import (
	"fmt"

	"openbastion/internal/observe/listing"
)

func ExampleRead() {
	for _, i := range listing.Read(`
2: ens3: <BROADCAST,MULTICAST,UP,LOWER_UP> mtu 1500
    link/ether 02:0b:a5:10:00:01 brd ff:ff:ff:ff:ff:ff
    inet 10.83.16.1/24 brd 10.83.16.255 scope global ens3
`).Interfaces {
		fmt.Println(i.Device, i.Tail, i.Addresses[0].Prefix)
	}
	// Output: ens3 020ba5100001 10.83.16.1/24
}
