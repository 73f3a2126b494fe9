package credential

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"math/big"
	"strconv"
	"strings"
)

// letters are those of passwords that are made here: none looks like another.
const letters = "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"

// LeastPassword is how many characters a password has at least, whatever the settings say.
const LeastPassword = 12

// NewPassword makes a password of so many characters.
func NewPassword(length int) (string, error) {
	out := make([]byte, max(length, LeastPassword))
	for i := range out {
		n, err := rand.Int(rand.Reader, big.NewInt(int64(len(letters))))
		if err != nil {
			return "", err
		}
		out[i] = letters[n.Int64()]
	}
	return string(out), nil
}

// CheckPassword says why a password that somebody chose is not taken. One has characters of ASCII alone, which every
// system reads alike: what others come to hangs on how they are prepared (RFC 4013).
func CheckPassword(text string, length int) error {
	different := map[rune]bool{}
	for _, r := range text {
		if r < ' ' || r > '~' {
			return errors.New("it has a character that systems read in different ways: use letters, digits and signs of ASCII")
		}
		different[r] = true
	}
	if n := max(length, LeastPassword); len(text) < n {
		return fmt.Errorf("it has %d characters, and %d are the least", len(text), n)
	}
	if len(different) < LeastPassword/2 {
		return fmt.Errorf("it has %d different characters, and %d are the least", len(different), LeastPassword/2)
	}
	return nil
}

const (
	rounds    = 4096 // the least that RFC 7677 allows; servers do that work at each sign-in
	saltBytes = 16
)

// verifierOf gives a verifier for SCRAM-SHA-256 (RFC 5802, section 3, and RFC 7677), in the form in which PostgreSQL
// keeps it.
func verifierOf(password string, salt []byte, rounds int) (string, error) {
	salted, err := pbkdf2.Key(sha256.New, password, salt, rounds, sha256.Size)
	if err != nil {
		return "", err
	}
	stored := sha256.Sum256(keyed(salted, "Client Key"))
	text := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("%s$%d:%s$%s:%s", SCRAM, rounds, text(salt), text(stored[:]),
		text(keyed(salted, "Server Key"))), nil
}

func keyed(key []byte, text string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(text))
	return h.Sum(nil)
}

// errVerifier says nothing of what stands there.
var errVerifier = errors.New("it is no verifier for SCRAM-SHA-256")

func readVerifier(text string) (salt []byte, rounds int, err error) {
	rest, ok := strings.CutPrefix(text, string(SCRAM)+"$")
	count, rest, okCount := strings.Cut(rest, ":")
	salted, keys, okSalt := strings.Cut(rest, "$")
	stored, server, okKeys := strings.Cut(keys, ":")
	if !ok || !okCount || !okSalt || !okKeys {
		return nil, 0, errVerifier
	}
	if rounds, err = strconv.Atoi(count); err != nil || rounds < 4096 || rounds > 1<<20 || strconv.Itoa(rounds) != count {
		return nil, 0, errVerifier
	}
	read := func(text string, bytes int) []byte {
		out, wrong := base64.StdEncoding.Strict().DecodeString(text)
		if wrong != nil || len(out) != bytes || strings.ContainsAny(text, "\r\n") {
			err = errVerifier
		}
		return out
	}
	salt = read(salted, saltBytes)
	read(stored, sha256.Size)
	read(server, sha256.Size)
	return salt, rounds, err
}

// Fits says whether a password is the one of a verifier.
func Fits(password, verifier string) bool {
	again := ""
	if salt, err := readArgon(verifier); err == nil {
		again = argonOf(password, salt)
	} else if salt, rounds, err := readVerifier(verifier); err == nil {
		again, _ = verifierOf(password, salt, rounds)
	}
	return again != "" && subtle.ConstantTimeCompare([]byte(again), []byte(verifier)) == 1
}
