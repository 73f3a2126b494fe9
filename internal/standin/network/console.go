package network

import (
	"hiddengate/internal/standin"
)

// Console is a simulated console of a network.
type Console struct{ *standin.Core[*standin.Access] }

// Open opens a console in a folder, and makes it the first time.
func Open(how standin.Options) (*Console, error) {
	core, err := standin.Open(how, standin.Place{Path: standin.Root, Type: "network"}, Commands,
		standin.NewAccess())
	if err != nil {
		return nil, err
	}
	return &Console{core}, nil
}
