package linux

import (
	"errors"
	"fmt"

	"hiddengate/internal/sshreach"
)

// here is the address of the machine on which hgate runs.
const here = "local:"

// readAddress reads the address of another server.
func readAddress(text string) (sshreach.Address, error) {
	at, err := sshreach.Read(text)
	if errors.Is(err, sshreach.ErrNoAddress) {
		return at, fmt.Errorf("%q is no address of a server: %w, or %s for this one", text, err, here)
	}
	return at, err
}
