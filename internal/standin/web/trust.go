package web

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"time"
)

// Trust is whom a stand-in trusts beside its own authority: files that are read again for each client. "": nobody.
type Trust struct {
	Authorities string // certificates of authorities in PEM, whose clients may sign in
	Revoked     string // lists of what they have revoked in PEM (RFC 5280, section 5)
}

// mostTrust bounds a file that is read for each client, in bytes.
const mostTrust = 1 << 20

// within has a server take the clients of other authorities too.
func (t Trust) within(own *tls.Config, cert *x509.Certificate) *tls.Config {
	if t.Authorities == "" {
		return own
	}
	outer := own.Clone()
	outer.GetConfigForClient = func(*tls.ClientHelloInfo) (*tls.Config, error) {
		pool := x509.NewCertPool()
		pool.AddCert(cert)
		text, err := readTrust(t.Authorities)
		if err != nil || !pool.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("the authorities in %s cannot be read", t.Authorities)
		}
		one := own.Clone()
		one.ClientCAs = pool
		one.VerifyConnection = func(s tls.ConnectionState) error {
			if len(s.VerifiedChains) == 0 || t.Revoked == "" {
				return nil
			}
			chain := s.VerifiedChains[0]
			if chain[len(chain)-1].Equal(cert) {
				return nil // its own
			}
			return t.holds(chain, own.Time())
		}
		return one, nil
	}
	return outer
}

func readTrust(name string) ([]byte, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() > mostTrust {
		return nil, fmt.Errorf("%s is no plain file of at most %d bytes", name, mostTrust)
	}
	return os.ReadFile(name)
}

// holds says why a certificate does not count: its authority has revoked it, or has no list that is in date.
func (t Trust) holds(chain []*x509.Certificate, now time.Time) error {
	text, err := readTrust(t.Revoked)
	if err != nil {
		return err
	}
	known := false
	for rest := bytes.TrimSpace(text); len(rest) > 0; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		list, err := x509.ParseRevocationList(block.Bytes)
		if err != nil || len(chain) < 2 || list.CheckSignatureFrom(chain[1]) != nil || now.After(list.NextUpdate) {
			continue
		}
		known = true
		for _, one := range list.RevokedCertificateEntries {
			if one.SerialNumber.Cmp(chain[0].SerialNumber) == 0 {
				return errors.New("the certificate is revoked")
			}
		}
	}
	if !known {
		return errors.New("the authority has no list of what is revoked that is in date")
	}
	return nil
}
