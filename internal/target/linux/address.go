package linux

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
)

// here is the address of the machine on which hgate runs.
const here = "local:"

// place is where a server is, and by which account it is reached.
type place struct {
	local      bool
	user, host string // host with its port
	known      string // the file of known hosts; "": the user's own
}

// readAddress reads an address: local:, or ssh://USER@HOST[:PORT][?known-hosts=FILE].
func readAddress(text string) (place, error) {
	if text == here {
		return place{local: true}, nil
	}
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "ssh" || u.Host == "" || u.Path != "" && u.Path != "/" || u.Fragment != "" {
		return place{}, fmt.Errorf("%q is no address of a server: write ssh://USER@HOST, or %s for this one", text, here)
	}
	out := place{user: u.User.Username(), host: u.Host}
	if _, given := u.User.Password(); given {
		return place{}, errors.New("the address holds a password; name where it comes from instead, as with --secret-env")
	}
	if out.user == "" {
		return place{}, errors.New("the address names no account: write ssh://USER@HOST")
	}
	if u.Port() == "" {
		out.host = net.JoinHostPort(strings.Trim(u.Host, "[]"), "22")
	}
	for key, values := range u.Query() {
		if key != "known-hosts" || len(values) != 1 {
			return place{}, fmt.Errorf("an address has known-hosts and nothing else behind its ?, not %s", key)
		}
		out.known = values[0]
	}
	return out, nil
}
