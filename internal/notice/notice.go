// Package notice sends what happened to those who want to hear of it: to a web address, by mail, or into a file. What
// was sent and what is due stands in the ledger; this package says when to try again, and sends.
package notice

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"net/url"
	"path/filepath"
	"time"

	"hiddengate/internal/clock"
)

// Message is one event as it is sent.
type Message struct {
	ID      string // the same whenever it is sent again
	Event   []byte // as a CloudEvent (CloudEvents 1.0, JSON format)
	Subject string // one line, for mail
	Text    string // for mail
	At      time.Time
}

// Way is where messages go, and with what.
type Way struct {
	To     string // https://…, mailto:NAME@HOST, or the absolute path of a file
	Secret string // of a web address the key; of mail the password
	Mail   Mail
}

// Mail is by which server mail goes.
type Mail struct {
	Server, From, User string
	NoTLS              bool
}

// Send sends a message. An error says that it has to be sent again; it holds no secret.
func (w Way) Send(ctx context.Context, m Message) error {
	if filepath.IsAbs(w.To) {
		return toFile(w.To, m)
	}
	u, err := url.Parse(w.To)
	if err != nil {
		return fmt.Errorf("the address cannot be read")
	}
	if u.Scheme == "mailto" {
		return w.toMail(ctx, u.Opaque, m)
	}
	return w.toWeb(ctx, m)
}

// Sign gives the signature by which a receiver can tell that a body is real, and of when: the HMAC-SHA256 (RFC 2104) of
// the seconds since 1970, a dot and the body, in hexadecimal.
func Sign(secret string, seconds int64, body []byte) string {
	mac := hmac.New(sha256.New, []byte(secret))
	fmt.Fprintf(mac, "%d.", seconds)
	mac.Write(body)
	return hex.EncodeToString(mac.Sum(nil))
}

// The pauses between tries, and how long there are any.
const (
	firstPause = 5 * time.Second
	mostPause  = time.Hour
	mostTries  = 40 // more than a day
)

// GivenUp says whether a message is given up after so many tries.
func GivenUp(tries int) bool { return tries >= mostTries }

// Next is when to try again after so many tries, of which the last was at an instant: after a pause that doubles, up to
// an hour, and is by chance up to half as long again, so that not all come at once.
func Next(tries int, last clock.Instant) clock.Instant {
	pause := mostPause
	if tries < 12 {
		pause = min(mostPause, firstPause<<max(0, tries-1))
	}
	pause += time.Duration(rand.Int64N(int64(pause/2) + 1))
	return last + clock.Instant(pause.Microseconds())
}
