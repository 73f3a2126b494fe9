package credential

import (
	"bytes"
	"crypto"
	"errors"
	"fmt"
	"io"
	"strings"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"filippo.io/age/armor"
	"golang.org/x/crypto/ssh"
)

// Seal encrypts the private key of an authority with age (age-encryption.org/v1): for whoever has the passphrase, or if
// that is empty the private keys of some public SSH keys.
func Seal(key crypto.Signer, passphrase string, sshKeys []string) ([]byte, error) {
	plain, err := EncodeKey(key, false)
	if err != nil {
		return nil, err
	}
	var to []age.Recipient
	if passphrase != "" {
		one, err := age.NewScryptRecipient(passphrase)
		if err != nil {
			return nil, err
		}
		to = append(to, one)
	} else {
		for _, text := range sshKeys {
			one, err := agessh.ParseRecipient(text)
			if err != nil {
				return nil, fmt.Errorf("a key cannot be sealed for %s: write a public SSH key of ed25519 or RSA",
					short(text))
			}
			to = append(to, one)
		}
	}
	if len(to) == 0 {
		return nil, errors.New("a key is sealed with a passphrase, or for an SSH key")
	}
	var out bytes.Buffer
	armoured := armor.NewWriter(&out)
	w, err := age.Encrypt(armoured, to...)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(plain); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	if err := armoured.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// mostWork bounds what a file may ask of whoever opens it with a passphrase: 2 to this power.
const mostWork = 20

// ErrSealed says that a key stays closed.
var ErrSealed = errors.New("the key of the authority does not open with that")

// IsForPassphrase says whether what Seal wrote opens with a passphrase.
func IsForPassphrase(sealed []byte) bool {
	text, err := io.ReadAll(io.LimitReader(armor.NewReader(bytes.NewReader(sealed)), 1024))
	return err == nil && strings.Contains(string(text), "\n-> scrypt ")
}

// Unseal opens what Seal wrote, with a passphrase or a private SSH key as its file has it.
func Unseal(sealed []byte, passphrase string, sshKey []byte) (crypto.Signer, error) {
	var with age.Identity
	if passphrase != "" {
		one, err := age.NewScryptIdentity(passphrase)
		if err != nil {
			return nil, err
		}
		one.SetMaxWorkFactor(mostWork)
		with = one
	} else {
		var missing *ssh.PassphraseMissingError
		one, err := agessh.ParseIdentity(sshKey)
		if errors.As(err, &missing) {
			return nil, errors.New("the SSH key has a passphrase: give the key without it, or seal with a passphrase")
		}
		if err != nil {
			return nil, errors.New("that is no private SSH key of ed25519 or RSA")
		}
		with = one
	}
	r, err := age.Decrypt(armor.NewReader(bytes.NewReader(sealed)), with)
	if err != nil {
		return nil, ErrSealed
	}
	plain, err := io.ReadAll(io.LimitReader(r, MostRequest))
	if err != nil {
		return nil, ErrSealed
	}
	return DecodeKey(plain)
}
