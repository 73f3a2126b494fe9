package web

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"time"

	"hiddengate/internal/standin"
)

// Authority signs the certificates of a stand-in (RFC 5280).
type Authority struct {
	cert *x509.Certificate
	key  crypto.Signer
	now  func() time.Time
}

const (
	authorityName = "authority.pem"
	// AuthorityFile is the file of the folder that has the authority's certificate, by which clients know the stand-in.
	AuthorityFile = "authority-certificate.pem"
	forAuthority  = 10 * 365 * 24 * time.Hour
	skew          = 5 * time.Minute
)

// OpenAuthority reads the authority of a folder, or makes it.
func OpenAuthority(f *standin.Folder, now func() time.Time) (*Authority, error) {
	text, found, err := f.Read(authorityName)
	if err != nil {
		return nil, err
	}
	if !found {
		return newAuthority(f, now)
	}
	pair, err := tls.X509KeyPair(text, text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.Path(authorityName), err)
	}
	cert, err := x509.ParseCertificate(pair.Certificate[0])
	if err != nil {
		return nil, err
	}
	return &Authority{cert, pair.PrivateKey.(crypto.Signer), now}, nil
}

func newAuthority(f *standin.Folder, now func() time.Time) (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	plan := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "simulated authority"},
		NotBefore: now().Add(-skew), NotAfter: now().Add(forAuthority), IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCertSign, MaxPathLenZero: true}
	der, err := x509.CreateCertificate(rand.Reader, plan, plan, key.Public(), key)
	if err != nil {
		return nil, err
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	both, err := bundle(der, key)
	if err != nil {
		return nil, err
	}
	if err := f.Write(AuthorityFile, encoded(der)); err != nil {
		return nil, err
	}
	return &Authority{cert, key, now}, f.Write(authorityName, both)
}

func serial() *big.Int {
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		panic(err) // the system has no randomness
	}
	return n
}

func encoded(der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}

// bundle writes a certificate with its key.
func bundle(der []byte, key *ecdsa.PrivateKey) ([]byte, error) {
	text, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return append(encoded(der), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: text})...), nil
}

// forClient is a certificate by which an account signs in.
func (a *Authority) forClient(account string, lasts time.Duration) *x509.Certificate {
	return &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: account},
		NotBefore: a.now().Add(-skew), NotAfter: a.now().Add(lasts), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}
}

// Sign signs a request (RFC 2986) for an account, which has to be the one that it names. The certificate lasts so long.
func (a *Authority) Sign(request []byte, account string, lasts time.Duration) ([]byte, error) {
	block, _ := pem.Decode(request)
	if block == nil || block.Type != "CERTIFICATE REQUEST" {
		return nil, errors.New("it is no signing request in PEM")
	}
	r, err := x509.ParseCertificateRequest(block.Bytes)
	if err != nil {
		return nil, errors.New("the signing request cannot be read")
	}
	switch {
	case r.CheckSignature() != nil:
		return nil, errors.New("the signing request is not signed by its own key")
	case r.Subject.CommonName != account:
		return nil, fmt.Errorf("the signing request is for %.80q, not for %s", r.Subject.CommonName, account)
	}
	der, err := x509.CreateCertificate(rand.Reader, a.forClient(account, lasts), a.cert, r.PublicKey, a.key)
	if err != nil {
		return nil, errors.New("the key of the signing request cannot be signed")
	}
	return encoded(der), nil
}

// Issue makes a key and a certificate for an account.
func (a *Authority) Issue(account string, lasts time.Duration) ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := x509.CreateCertificate(rand.Reader, a.forClient(account, lasts), a.cert, key.Public(), a.key)
	if err != nil {
		return nil, err
	}
	return bundle(der, key)
}

// Server gives what a stand-in shows at an address, and takes the certificates that the authority signed, or one that
// is trusted.
func (a *Authority) Server(at net.Addr, trust Trust) (*tls.Config, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	plan := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "simulation"},
		NotBefore: a.now().Add(-skew), NotAfter: a.now().Add(forAuthority / 10), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, DNSNames: []string{"localhost"}}
	if host, _, err := net.SplitHostPort(at.String()); err == nil && net.ParseIP(host) != nil {
		plan.IPAddresses = []net.IP{net.ParseIP(host)}
	}
	der, err := x509.CreateCertificate(rand.Reader, plan, a.cert, key.Public(), a.key)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	pool.AddCert(a.cert)
	return trust.within(&tls.Config{
		MinVersion:   tls.VersionTLS12,
		Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}},
		ClientCAs:    pool,
		ClientAuth:   tls.VerifyClientCertIfGiven,
		Time:         a.now,
	}, a.cert), nil
}
