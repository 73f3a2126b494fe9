package standin

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"time"
)

// Token lets a program act as an account. Its secret is drawn at random, and known here by its SHA-256 alone.
type Token struct {
	Hash string     `json:"hash"` // in hexadecimal
	Ends *time.Time `json:"ends,omitempty"`
	// Teams are what it gives the rights of; of everything that the account has where there are none.
	Teams []string `json:"teams,omitempty"`
}

// byToken begins the role of whoever came with a token; no role is named so.
const byToken = "token\x00"

// ByToken is the role of whoever came with a token.
func ByToken(id string) string { return byToken + id }

func (t *Token) lets(now time.Time) bool { return t != nil && (t.Ends == nil || now.Before(*t.Ends)) }

// Fits says whether a secret is that of a token that lets in at a moment.
func (t *Token) Fits(secret string, now time.Time) bool {
	if !t.lets(now) {
		return false
	}
	sum := sha256.Sum256([]byte(secret))
	return subtle.ConstantTimeCompare([]byte(hex.EncodeToString(sum[:])), []byte(t.Hash)) == 1
}

const mostTokenID = 64

func (t *Token) check(x *Access, id string) error {
	if t == nil || len(id) == 0 || len(id) > mostTokenID {
		return errors.New("a token is empty, or its id is too long")
	}
	if raw, err := hex.DecodeString(t.Hash); err != nil || len(raw) != sha256.Size {
		return fmt.Errorf("token %.80q has no hash", id)
	}
	for _, name := range t.Teams {
		if x.Teams[name] == nil {
			return fmt.Errorf("token %.80q names the team %.80q, which there is not", id, name)
		}
	}
	return nil
}
