package credential

import (
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/argon2"
)

// Form is the form of a verifier, as systems take them.
type Form string

// The forms of verifiers. SCRAM is that of RFC 5802 and RFC 7677; Argon2id that of RFC 9106.
const (
	SCRAM    Form = "SCRAM-SHA-256"
	Argon2id Form = "Argon2id"
)

// What Argon2id costs here: the second of the choices that RFC 9106 recommends (section 4), with 64 MiB of memory.
const (
	argonPasses  = 3
	argonKiB     = 64 << 10
	argonLanes   = 4
	argonTag     = 32 // bytes
	argonHeading = "$argon2id$v=19$m=65536,t=3,p=4$"
)

var errArgon = errors.New("it is no verifier for Argon2id")

func argonOf(password string, salt []byte) string {
	tag := argon2.IDKey([]byte(password), salt, argonPasses, argonKiB, argonLanes, argonTag)
	text := base64.RawStdEncoding.EncodeToString
	return argonHeading + text(salt) + "$" + text(tag)
}

// readArgon reads a verifier that costs what they do here, no more and no less: what others wrote costs nothing else.
func readArgon(text string) (salt []byte, err error) {
	rest, ok := strings.CutPrefix(text, argonHeading)
	salted, tagged, okTag := strings.Cut(rest, "$")
	if !ok || !okTag || strings.ContainsAny(text, "\r\n") {
		return nil, errArgon
	}
	salt, errSalt := base64.RawStdEncoding.Strict().DecodeString(salted)
	tag, errTag := base64.RawStdEncoding.Strict().DecodeString(tagged)
	if errSalt != nil || errTag != nil || len(salt) != saltBytes || len(tag) != argonTag {
		return nil, errArgon
	}
	return salt, nil
}

// VerifierIn gives by what a password is checked and from which it cannot be read, in a form that a system takes.
func VerifierIn(form Form, password string) (string, error) {
	salt := make([]byte, saltBytes)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	switch form {
	case SCRAM:
		return verifierOf(password, salt, rounds)
	case Argon2id:
		return argonOf(password, salt), nil
	}
	return "", fmt.Errorf("there is no form of verifiers %q", form)
}

// FormOf sees that a text is what VerifierIn writes, and nothing else, and says in which form: it goes into statements.
func FormOf(verifier string) (Form, error) {
	if strings.HasPrefix(verifier, argonHeading) {
		_, err := readArgon(verifier)
		return Argon2id, err
	}
	_, _, err := readVerifier(verifier)
	return SCRAM, err
}
