package credential

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha1" //nolint:gosec // RFC 6238 and every app for one-time codes use it, and HMAC does not need more
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net/url"
	"strings"
	"time"
)

// Factor is a second factor: what makes one-time codes (RFC 6238), and codes for when that is lost. Neither is kept
// here: the system that asks for them has the secret and the hashes.
type Factor struct {
	Secret   string   // of 20 bytes, in base32
	Recovery []string // each counts once
}

// The codes of a second factor, as every app for them has it where nothing else is said.
const (
	factorBytes  = 20
	factorStep   = 30 // seconds
	factorDigits = 1_000_000
	// RecoveryCodes are how many of them a second factor has.
	RecoveryCodes = 8
)

var base32Plain = base32.StdEncoding.WithPadding(base32.NoPadding)

// NewFactor draws a second factor.
func NewFactor() *Factor {
	f := &Factor{Secret: base32Plain.EncodeToString(drawn(factorBytes))}
	for range RecoveryCodes {
		f.Recovery = append(f.Recovery, NewCode())
	}
	return f
}

func drawn(bytes int) []byte {
	out := make([]byte, bytes)
	_, _ = rand.Read(out) // which never fails
	return out
}

// NewCode draws a code of 80 bits that counts once, in groups that are easy to type.
func NewCode() string {
	text := base32Plain.EncodeToString(drawn(10))
	return strings.Join([]string{text[:4], text[4:8], text[8:12], text[12:]}, "-")
}

// HashOf gives by what a code, or another secret that was drawn at random, is known: the SHA-256, in hexadecimal. What
// cannot be guessed needs nothing slower. A code may be typed in small letters, and without what parts its groups.
func HashOf(code string) string {
	sum := sha256.Sum256([]byte(plainCode(code)))
	return hex.EncodeToString(sum[:])
}

func plainCode(code string) string {
	return strings.ToUpper(strings.NewReplacer("-", "", " ", "").Replace(code))
}

// Address gives what an app for one-time codes reads, as it stands in a QR code.
func (f *Factor) Address(estate, account string) string {
	u := url.URL{Scheme: "otpauth", Host: "totp", Path: "/" + estate + ":" + account, // apps take no + for a blank
		RawQuery: strings.ReplaceAll(url.Values{"secret": {f.Secret}, "issuer": {estate}}.Encode(), "+", "%20")}
	return u.String()
}

// Code gives the code of a moment (RFC 6238, section 4, and RFC 4226, section 5.3: SHA-1, 30 seconds, 6 digits).
func (f *Factor) Code(at time.Time) string {
	key, err := base32Plain.DecodeString(f.Secret)
	if err != nil {
		return ""
	}
	mac := hmac.New(sha1.New, key)
	_ = binary.Write(mac, binary.BigEndian, uint64(at.Unix()/factorStep))
	sum := mac.Sum(nil)
	from := sum[len(sum)-1] & 15
	return fmt.Sprintf("%06d", (binary.BigEndian.Uint32(sum[from:])&0x7fffffff)%factorDigits)
}

// Fits says whether a code is that of a moment, or of the step before or after it.
func (f *Factor) Fits(code string, at time.Time) bool {
	fits := 0
	for _, off := range []time.Duration{-factorStep, 0, factorStep} {
		fits |= subtle.ConstantTimeCompare([]byte(code), []byte(f.Code(at.Add(off*time.Second))))
	}
	return fits == 1 && code != ""
}
