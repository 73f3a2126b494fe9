package credential

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"unicode/utf8"

	"golang.org/x/crypto/cryptobyte"
	cryptoasn1 "golang.org/x/crypto/cryptobyte/asn1"

	"hiddengate/internal/estate"
)

// MostRequest bounds a request to sign a key, in bytes.
const MostRequest = 16 << 10

// Request is a request to sign a key, as somebody brought it (RFC 2986). It is signed by that key, and what it says of
// its holder is to be checked, never believed.
type Request struct {
	Key        crypto.PublicKey
	parsed     *x509.CertificateRequest
	attributes []asn1.ObjectIdentifier
}

// ParseRequest reads a request in PEM or DER. The error says why it is refused.
func ParseRequest(text []byte) (*Request, error) {
	if len(text) > MostRequest {
		return nil, fmt.Errorf("it has %d bytes, and %d is the most", len(text), MostRequest)
	}
	der := text
	if bytes.HasPrefix(bytes.TrimSpace(text), []byte("-----BEGIN ")) {
		block, rest := pem.Decode(text)
		if block == nil || block.Type != "CERTIFICATE REQUEST" && block.Type != "NEW CERTIFICATE REQUEST" {
			return nil, errors.New("it is no request to sign a key (PKCS #10)")
		}
		if len(bytes.TrimSpace(rest)) > 0 {
			return nil, errors.New("something follows the request")
		}
		der = block.Bytes
	}
	if err := canonical(der); err != nil {
		return nil, err
	}
	r, err := x509.ParseCertificateRequest(der)
	if err != nil {
		return nil, errors.New("it is no request to sign a key (PKCS #10)")
	}
	out := &Request{Key: r.PublicKey, parsed: r}
	if out.attributes, err = attributesOf(r.RawTBSCertificateRequest); err != nil {
		return nil, err
	}
	if _, err := AlgorithmOf(r.PublicKey); err != nil {
		return nil, err
	}
	if err := r.CheckSignature(); err != nil {
		return nil, errors.New("it is not signed by the key that it names, or in a way that is broken")
	}
	return out, nil
}

// attributesOf lists which attributes a request has.
func attributesOf(tbs []byte) (out []asn1.ObjectIdentifier, err error) {
	in := cryptobyte.String(tbs)
	var body, attributes cryptobyte.String
	if !in.ReadASN1(&body, cryptoasn1.SEQUENCE) || !body.SkipASN1(cryptoasn1.INTEGER) ||
		!body.SkipASN1(cryptoasn1.SEQUENCE) || !body.SkipASN1(cryptoasn1.SEQUENCE) ||
		!body.ReadASN1(&attributes, cryptoasn1.Tag(0).ContextSpecific().Constructed()) || !body.Empty() {
		return nil, errDER
	}
	for !attributes.Empty() {
		var one cryptobyte.String
		var oid asn1.ObjectIdentifier
		if !attributes.ReadASN1(&one, cryptoasn1.SEQUENCE) || !one.ReadASN1ObjectIdentifier(&oid) {
			return nil, errDER
		}
		if slices.ContainsFunc(out, oid.Equal) {
			return nil, fmt.Errorf("it has the attribute %s twice", oid)
		}
		out = append(out, oid)
	}
	return out, nil
}

var (
	oidExtensions = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 14}
	oidChallenge  = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 7}
	oidMail       = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 1}
	oidBasic      = asn1.ObjectIdentifier{2, 5, 29, 19}
	oidUsage      = asn1.ObjectIdentifier{2, 5, 29, 15}
	oidPurpose    = asn1.ObjectIdentifier{2, 5, 29, 37}
	oidKeyID      = asn1.ObjectIdentifier{2, 5, 29, 14}
)

// subjectParts names the attributes of a subject that a profile can have (RFC 4519; e-mail addresses by RFC 2985).
var subjectParts = map[string]string{"2.5.4.3": "common-name", "2.5.4.10": "organisation", "2.5.4.11": "unit",
	oidMail.String(): "email"}

// Check says why a profile does not sign a request for a holder of the given name; nil if it does. A request may leave
// parts of the name out: the profile says them anyway.
func (r *Request) Check(p *estate.Profile, name Name) error {
	if err := signable(r.Key, p.Takes()); err != nil {
		return err
	}
	for _, oid := range r.attributes {
		switch {
		case oid.Equal(oidExtensions):
		case oid.Equal(oidChallenge):
			return errors.New("it holds a challenge password, which others would read: make it without")
		default:
			return fmt.Errorf("it has the attribute %s, which is not signed here", oid)
		}
	}
	said, err := r.subject()
	if err != nil {
		return err
	}
	more, err := r.extensions(p.Use)
	if err != nil {
		return err
	}
	seen := map[string]string{}
	for _, s := range append(said, more...) {
		if text, twice := seen[s.Part]; twice && text != s.Text {
			return fmt.Errorf("it says two things of %s: %q and %q", s.Part, short(text), short(s.Text))
		}
		seen[s.Part] = s.Text
		if err := readable(s.Text); err != nil {
			return fmt.Errorf("its %s cannot be taken: %w", s.Part, err)
		}
		if want := *name.part(s.Part); s.Text != want {
			if want == "" {
				return fmt.Errorf("it says %s %q, and the profile says none", s.Part, short(s.Text))
			}
			return fmt.Errorf("it is for somebody else: its %s is %q, and would be %q", s.Part, short(s.Text), want)
		}
	}
	return nil
}

// short cuts a text of a stranger to what a message can show.
func short(text string) string {
	if r := []rune(text); len(r) > longestPart {
		return string(r[:longestPart]) + "…"
	}
	return text
}

// readable says what hides in a text of a stranger.
func readable(text string) error {
	if !utf8.ValidString(text) {
		return errors.New("it is not UTF-8")
	}
	return fits("", short(text))
}

// subject gives what the distinguished name says.
func (r *Request) subject() (out []Said, err error) {
	for _, a := range r.parsed.Subject.Names {
		part := subjectParts[a.Type.String()]
		text, isText := a.Value.(string)
		if part == "" || !isText {
			return nil, fmt.Errorf("its subject has the attribute %s, which no profile has", a.Type)
		}
		out = append(out, Said{part, text})
	}
	return out, nil
}

// extensions gives what the extensions say of the holder. The error names one that is not signed.
func (r *Request) extensions(use string) (out []Said, err error) {
	seen := map[string]bool{}
	for _, x := range r.parsed.Extensions {
		if seen[x.Id.String()] {
			return nil, fmt.Errorf("it asks for the extension %s twice", x.Id)
		}
		seen[x.Id.String()] = true
		switch {
		case x.Id.Equal(oidAlternative):
			if out, err = alternativesIn(x.Value); err != nil {
				return nil, err
			}
		case x.Id.Equal(oidBasic):
			var basic struct {
				IsCA   bool `asn1:"optional"`
				Within int  `asn1:"optional,default:-1"`
			}
			if rest, err := asn1.Unmarshal(x.Value, &basic); err != nil || len(rest) > 0 || basic.IsCA {
				return nil, errors.New("it asks to be an authority itself")
			}
		case x.Id.Equal(oidUsage):
			var usage asn1.BitString
			if rest, err := asn1.Unmarshal(x.Value, &usage); err != nil || len(rest) > 0 || usage.At(5) == 1 ||
				usage.At(6) == 1 {
				return nil, errors.New("it asks to sign certificates, or lists of what is revoked")
			}
		case x.Id.Equal(oidPurpose):
			var purposes []asn1.ObjectIdentifier
			if rest, err := asn1.Unmarshal(x.Value, &purposes); err != nil || len(rest) > 0 {
				return nil, errDER
			}
			for _, oid := range purposes {
				if !oid.Equal(oidOfUse[use]) {
					return nil, fmt.Errorf("it asks for the purpose %s, and the profile is for a %s", oid, use)
				}
			}
		case x.Id.Equal(oidKeyID): // which is worked out anew
		default:
			return nil, fmt.Errorf("it asks for the extension %s, which is not signed here", x.Id)
		}
	}
	return out, nil
}

// oidOfUse are the purposes of keys (RFC 5280, section 4.2.1.12) by estate.Uses.
var oidOfUse = map[string]asn1.ObjectIdentifier{
	"client": {1, 3, 6, 1, 5, 5, 7, 3, 2},
	"server": {1, 3, 6, 1, 5, 5, 7, 3, 1},
}
