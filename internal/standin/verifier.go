package standin

import (
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"
)

// Verified is a password that somebody set, of which the stand-in learns by what to check it alone.
type Verified struct {
	Verifier string     `json:"verifier"` // for Argon2id (RFC 9106), as $argon2id$v=19$m=KIB,t=PASSES,p=LANES$SALT$TAG
	First    bool       `json:"first,omitempty"`
	Ends     *time.Time `json:"ends,omitempty"`
	Lasts    int64      `json:"lasts,omitempty"` // seconds
}

// argon is a verifier that was read.
type argon struct {
	kib, passes uint32
	lanes       uint8
	salt, tag   []byte
}

// What a verifier may cost: whoever sets one would make the stand-in work.
const (
	mostKiB    = 64 << 10
	mostPasses = 4
	mostLanes  = 8
)

var errVerifier = errors.New("it is no verifier for Argon2id, or one that costs too much")

func argonOf(text string) (a argon, err error) {
	parts := strings.Split(text, "$")
	if len(parts) != 6 || parts[0] != "" || parts[1] != "argon2id" || parts[2] != "v=19" {
		return a, errVerifier
	}
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &a.kib, &a.passes, &a.lanes); err != nil {
		return a, errVerifier
	}
	salt, errSalt := base64.RawStdEncoding.DecodeString(parts[4])
	tag, errTag := base64.RawStdEncoding.DecodeString(parts[5])
	a.salt, a.tag = salt, tag
	if errSalt != nil || errTag != nil || a.kib < 8*uint32(a.lanes) || a.kib > mostKiB || a.passes < 1 ||
		a.passes > mostPasses || a.lanes < 1 || a.lanes > mostLanes || len(salt) < 8 || len(salt) > 64 ||
		len(tag) < 16 || len(tag) > 64 {
		return a, errVerifier
	}
	return a, nil
}

// oneAtATime bounds the memory that checking takes.
var oneAtATime sync.Mutex

func (a argon) fits(text string) bool {
	oneAtATime.Lock()
	defer oneAtATime.Unlock()
	tag := argon2.IDKey([]byte(text), a.salt, a.passes, a.kib, a.lanes, uint32(len(a.tag)))
	return subtle.ConstantTimeCompare(tag, a.tag) == 1
}
