package credential

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"fmt"
	"strings"
	"unicode"

	"golang.org/x/crypto/cryptobyte"
	cryptoasn1 "golang.org/x/crypto/cryptobyte/asn1"

	"hiddengate/internal/estate"
	"hiddengate/internal/visible"
)

// Name is what a certificate says of its holder; a part that is "" is not said.
type Name struct {
	CommonName, Organisation, Unit string
	Email, PrincipalName, DNS      string
}

// part gives the place of one of estate.NameParts.
func (n *Name) part(key string) *string {
	return map[string]*string{"common-name": &n.CommonName, "organisation": &n.Organisation, "unit": &n.Unit,
		"email": &n.Email, "principal-name": &n.PrincipalName, "dns": &n.DNS}[key]
}

// longestPart bounds a part of a name, in characters (RFC 5280, appendix A.1, ub-common-name and its like).
const longestPart = 64

// NameOf says what a certificate of a profile says of somebody. Accounts are the names of theirs in the profile's
// system. The error says which part cannot be said.
func NameOf(p *estate.Profile, title string, s *estate.Subject, accounts []string) (Name, error) {
	var n Name
	parts := p.Names
	if parts.Get("common-name") == "" {
		parts = append(estate.Tags{{Key: "common-name", Value: "id"}}, parts...)
	}
	for _, part := range parts {
		text, where := "", ""
		switch part.Value {
		case "id":
			text, where = s.ID, "id"
		case "name":
			text, where = s.Name, "name"
		case "email":
			text, where = s.Email, "e-mail address"
		case "estate":
			text, where = title, "title of the estate"
		case "account":
			if len(accounts) != 1 {
				return n, fmt.Errorf("%s is the account in %s, and %s has %d there", part.Key, p.System.ID, s.Principal(),
					len(accounts))
			}
			text, where = accounts[0], "account"
		default:
			tag := strings.TrimPrefix(part.Value, "tag.")
			text, where = s.Tags.Get(tag), "tag "+tag
		}
		if text == "" {
			return n, fmt.Errorf("%s comes from the %s of %s, which is not set", part.Key, where, s.Principal())
		}
		if err := fits(part.Key, text); err != nil {
			return n, fmt.Errorf("%s comes from the %s of %s: %w", part.Key, where, s.Principal(), err)
		}
		*n.part(part.Key) = text
	}
	return n, nil
}

// fits says what keeps a text from being a part of a name.
func fits(key, text string) error {
	if _, r, hidden := visible.Find(text); hidden {
		return fmt.Errorf("it has the character %s, which hides or turns what it says", visible.Name(r))
	}
	if strings.ContainsFunc(text, unicode.IsControl) {
		return fmt.Errorf("it has a control character")
	}
	longest := longestPart
	if key == "email" || key == "dns" || key == "principal-name" {
		longest = 253
	}
	if n := len([]rune(text)); n > longest {
		return fmt.Errorf("it has %d characters, and %d is the most", n, longest)
	}
	switch key {
	case "email":
		local, host, ok := strings.Cut(text, "@")
		if !ok || local == "" || host == "" || strings.ContainsAny(text, " <>,;:\"()[]\\") || strings.Contains(host, "@") ||
			!ascii(text) {
			return fmt.Errorf("%q is no plain e-mail address", text)
		}
	case "dns":
		if strings.Contains(text, "*") {
			return fmt.Errorf("%q is a pattern, and a certificate names one host", text)
		}
		if strings.Trim(strings.ToLower(text), "abcdefghijklmnopqrstuvwxyz0123456789-.") != "" ||
			strings.HasPrefix(text, ".") || strings.HasSuffix(text, ".") || strings.Contains(text, "..") {
			return fmt.Errorf("%q is no name of a host", text)
		}
	}
	return nil
}

func ascii(text string) bool {
	return !strings.ContainsFunc(text, func(r rune) bool { return r > unicode.MaxASCII })
}

// subject gives the distinguished name.
func (n Name) subject() pkix.Name {
	out := pkix.Name{CommonName: n.CommonName}
	if n.Organisation != "" {
		out.Organization = []string{n.Organisation}
	}
	if n.Unit != "" {
		out.OrganizationalUnit = []string{n.Unit}
	}
	return out
}

var (
	oidAlternative = asn1.ObjectIdentifier{2, 5, 29, 17}
	// oidPrincipal marks a principal name among the other names (registered under the private enterprise number 311).
	oidPrincipal = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 20, 2, 3}
)

// The choices of a GeneralName (RFC 5280, section 4.2.1.6).
const (
	otherName = 0
	mailName  = 1
	hostName  = 2
)

// alternatives gives the extension with the alternative names; ok is false if there is none.
func (n Name) alternatives() (out pkix.Extension, ok bool, err error) {
	if n.Email+n.PrincipalName+n.DNS == "" {
		return out, false, nil
	}
	var b cryptobyte.Builder
	b.AddASN1(cryptoasn1.SEQUENCE, func(b *cryptobyte.Builder) {
		plain := func(choice uint8, text string) {
			if text != "" {
				b.AddASN1(cryptoasn1.Tag(choice).ContextSpecific(), func(b *cryptobyte.Builder) { b.AddBytes([]byte(text)) })
			}
		}
		if n.PrincipalName != "" {
			b.AddASN1(cryptoasn1.Tag(otherName).ContextSpecific().Constructed(), func(b *cryptobyte.Builder) {
				b.AddASN1ObjectIdentifier(oidPrincipal)
				b.AddASN1(cryptoasn1.Tag(0).ContextSpecific().Constructed(), func(b *cryptobyte.Builder) {
					b.AddASN1(cryptoasn1.UTF8String, func(b *cryptobyte.Builder) { b.AddBytes([]byte(n.PrincipalName)) })
				})
			})
		}
		plain(mailName, n.Email)
		plain(hostName, n.DNS)
	})
	value, err := b.Bytes()
	return pkix.Extension{Id: oidAlternative, Value: value}, true, err
}

// Said is a part of a name as somebody says it.
type Said struct{ Part, Text string }

// alternativesIn reads alternative names. The error says which is of a sort that no profile has.
func alternativesIn(value []byte) (out []Said, err error) {
	in := cryptobyte.String(value)
	var names cryptobyte.String
	if !in.ReadASN1(&names, cryptoasn1.SEQUENCE) || !in.Empty() {
		return nil, errDER
	}
	for !names.Empty() {
		var one cryptobyte.String
		var tag cryptoasn1.Tag
		if !names.ReadAnyASN1(&one, &tag) {
			return nil, errDER
		}
		switch tag {
		case cryptoasn1.Tag(mailName).ContextSpecific():
			out = append(out, Said{"email", string(one)})
		case cryptoasn1.Tag(hostName).ContextSpecific():
			out = append(out, Said{"dns", string(one)})
		case cryptoasn1.Tag(otherName).ContextSpecific().Constructed():
			var oid asn1.ObjectIdentifier
			var wrapped, text cryptobyte.String
			if !one.ReadASN1ObjectIdentifier(&oid) || !oid.Equal(oidPrincipal) {
				return nil, fmt.Errorf("it has an alternative name of another form")
			}
			if !one.ReadASN1(&wrapped, cryptoasn1.Tag(0).ContextSpecific().Constructed()) || !one.Empty() ||
				!wrapped.ReadASN1(&text, cryptoasn1.UTF8String) || !wrapped.Empty() {
				return nil, errDER
			}
			out = append(out, Said{"principal-name", string(text)})
		default:
			return nil, fmt.Errorf("it has an alternative name that is no e-mail address, host or principal name")
		}
	}
	return out, nil
}

// AlternativesOf gives the alternative names of a certificate; of a form that no profile has, none.
func AlternativesOf(c *x509.Certificate) []Said {
	for _, one := range c.Extensions {
		if one.Id.Equal(oidAlternative) {
			out, err := alternativesIn(one.Value)
			if err == nil {
				return out
			}
		}
	}
	return nil
}
