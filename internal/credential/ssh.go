package credential

import (
	"crypto"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"hiddengate/internal/estate"
)

// Access is what a certificate for SSH lets its holder do, as OpenSSH's PROTOCOL.certkeys says it.
type Access struct {
	Accounts []string // in which it signs in
	Command  string   // that alone may be run; "": any
	From     []string // the networks from which it counts; nil: any
}

// NewSSHAuthority gives the anchor of an authority that makes certificates for SSH, with its key.
func NewSSHAuthority(key crypto.Signer) (*Authority, error) {
	public, err := ssh.NewPublicKey(key.Public())
	if err != nil {
		return nil, err
	}
	return Anchor{SSH: public}.With(key)
}

// ParseSSHKey reads a public key that is to be signed, as OpenSSH writes it.
func ParseSSHKey(text []byte) (crypto.PublicKey, error) {
	if len(text) > MostRequest {
		return nil, fmt.Errorf("it has %d bytes, and %d is the most", len(text), MostRequest)
	}
	a, err := ParseAnchor(estate.MakesSSH, strings.TrimSpace(string(text)))
	if err != nil {
		return nil, err
	}
	key := a.Key()
	if _, err := AlgorithmOf(key); err != nil {
		return nil, err
	}
	return key, nil
}

// IssueSSH signs a user certificate for a key, and gives it as one line of OpenSSH. The label stands in servers' logs.
func (a *Authority) IssueSSH(o Order, access Access, label string) (string, error) {
	if err := signable(o.Key, o.Profile.Takes()); err != nil {
		return "", err
	}
	if len(access.Accounts) == 0 {
		return "", errors.New("a certificate for SSH without an account would count for every one")
	}
	for _, name := range append([]string{label, access.Command}, access.Accounts...) {
		if err := fits("", name); err != nil {
			return "", fmt.Errorf("%q: %w", short(name), err)
		}
	}
	first, last, err := o.whole()
	if err != nil {
		return "", err
	}
	key, err := ssh.NewPublicKey(o.Key)
	if err != nil {
		return "", err
	}
	var number [8]byte
	if _, err := rand.Read(number[:]); err != nil {
		return "", err
	}
	accounts := slices.Clone(access.Accounts)
	slices.Sort(accounts)
	c := &ssh.Certificate{Key: key, Serial: binary.BigEndian.Uint64(number[:]), CertType: ssh.UserCert, KeyId: label,
		ValidPrincipals: slices.Compact(accounts), ValidAfter: uint64(first.Unix()),
		ValidBefore: uint64(last.Unix()) + 1, // of which the end does not count
		Permissions: ssh.Permissions{CriticalOptions: map[string]string{}, Extensions: map[string]string{"permit-pty": ""}}}
	if access.Command != "" {
		c.CriticalOptions["force-command"] = access.Command
	}
	if access.From != nil {
		c.CriticalOptions["source-address"] = strings.Join(access.From, ",")
	}
	signer, err := ssh.NewSignerFromSigner(a.key)
	if err != nil {
		return "", err
	}
	if rsa, ok := signer.(ssh.AlgorithmSigner); ok && signer.PublicKey().Type() == ssh.KeyAlgoRSA {
		// not with SHA-1, which servers refuse
		if signer, err = ssh.NewSignerWithAlgorithms(rsa, []string{ssh.KeyAlgoRSASHA512}); err != nil {
			return "", err
		}
	}
	if err := c.SignCert(rand.Reader, signer); err != nil {
		return "", err
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(c))), nil
}

// ParseSSHCertificate reads a user certificate, and sees that one of some anchors signed it, whatever its dates.
func ParseSSHCertificate(anchors []Anchor, text string) (*ssh.Certificate, error) {
	key, _, options, rest, err := ssh.ParseAuthorizedKey([]byte(text))
	if err != nil || len(options) > 0 || len(rest) > 0 {
		return nil, errors.New("it is no certificate as OpenSSH writes it")
	}
	c, ok := key.(*ssh.Certificate)
	if !ok || c.CertType != ssh.UserCert {
		return nil, errors.New("it is no certificate of a user for SSH")
	}
	if !slices.ContainsFunc(anchors, func(a Anchor) bool {
		return a.SSH != nil && string(a.SSH.Marshal()) == string(c.SignatureKey.Marshal())
	}) || len(c.ValidPrincipals) == 0 {
		return nil, errSignature
	}
	checker := ssh.CertChecker{SupportedCriticalOptions: []string{"force-command", "source-address"},
		Clock: func() time.Time { return time.Unix(int64(c.ValidAfter), 0) }}
	if checker.CheckCert(c.ValidPrincipals[0], c) != nil {
		return nil, errSignature
	}
	return c, nil
}

var errSignature = errors.New("no key of the authority signed it")

// certified gives the public key that a certificate for SSH is for, whoever signed it.
func certified(text string) (crypto.PublicKey, error) {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(text))
	if err != nil {
		return nil, errors.New("it is no certificate as OpenSSH writes it")
	}
	c, ok := key.(*ssh.Certificate)
	if !ok {
		return nil, errors.New("it is a key without a certificate")
	}
	plain, ok := c.Key.(ssh.CryptoPublicKey)
	if !ok {
		return nil, errors.New("its key is of a sort that is not signed here")
	}
	return plain.CryptoPublicKey(), nil
}
