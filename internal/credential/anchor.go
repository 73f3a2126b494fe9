package credential

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"

	"hiddengate/internal/estate"
)

// Anchor is a key by which credentials of an authority are told from others: a certificate, or for SSH a public key. It
// is what RFC 5280, section 6.1.1, calls a trust anchor.
type Anchor struct {
	Certificate *x509.Certificate // nil for SSH
	SSH         ssh.PublicKey     // nil for X.509
}

// mostAnchor bounds a certificate of an authority, in bytes.
const mostAnchor = 8 << 10

// ParseAnchor reads an anchor as policies write it: a certificate as DER in base64, or for SSH a public key as OpenSSH
// writes it.
func ParseAnchor(makes, text string) (Anchor, error) {
	if makes == estate.MakesSSH {
		key, _, options, rest, err := ssh.ParseAuthorizedKey([]byte(text))
		if err != nil || len(options) > 0 || len(rest) > 0 {
			return Anchor{}, errors.New("it is no public key as OpenSSH writes it, as in a file that ends in .pub")
		}
		if _, isCert := key.(*ssh.Certificate); isCert {
			return Anchor{}, errors.New("it is a certificate, and an authority for SSH is known by its public key")
		}
		return Anchor{SSH: key}, nil
	}
	if len(text) > mostAnchor*4/3 {
		return Anchor{}, fmt.Errorf("it has more than %d bytes", mostAnchor)
	}
	der, err := base64.StdEncoding.Strict().DecodeString(text)
	if err != nil {
		return Anchor{}, errors.New("it is no certificate as DER in base64")
	}
	return certificateAnchor(der)
}

func certificateAnchor(der []byte) (Anchor, error) {
	if err := canonical(der); err != nil {
		return Anchor{}, err
	}
	c, err := x509.ParseCertificate(der)
	switch {
	case err != nil:
		return Anchor{}, errors.New("it is no certificate as DER in base64")
	case !c.BasicConstraintsValid || !c.IsCA || c.KeyUsage&x509.KeyUsageCertSign == 0:
		return Anchor{}, errors.New("it is the certificate of somebody who signs no others")
	}
	if _, err := AlgorithmOf(c.PublicKey); err != nil {
		return Anchor{}, err
	}
	return Anchor{Certificate: c}, nil
}

// String writes the anchor as policies do.
func (a Anchor) String() string {
	if a.SSH != nil {
		return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(a.SSH)))
	}
	return base64.StdEncoding.EncodeToString(a.Certificate.Raw)
}

// Key gives the public key of the anchor.
func (a Anchor) Key() crypto.PublicKey {
	if a.SSH != nil {
		if k, ok := a.SSH.(ssh.CryptoPublicKey); ok {
			return k.CryptoPublicKey()
		}
		return nil
	}
	return a.Certificate.PublicKey
}

// Encode writes the anchor as programs take it: a certificate in PEM, or a public key of OpenSSH.
func (a Anchor) Encode() []byte {
	if a.SSH != nil {
		return ssh.MarshalAuthorizedKey(a.SSH)
	}
	return EncodeCertificate(a.Certificate.Raw)
}

// EncodeCertificate writes a certificate in PEM.
func EncodeCertificate(der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}

// AnchorsOf reads the anchors of an authority, the one in use first.
func AnchorsOf(s *estate.System) (out []Anchor, err error) {
	for _, text := range s.Anchors {
		a, err := ParseAnchor(s.Makes, text)
		if err != nil {
			return nil, err
		}
		out = append(out, a)
	}
	return out, nil
}

// DecodeCertificates reads certificates in PEM, one after another, and nothing else.
func DecodeCertificates(text []byte) (out []*x509.Certificate, err error) {
	for rest := bytes.TrimSpace(text); len(rest) > 0; rest = bytes.TrimSpace(rest) {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil || block.Type != "CERTIFICATE" {
			return nil, errors.New("it holds something that is no certificate in PEM")
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil || canonical(block.Bytes) != nil {
			return nil, errors.New("it holds a certificate that cannot be read")
		}
		out = append(out, c)
	}
	if len(out) == 0 {
		return nil, errors.New("it holds no certificate in PEM")
	}
	return out, nil
}
