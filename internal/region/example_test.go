package region_test

import (
	"fmt"
	"net/netip"

	"hiddengate/internal/clock"
	"hiddengate/internal/region"
)

// A region is all the contexts in which something holds. What a context leaves open makes it hold perhaps.
func Example() {
	space := region.NewSpace(clock.UTC, []region.Dimension{{Kind: region.Flag, Name: "mfa",
		Phrases: [2]string{"without a second factor", "with a second factor"}}}, 1000)
	inside, err := space.And(space.Is("mfa", true), space.From(netip.MustParsePrefix("10.0.0.0/8")))
	if err != nil {
		panic(err)
	}
	c := space.NewContext()
	c.SetNetwork(netip.MustParseAddr("10.1.2.3"))
	fmt.Println(space.Text(inside, 3))
	fmt.Println(space.Judge(inside, c) == region.Some)
	c.SetFlag("mfa", true)
	fmt.Println(space.Judge(inside, c) == region.All)
	c.SetNetwork(netip.MustParseAddr("192.0.2.1"))
	fmt.Println(space.Judge(inside, c) == region.None)
	// Output:
	// with a second factor, from 10.0.0.0/8
	// true
	// true
	// true
}
