package credential

import (
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"hiddengate/internal/estate"
)

var (
	start  = time.Date(2031, 11, 23, 12, 0, 0, 500_000_000, time.UTC)
	months = Span{start, start.Add(90 * 24 * time.Hour)}
)

func authority(t testing.TB, algorithm string, s Span) *Authority {
	t.Helper()
	key, err := NewKey(algorithm)
	require.NoError(t, err)
	a, err := MakeAuthority("Authority at the base", "Ternhollow Observatory", key, s)
	require.NoError(t, err)
	return a
}

func issued(t testing.TB, a *Authority, o Order) *x509.Certificate {
	t.Helper()
	if o.Key == nil {
		key, err := NewKey("ed25519")
		require.NoError(t, err)
		o.Key = key.Public()
	}
	der, err := a.Issue(o)
	require.NoError(t, err)
	require.NoError(t, canonical(der))
	c, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return c
}

// A certificate is one that others take for what its profile says, within its time and for nothing else.
func TestWhatIsIssuedHoldsForItsTimeAndUse(t *testing.T) {
	for _, algorithm := range estate.KeyAlgorithms[:4] {
		a := authority(t, algorithm, months)
		span := Span{start.Add(time.Hour), start.Add(25 * time.Hour)}
		c := issued(t, a, Order{Profile: client, Name: ines, Span: span})
		pool := x509.NewCertPool()
		pool.AddCert(a.Certificate)
		verify := func(at time.Time, use x509.ExtKeyUsage) error {
			_, err := c.Verify(x509.VerifyOptions{Roots: pool, CurrentTime: at, KeyUsages: []x509.ExtKeyUsage{use}})
			return err
		}
		assert.NoError(t, verify(span.From.Add(time.Second), x509.ExtKeyUsageClientAuth))
		assert.Error(t, verify(span.From.Add(-time.Nanosecond), x509.ExtKeyUsageClientAuth), "before it")
		assert.Error(t, verify(span.Until, x509.ExtKeyUsageClientAuth), "after it")
		assert.Error(t, verify(span.From.Add(time.Hour), x509.ExtKeyUsageServerAuth), "another use")
		assert.Equal(t, "CN=ines.okafor,OU=domes", c.Subject.String())
		assert.Equal(t, []string{ines.Email}, c.EmailAddresses)
		assert.Equal(t, 128, c.SerialNumber.BitLen())
		_, err := SignedBy([]Anchor{authority(t, algorithm, months).Anchor}, c)
		assert.Error(t, err, "another authority of the same name")
		own, err := SignedBy([]Anchor{a.Anchor}, c)
		require.NoError(t, err)
		again, err := ParseAnchor(estate.MakesX509, own.String())
		require.NoError(t, err)
		assert.Equal(t, a.Certificate.Raw, again.Certificate.Raw)
		long := issued(t, a, Order{Profile: client, Name: ines, Span: Span{start, start.Add(1000 * 24 * time.Hour)}})
		assert.False(t, long.NotAfter.After(a.Certificate.NotAfter), "no longer than the authority")
		_, err = ParseAnchor(estate.MakesX509, Anchor{Certificate: c}.String())
		assert.Error(t, err, "what was issued signs nothing")
	}
}

func TestAnAuthorityUnderAnotherIsTakenOver(t *testing.T) {
	root := authority(t, "ecdsa-p256", months)
	key, err := NewKey("ecdsa-p384")
	require.NoError(t, err)
	plan := *root.Certificate
	plan.SerialNumber, plan.MaxPathLenZero, plan.MaxPathLen = big.NewInt(2), true, 0
	plan.Subject.CommonName = "Authority of the domes"
	root.Certificate.MaxPathLenZero, root.Certificate.MaxPathLen = false, -1
	der, err := x509.CreateCertificate(rand.Reader, &plan, root.Certificate, key.Public(), root.key)
	require.NoError(t, err)
	chain, err := DecodeCertificates(append(EncodeCertificate(der), root.Encode()...))
	require.NoError(t, err)
	a, err := ImportAuthority(chain, key)
	require.NoError(t, err)
	assert.NoError(t, issued(t, a, Order{Profile: client, Name: ines, Span: months}).CheckSignatureFrom(chain[0]))
	_, err = ImportAuthority(chain, root.key)
	assert.ErrorContains(t, err, "not that of the authority's certificate")
	_, err = ImportAuthority(append(chain[:1:1], authority(t, "ecdsa-p256", months).Certificate), key)
	assert.ErrorContains(t, err, "not signed by the one after it")
	_, err = DecodeCertificates([]byte("-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----"))
	assert.Error(t, err)
}

func TestRevocationsAreSigned(t *testing.T) {
	a := authority(t, "ecdsa-p256", months)
	list := []Revoked{{big.NewInt(9), start, "superseded"}, {big.NewInt(3), start, "key-compromise"}}
	text, err := a.Revocations(list, big.NewInt(7), start, start.Add(time.Hour))
	require.NoError(t, err)
	block, _ := pem.Decode(text)
	got, err := x509.ParseRevocationList(block.Bytes)
	require.NoError(t, err)
	require.NoError(t, got.CheckSignatureFrom(a.Certificate))
	require.Len(t, got.RevokedCertificateEntries, 2)
	assert.Equal(t, []int64{3, 9}, []int64{got.RevokedCertificateEntries[0].SerialNumber.Int64(),
		got.RevokedCertificateEntries[1].SerialNumber.Int64()})
	assert.Equal(t, 1, got.RevokedCertificateEntries[0].ReasonCode)
	for _, r := range Reasons {
		assert.Contains(t, reasons, r)
	}
}

// A sealed key opens with what it was sealed for alone, and nothing of it stands in the file or an error.
func TestASealedKeyOpensForItsOwnerAlone(t *testing.T) {
	key, err := NewKey("ecdsa-p256")
	require.NoError(t, err)
	plain, err := EncodeKey(key, false)
	require.NoError(t, err)
	owner, err := NewKey("ed25519")
	require.NoError(t, err)
	private, err := EncodeKey(owner, true)
	require.NoError(t, err)
	public, err := ssh.NewPublicKey(owner.Public())
	require.NoError(t, err)
	for _, forSSH := range []bool{true, false} {
		var sealed []byte
		if forSSH {
			sealed, err = Seal(key, "", []string{string(ssh.MarshalAuthorizedKey(public))})
		} else {
			sealed, err = Seal(key, "a long passphrase", nil)
		}
		require.NoError(t, err)
		assert.NotContains(t, string(sealed), string(plain[40:80]))
		open := func(phrase string, ssh []byte) error {
			got, err := Unseal(sealed, phrase, ssh)
			if err == nil {
				assert.True(t, SameKey(key.Public(), got.Public()))
			}
			return err
		}
		other, err := NewKey("ed25519")
		require.NoError(t, err)
		stranger, err := EncodeKey(other, true)
		require.NoError(t, err)
		assert.Equal(t, forSSH, open("", private) == nil)
		assert.Equal(t, !forSSH, open("a long passphrase", nil) == nil)
		for _, err := range []error{open("", stranger), open("another passphrase", nil)} {
			assert.Error(t, err)
		}
	}
}

func TestACertificateForSSHSaysWhatItsHolderMay(t *testing.T) {
	key, err := NewKey("ed25519")
	require.NoError(t, err)
	a, err := NewSSHAuthority(key)
	require.NoError(t, err)
	holder, err := NewKey("ed25519")
	require.NoError(t, err)
	access := Access{Accounts: []string{"ines", "dome"}, Command: "exec planner", From: []string{"10.40.0.0/16"}}
	order := Order{Profile: client, Key: holder.Public(), Span: Span{start, start.Add(time.Minute)}}
	text, err := a.IssueSSH(order, access, "ines.okafor request 4")
	require.NoError(t, err)
	c, err := ParseSSHCertificate([]Anchor{a.Anchor}, text)
	require.NoError(t, err)
	assert.Equal(t, []string{"dome", "ines"}, c.ValidPrincipals)
	assert.Equal(
		t,
		map[string]string{"force-command": "exec planner", "source-address": "10.40.0.0/16"},
		c.CriticalOptions,
	)
	assert.EqualValues(t, start.Unix()+1, c.ValidAfter, "not before it begins")
	assert.EqualValues(t, start.Unix()+60, c.ValidBefore)
	other, err := NewSSHAuthority(holder)
	require.NoError(t, err)
	_, err = ParseSSHCertificate([]Anchor{other.Anchor}, text)
	assert.Error(t, err)
	_, err = a.IssueSSH(order, Access{}, "x")
	assert.ErrorContains(t, err, "without an account")
	_, err = a.IssueSSH(order, Access{Accounts: []string{"a\nb"}}, "x")
	assert.Error(t, err)
	anchor, err := ParseAnchor(estate.MakesSSH, a.String())
	require.NoError(t, err)
	assert.True(t, SameKey(anchor.Key(), key.Public()))
}

// Whatever is read as a certificate or an anchor, nothing that another signed is taken.
func FuzzCertificate(f *testing.F) {
	a := authority(f, "ecdsa-p256", months)
	c := issued(f, a, Order{Profile: client, Name: ines, Span: months})
	f.Add(EncodeCertificate(c.Raw))
	f.Add([]byte(a.String()))
	f.Add([]byte("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGMVC4XvtnxLSiVsbzZsYQoYiK0UoNZ3ge2rttGJfbPI ines.okafor"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if list, err := DecodeCertificates(text); err == nil {
			for _, one := range list {
				if _, err := SignedBy([]Anchor{a.Anchor}, one); err == nil {
					assert.Equal(t, c.Raw, one.Raw)
				}
			}
		}
		for _, makes := range estate.Makings {
			if anchor, err := ParseAnchor(makes, string(text)); err == nil {
				again, err := ParseAnchor(makes, anchor.String())
				assert.NoError(t, err)
				assert.Equal(t, anchor.Encode(), again.Encode())
			}
		}
		_, _ = ParseSSHCertificate([]Anchor{a.Anchor}, string(text))
		_, _ = DecodeKey(text)
	})
}
