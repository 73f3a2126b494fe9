package credential

import (
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"slices"
	"time"
)

// reasons are why a certificate is revoked, with their codes (RFC 5280, section 5.3.1).
var reasons = map[string]int{"unspecified": 0, "key-compromise": 1, "affiliation-changed": 3, "superseded": 4,
	"cessation-of-operation": 5, "certificate-hold": 6,
	"privilege-withdrawn": 9}

// Reasons lists why a certificate can be revoked.
var Reasons = []string{"unspecified", "key-compromise", "affiliation-changed", "superseded", "cessation-of-operation",
	"certificate-hold", "privilege-withdrawn"}

// Revoked is a certificate that does not count any more.
type Revoked struct {
	Serial *big.Int
	At     time.Time
	Reason string // one of Reasons
}

// Revocations signs the list of what is revoked (RFC 5280, section 5), in PEM. Numbers of lists grow.
func (a *Authority) Revocations(list []Revoked, number *big.Int, now, next time.Time) ([]byte, error) {
	plan := &x509.RevocationList{Number: number, ThisUpdate: now.UTC().Truncate(time.Second),
		NextUpdate: next.UTC().Truncate(time.Second)}
	sorted := slices.Clone(list)
	slices.SortFunc(sorted, func(a, b Revoked) int { return a.Serial.Cmp(b.Serial) })
	for _, r := range sorted {
		plan.RevokedCertificateEntries = append(plan.RevokedCertificateEntries, x509.RevocationListEntry{
			SerialNumber: r.Serial, RevocationTime: r.At.UTC().Truncate(time.Second), ReasonCode: reasons[r.Reason]})
	}
	der, err := x509.CreateRevocationList(rand.Reader, plan, a.Certificate, a.key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der}), nil
}
