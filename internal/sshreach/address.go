package sshreach

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
)

// Address is where a host is, and by which account it is reached.
type Address struct {
	User, Host string // the host with its port
	Known      string // the file of known hosts; "": the user's own
}

// ErrNoAddress says that a text is no address of a host.
var ErrNoAddress = errors.New("write ssh://USER@HOST")

// Read reads an address: ssh://USER@HOST[:PORT][?known-hosts=FILE].
func Read(text string) (Address, error) {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "ssh" || u.Host == "" || u.Path != "" && u.Path != "/" || u.Fragment != "" {
		return Address{}, ErrNoAddress
	}
	out := Address{User: u.User.Username(), Host: u.Host}
	if _, given := u.User.Password(); given {
		return Address{}, errors.New("the address holds a password; name where it comes from instead, as with --secret-env")
	}
	if out.User == "" {
		return Address{}, errors.New("the address names no account: write ssh://USER@HOST")
	}
	if u.Port() == "" {
		out.Host = net.JoinHostPort(strings.Trim(u.Host, "[]"), "22")
	}
	for key, values := range u.Query() {
		if key != "known-hosts" || len(values) != 1 {
			return Address{}, fmt.Errorf("an address has known-hosts and nothing else behind its ?, not %s", key)
		}
		out.Known = values[0]
	}
	return out, nil
}
