package application

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha1"
	"crypto/subtle"
	"encoding/base32"
	"encoding/binary"
	"fmt"
	"time"
)

// newFactor draws the secret of a second factor.
func newFactor() string {
	secret := make([]byte, 20)
	rand.Read(secret)
	return base32.StdEncoding.EncodeToString(secret)
}

// Code gives the code of a secret at a moment (RFC 6238, with steps of 30 seconds and 6 digits); "" if it is no secret.
func Code(secret string, at time.Time) string {
	key, err := base32.StdEncoding.DecodeString(secret)
	if err != nil {
		return ""
	}
	mac := hmac.New(sha1.New, key)
	var step [8]byte
	binary.BigEndian.PutUint64(step[:], uint64(at.Unix()/30))
	mac.Write(step[:])
	sum := mac.Sum(nil)
	from := sum[len(sum)-1] & 15
	return fmt.Sprintf("%06d", (binary.BigEndian.Uint32(sum[from:from+4])&0x7fffffff)%1_000_000)
}

// fits says whether a code is that of a moment, or of the step before or after it.
func fits(secret, code string, at time.Time) bool {
	ok := 0
	for _, off := range []time.Duration{-30 * time.Second, 0, 30 * time.Second} {
		want := Code(secret, at.Add(off))
		ok |= subtle.ConstantTimeCompare([]byte(want), []byte(code))
	}
	return ok == 1 && code != ""
}
