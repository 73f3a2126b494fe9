package application

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hiddengate/internal/standin"
	"hiddengate/internal/standin/web"
	"net/http"
	"slices"
	"strings"
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
	key, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(strings.TrimRight(secret, "="))
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

// Equipped is a second factor that whoever manages accounts gives to one, or takes from it.
type Equipped struct {
	Account string `json:"account"`
	Secret  string `json:"secret"` // in base32; "" to take it away
	// Recovery are the SHA-256 hashes, in hexadecimal, of codes in capitals that count once each.
	Recovery []string `json:"recovery,omitempty"`
}

// equip gives an account a second factor, also one that comes with the next settings. It holds the lock.
func (a *Application) equip(_ string, body []byte) (int, web.Reply) {
	var e Equipped
	if err := standin.Strictly(body, &e); err != nil {
		return http.StatusBadRequest, web.Reply{Said: []string{"What you sent cannot be read: " + err.Error() + "."}}
	}
	if standin.CheckAccount(e.Account) != nil || e.Secret != "" && Code(e.Secret, a.Now()) == "" ||
		len(e.Recovery) > mostRecovery {
		return http.StatusBadRequest, web.Reply{Said: []string{"There can be no such account, or it is no second factor."}}
	}
	kept := a.Passwords[e.Account]
	kept.Factor, kept.Recovery = e.Secret, e.Recovery
	if err := a.Keep(e.Account, kept); err != nil {
		return http.StatusInternalServerError, web.Reply{Said: []string{"The stand-in failed, and nothing was done."}}
	}
	return http.StatusOK, web.Reply{Done: true, Said: []string{"Done."}}
}

const mostRecovery = 20

// recovers says whether a code is one that counts once, and counts it. The caller holds the lock.
func (a *Application) recovers(account, code string) bool {
	sum := sha256.Sum256([]byte(strings.ToUpper(strings.NewReplacer("-", "", " ", "").Replace(code))))
	kept := a.Passwords[account]
	n := slices.Index(kept.Recovery, hex.EncodeToString(sum[:]))
	if n < 0 {
		return false
	}
	kept.Recovery = slices.Delete(slices.Clone(kept.Recovery), n, n+1)
	return a.Keep(account, kept) == nil
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
