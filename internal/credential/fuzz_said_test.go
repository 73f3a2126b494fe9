package credential

import (
	"crypto/x509"
	"encoding/asn1"
	"testing"
)

// FuzzAlternatives reads any bytes as alternative names: what it takes are parts that a profile has.
func FuzzAlternatives(f *testing.F) {
	one, _, err := Name{CommonName: "ana", Email: "ana@ternhollow.example", PrincipalName: "ana@hosts", DNS: "a.example"}.
		alternatives()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(one.Value)
	f.Add([]byte{0x30, 0x00})
	f.Fuzz(func(t *testing.T, value []byte) {
		c := &x509.Certificate{}
		c.Extensions = append(c.Extensions, one)
		c.Extensions[0].Value = value
		for _, said := range AlternativesOf(c) {
			if part := (&Name{}).part(said.Part); part == nil {
				t.Errorf("%q is no part of a name", said.Part)
			}
		}
		var raw asn1.RawValue
		if rest, err := asn1.Unmarshal(value, &raw); (err != nil || len(rest) > 0) && len(AlternativesOf(c)) > 0 {
			t.Errorf("% x is no DER, and says something", value)
		}
	})
}

// FuzzVerifier reads any text as a verifier: what it takes is in the one form in which verifiers are written.
func FuzzVerifier(f *testing.F) {
	for _, form := range []Form{SCRAM, Argon2id} {
		one, err := VerifierIn(form, "a password of mine")
		if err != nil {
			f.Fatal(err)
		}
		f.Add(one)
	}
	f.Fuzz(func(t *testing.T, text string) {
		form, err := FormOf(text)
		if err != nil {
			return
		}
		for _, r := range text {
			if r < '!' || r > '~' || r == '\'' || r == '\\' {
				t.Errorf("%q is taken as a verifier for %s", text, form)
			}
		}
		if len(text) > 200 {
			t.Errorf("a verifier of %d bytes is taken", len(text))
		}
	})
}
