package ldap

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"hiddengate/internal/directory"
	"hiddengate/internal/target"
)

var errAddress = errors.New("the address of the directory cannot be read: write ldaps://HOST/BASE?user=DN, as " +
	"ldaps://dir.ternhollow.example/dc=ternhollow,dc=example?user=cn=keeper,dc=ternhollow,dc=example")

// liveOf reads where a directory is, and what of it is read. A password in it is refused.
func liveOf(at, secret string) (directory.Live, error) {
	u, err := url.Parse(at)
	if err != nil || u.Fragment != "" {
		return directory.Live{}, errAddress
	}
	options, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return directory.Live{}, errAddress
	}
	live := directory.Live{URL: u.Scheme + "://" + u.Host, Base: strings.TrimPrefix(u.Path, "/"), Password: secret}
	if u.User != nil {
		return directory.Live{}, errors.New("the address of the directory holds a user or a password before @: write the " +
			"user as ?user=DN, and give the password as a secret")
	}
	for name, values := range options {
		switch {
		case len(values) != 1:
			return directory.Live{}, errAddress
		case name == "user":
			live.User = values[0]
		case name == "ca":
			if live.CA, err = os.ReadFile(values[0]); err != nil {
				return directory.Live{}, fmt.Errorf("the authorities cannot be read: %w", err)
			}
		case name == "tls" && values[0] == "off":
			live.Plain = true
		default:
			return directory.Live{}, fmt.Errorf(
				"the address of the directory has %q: `user`, `ca` and `tls=off` alone are known",
				name,
			)
		}
	}
	if _, err := live.Address(); err != nil {
		return directory.Live{}, errAddress
	}
	for _, dn := range []string{live.Base, live.User} {
		if parsed, err := ldap.ParseDN(dn); err != nil || len(parsed.RDNs) == 0 {
			return directory.Live{}, errAddress
		}
	}
	return live, nil
}

// told is what tells a distinguished name from others: however it is written (RFC 4514), and in small letters.
func told(dn string) string {
	parsed, err := ldap.ParseDN(dn)
	if err != nil {
		return strings.ToLower(dn)
	}
	return strings.ToLower(parsed.String())
}

// pathOf gives the path of an entry below a base; "" and false if no address can name it.
func pathOf(dn, base string) (string, bool) {
	one, err := ldap.ParseDN(dn)
	if err != nil {
		return "", false
	}
	above, err := ldap.ParseDN(base)
	if err != nil || !above.AncestorOfFold(one) {
		return "", false
	}
	var names []string
	for i := len(one.RDNs) - len(above.RDNs) - 1; i >= 0; i-- {
		if len(one.RDNs[i].Attributes) != 1 {
			return "", false
		}
		names = append(names, one.RDNs[i].Attributes[0].Value)
	}
	return target.PathOf(names...)
}

// nameOf writes the distinguished name that an entry of a path most likely has.
func nameOf(path, base string) string {
	segments := strings.Split(path, "/")
	dn := base
	for i, segment := range segments {
		attribute := "ou"
		if i == len(segments)-1 {
			attribute = "cn"
		}
		dn = attribute + "=" + ldap.EscapeDN(target.Unescaped(segment)) + "," + dn
	}
	return dn
}
