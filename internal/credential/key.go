// Package credential makes and checks what carries an identity: keys, requests to sign them, certificates, lists of
// what is revoked. It stores nothing and knows no ledger.
package credential

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
)

// NewKey makes a key of one of estate.KeyAlgorithms.
func NewKey(algorithm string) (crypto.Signer, error) {
	switch algorithm {
	case "ed25519":
		_, key, err := ed25519.GenerateKey(rand.Reader)
		return key, err
	case "ecdsa-p256":
		return ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case "ecdsa-p384":
		return ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	case "rsa-3072":
		return rsa.GenerateKey(rand.Reader, 3072)
	case "rsa-4096":
		return rsa.GenerateKey(rand.Reader, 4096)
	}
	return nil, fmt.Errorf("%q is no sort of key", algorithm)
}

// AlgorithmOf names the sort of a public key; the error says why it is none that is signed.
func AlgorithmOf(key crypto.PublicKey) (string, error) {
	switch k := key.(type) {
	case ed25519.PublicKey:
		return "ed25519", nil
	case *ecdsa.PublicKey:
		switch k.Curve {
		case elliptic.P256():
			return "ecdsa-p256", nil
		case elliptic.P384():
			return "ecdsa-p384", nil
		}
		return "", fmt.Errorf("its key is of the curve %s, which is not signed here", k.Curve.Params().Name)
	case *rsa.PublicKey:
		bits := k.N.BitLen()
		switch {
		case bits < 3072:
			return "", fmt.Errorf("its key is weak: RSA of %d bits, and 3072 are the least", bits)
		case k.E != 65537:
			return "", fmt.Errorf("its key is of RSA with the exponent %d, and 65537 alone is signed", k.E)
		case bits == 3072, bits == 4096:
			return fmt.Sprintf("rsa-%d", bits), nil
		}
		return "", fmt.Errorf("its key is of RSA with %d bits, and 3072 or 4096 are signed", bits)
	}
	return "", errors.New("its key is of a sort that is not signed here")
}

// signable says whether a profile that takes some sorts of key takes this one.
func signable(key crypto.PublicKey, takes []string) error {
	algorithm, err := AlgorithmOf(key)
	if err == nil && !slices.Contains(takes, algorithm) {
		err = fmt.Errorf("its key is %s, and the profile signs %s", algorithm, strings.Join(takes, " and "))
	}
	return err
}

// EncodeKey writes a private key in PEM: as PKCS #8 (RFC 5958), or as OpenSSH reads it.
func EncodeKey(key crypto.Signer, forSSH bool) ([]byte, error) {
	if forSSH {
		block, err := ssh.MarshalPrivateKey(key, "")
		if err != nil {
			return nil, err
		}
		return pem.EncodeToMemory(block), nil
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
}

// errKey says nothing of what stands in a file of a key.
var errKey = errors.New("it is no private key in PEM that is read here: write it as PKCS #8, without a passphrase")

// DecodeKey reads a private key in PEM: PKCS #8, SEC 1 (RFC 5915), PKCS #1 (RFC 8017), or OpenSSH's own form.
func DecodeKey(text []byte) (crypto.Signer, error) {
	block, rest := pem.Decode(text)
	if block == nil || len(strings.TrimSpace(string(rest))) > 0 {
		return nil, errKey
	}
	var key any
	var err error
	switch block.Type {
	case "PRIVATE KEY":
		key, err = x509.ParsePKCS8PrivateKey(block.Bytes)
	case "EC PRIVATE KEY":
		key, err = x509.ParseECPrivateKey(block.Bytes)
	case "RSA PRIVATE KEY":
		key, err = x509.ParsePKCS1PrivateKey(block.Bytes)
	case "OPENSSH PRIVATE KEY":
		key, err = ssh.ParseRawPrivateKey(text)
	default:
		return nil, errKey
	}
	if err != nil {
		return nil, errKey
	}
	if p, ok := key.(*ed25519.PrivateKey); ok {
		return *p, nil
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, errKey
	}
	return signer, nil
}

// SameKey says whether two public keys are one.
func SameKey(a, b crypto.PublicKey) bool {
	k, ok := a.(interface{ Equal(x crypto.PublicKey) bool })
	return ok && k.Equal(b)
}
