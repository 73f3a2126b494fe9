package credential

import (
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"math/big"
	"time"

	"hiddengate/internal/estate"
)

// Span is from when until when something holds, the end excluded. Certificates know whole seconds alone.
type Span struct{ From, Until time.Time }

// whole narrows a span to whole seconds. The last second of a certificate is one in which it still holds (RFC 5280,
// section 4.1.2.5), all of it.
func (s Span) whole() (first, last time.Time, err error) {
	first = s.From.UTC().Truncate(time.Second)
	if first.Before(s.From) {
		first = first.Add(time.Second)
	}
	last = s.Until.UTC().Truncate(time.Second).Add(-time.Second)
	if last.Before(first) {
		return first, last, errors.New("it would end before it begins")
	}
	return first, last, nil
}

// Authority is what signs: an anchor with its private key.
type Authority struct {
	Anchor
	key crypto.Signer
}

// With gives an anchor its private key.
func (a Anchor) With(key crypto.Signer) (*Authority, error) {
	if !SameKey(a.Key(), key.Public()) {
		return nil, errors.New("the key is not that of the authority's certificate")
	}
	return &Authority{a, key}, nil
}

// serial gives a number that nobody can guess, of at most 20 bytes (RFC 5280, section 4.1.2.2).
func serial() (*big.Int, error) {
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		return nil, err
	}
	return n.SetBit(n, 127, 1), nil // all are of one length
}

// MakeAuthority makes the certificate of an authority that signs itself. An organisation that no certificate can name
// is left out.
func MakeAuthority(name, organisation string, key crypto.Signer, s Span) (*Authority, error) {
	first, last, err := s.whole()
	if err != nil {
		return nil, err
	}
	number, err := serial()
	if err != nil {
		return nil, err
	}
	if err := fits("common-name", name); err != nil {
		return nil, fmt.Errorf("the name of the authority: %w", err)
	}
	subject := pkix.Name{CommonName: name}
	if fits("organisation", organisation) == nil && organisation != "" {
		subject.Organization = []string{organisation}
	}
	plan := &x509.Certificate{SerialNumber: number, Subject: subject, NotBefore: first, NotAfter: last, IsCA: true,
		BasicConstraintsValid: true, MaxPathLenZero: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
	der, err := x509.CreateCertificate(rand.Reader, plan, plan, key.Public(), key)
	if err != nil {
		return nil, err
	}
	a, err := certificateAnchor(der)
	if err != nil {
		return nil, err
	}
	return a.With(key)
}

// ImportAuthority takes a certificate of an authority that another one signed, with those above it, each signed by the
// next.
func ImportAuthority(chain []*x509.Certificate, key crypto.Signer) (*Authority, error) {
	a, err := certificateAnchor(chain[0].Raw)
	if err != nil {
		return nil, err
	}
	for i, c := range chain[:len(chain)-1] {
		if err := c.CheckSignatureFrom(chain[i+1]); err != nil {
			return nil, fmt.Errorf("certificate %d of the chain is not signed by the one after it", i+1)
		}
	}
	return a.With(key)
}

// Order is what is to be signed.
type Order struct {
	Profile *estate.Profile
	Name    Name
	Key     crypto.PublicKey
	Span
}

// Issue signs a certificate (RFC 5280) and gives it as DER. It never lasts longer than the authority.
func (a *Authority) Issue(o Order) ([]byte, error) {
	if err := signable(o.Key, o.Profile.Takes()); err != nil {
		return nil, err
	}
	if o.Until.After(a.Certificate.NotAfter) {
		o.Until = a.Certificate.NotAfter
	}
	if o.From.Before(a.Certificate.NotBefore) {
		o.From = a.Certificate.NotBefore
	}
	first, last, err := o.whole()
	if err != nil {
		return nil, err
	}
	number, err := serial()
	if err != nil {
		return nil, err
	}
	plan := &x509.Certificate{SerialNumber: number, Subject: o.Name.subject(), NotBefore: first, NotAfter: last,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{usageOf[o.Profile.Use]}}
	extension, has, err := o.Name.alternatives()
	if err != nil {
		return nil, err
	}
	if has {
		plan.ExtraExtensions = append(plan.ExtraExtensions, extension)
	}
	return x509.CreateCertificate(rand.Reader, plan, a.Certificate, o.Key, a.key)
}

var usageOf = map[string]x509.ExtKeyUsage{"client": x509.ExtKeyUsageClientAuth, "server": x509.ExtKeyUsageServerAuth}

// SignedBy finds which of some anchors signed a certificate, whatever its dates. The error says that none did.
func SignedBy(anchors []Anchor, c *x509.Certificate) (Anchor, error) {
	for _, a := range anchors {
		if a.Certificate != nil && !c.IsCA && c.CheckSignatureFrom(a.Certificate) == nil {
			return a, nil
		}
	}
	return Anchor{}, errors.New("no certificate of the authority signed it")
}
