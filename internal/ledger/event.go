// Package ledger is the append-only sequence of events: what an event is, how events are chained by their hashes, and
// what is wrong with a chain. It does no I/O; the stores in its subpackage keep the events.
package ledger

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/gowebpki/jcs"

	"hiddengate/internal/clock"
)

// Kind says what an event is about.
type Kind string

// The kinds of event.
const (
	Began          Kind = "ledger.began"
	Imported       Kind = "ledger.imported"
	Requested      Kind = "request.made"
	Approved       Kind = "request.approved"
	Refused        Kind = "request.refused"
	Finished       Kind = "loan.ended"
	PolicyChanged  Kind = "policy.changed"
	PolicyFound    Kind = "policy.found"
	ReviewOpened   Kind = "review.opened"
	ReviewAnswered Kind = "review.answered"
	ReviewReminded Kind = "review.reminded"
	ReviewClosed   Kind = "review.closed"
	Pushed         Kind = "system.pushed"
	Wanted         Kind = "credential.requested"
	Issued         Kind = "credential.issued"
	Revoked        Kind = "credential.revoked"
	Published      Kind = "revocations.published"
	PasswordSet    Kind = "credential.password"
	FactorSet      Kind = "credential.second-factor"
	TokenMade      Kind = "credential.token"
	TokenEnded     Kind = "credential.token-ended"
	Invited        Kind = "invitation.made"
	Joined         Kind = "invitation.accepted"
)

// Kinds lists all kinds of event.
var Kinds = []Kind{Began, Imported, Requested, Approved, Refused, Finished, PolicyChanged, PolicyFound,
	ReviewOpened, ReviewAnswered, ReviewReminded, ReviewClosed, Pushed, Wanted, Issued, Revoked, Published,
	PasswordSet, FactorSet, TokenMade, TokenEnded, Invited, Joined}

// NeedsSignature says whether an event of the kind counts only with a signature, where the workspace requires them.
func (k Kind) NeedsSignature() bool {
	switch k {
	case Requested, Wanted, Approved, Refused, Finished, Imported, ReviewOpened, ReviewAnswered, ReviewClosed, Revoked,
		PasswordSet, FactorSet, TokenMade, Invited:
		return true
	}
	return false
}

// IsRequest says whether an event of the kind asks for something: for access, or for a credential.
func (k Kind) IsRequest() bool { return k == Requested || k == Wanted }

// Statement is what an event says, and what its author signs. It names no number, so that it keeps its signature when
// it goes from one ledger to another.
type Statement struct {
	Ledger string          `json:"ledger"` // the id of the ledger for which it was made
	Time   Time            `json:"time"`
	Actor  string          `json:"actor"` // a subject of the policy; "" if the user is none
	Kind   Kind            `json:"kind"`
	Body   json.RawMessage `json:"body"`
}

// Event is a statement in its place. Hash is the SHA-256 of the canonical JSON (RFC 8785) of all else, in hexadecimal;
// Previous is the hash of the event before, of the first one "".
type Event struct {
	Number int64 `json:"number"` // from 1
	Statement
	User      string `json:"user"`            // of the operating system
	Host      string `json:"host"`            // on which the command ran
	Command   string `json:"command"`         // without values, which may be secret
	About     int64  `json:"about,omitempty"` // the number of the request that it is about
	Signature string `json:"signature,omitempty"`
	Previous  string `json:"previous"`
	Hash      string `json:"hash,omitempty"`
}

// Time is an instant, written in UTC with microseconds (RFC 3339).
type Time clock.Instant

const timeForm = "2006-01-02T15:04:05.000000Z"

func (t Time) String() string { return time.UnixMicro(int64(t)).UTC().Format(timeForm) }

// MarshalJSON writes the time as text.
func (t Time) MarshalJSON() ([]byte, error) { return json.Marshal(t.String()) }

// UnmarshalJSON reads it back, and takes no other form.
func (t *Time) UnmarshalJSON(text []byte) error {
	var s string
	if err := json.Unmarshal(text, &s); err != nil {
		return err
	}
	at, err := time.Parse(timeForm, s)
	if err != nil {
		return err
	}
	*t = Time(at.UnixMicro())
	return nil
}

// canonical gives a value as canonical JSON (RFC 8785).
func canonical(v any) ([]byte, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return jcs.Transform(text)
}

// Signed gives the bytes that the author of a statement signs.
func (s Statement) Signed() ([]byte, error) { return canonical(s) }

// ID names a statement by what it says: the SHA-256 of the bytes that are signed, in hexadecimal.
func (s Statement) ID() string {
	text, err := s.Signed()
	if err != nil {
		return "" // no event is kept of which that is so
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// plain gives an event as canonical JSON without its hash, and what the hash has to be.
func (e Event) plain() (text []byte, hash string, err error) {
	e.Hash = ""
	if text, err = canonical(e); err != nil {
		return nil, "", err
	}
	sum := sha256.Sum256(text)
	return text, hex.EncodeToString(sum[:]), nil
}

// withHash puts a hash where it stands among the keys, which come in order. No text in JSON holds a bare quotation
// mark, and the body comes before: what looks like the key behind the hash, and is the last that does, is that key.
func withHash(plain []byte, hash string) ([]byte, error) {
	host := bytes.LastIndex(plain, []byte(`,"host":`))
	if host < 0 {
		return nil, errForm
	}
	return slices.Concat(plain[:host], []byte(`,"hash":"`+hash+`"`), plain[host:]), nil
}

// Head is the newest event of a ledger; zero if there is none.
type Head struct {
	Number int64
	Hash   string
}

// String writes the head as number and hash.
func (h Head) String() string { return fmt.Sprintf("%d:%s", h.Number, h.Hash) }

// ParseHead reads what String writes.
func ParseHead(text string) (Head, error) {
	var h Head
	number, hash, ok := strings.Cut(text, ":")
	if _, err := fmt.Sscanf(number, "%d", &h.Number); err != nil || !ok || h.Number < 0 ||
		fmt.Sprint(h.Number) != number || !isHash(hash) {
		return h, fmt.Errorf("%q is no head of a ledger: write NUMBER:HASH, as `hgate log head` prints it", text)
	}
	h.Hash = hash
	return h, nil
}

func isHash(text string) bool {
	raw, err := hex.DecodeString(text)
	return err == nil && len(raw) == sha256.Size && strings.ToLower(text) == text
}

// After puts a draft behind the head: it gives it its number, the hash before it and its own. The text is what Encode
// gives of it.
func (h Head) After(e Event) (_ Event, text []byte, err error) {
	e.Number, e.Previous = h.Number+1, h.Hash
	plain, hash, err := e.plain()
	if err != nil {
		return e, nil, err
	}
	e.Hash = hash
	body, command := bytes.Index(plain, []byte(`"body":`)), bytes.LastIndex(plain, []byte(`,"command":`))
	if body < 0 || command < body {
		return e, nil, errForm
	}
	e.Body = bytes.Clone(plain[body+len(`"body":`) : command]) // as canonical
	text, err = withHash(plain, hash)
	return e, text, err
}

// Encode gives an event as the stores and files keep it: canonical JSON.
func (e Event) Encode() ([]byte, error) { return canonical(e) }

// errForm says that a text is no event as Encode writes one.
var errForm = errors.New("it is no event as hgate writes one")

// Decode reads an event as Encode writes it, byte for byte.
func Decode(text []byte) (Event, error) {
	e, _, err := Open(text)
	return e, err
}

// Open is Decode, and gives what the hash of the event has to be.
func Open(text []byte) (e Event, hash string, err error) {
	if e, err = Skim(text); err != nil {
		return e, "", err
	}
	plain, hash, err := e.plain()
	if err != nil {
		return e, "", errForm
	}
	if again, err := withHash(plain, e.Hash); err != nil || !bytes.Equal(again, text) {
		return e, "", errForm
	}
	return e, hash, nil
}

// Skim reads an event without asking whether Encode would write it so: for what only shows events.
func Skim(text []byte) (e Event, err error) {
	if json.Unmarshal(text, &e) != nil {
		return e, errForm
	}
	return e, nil
}

// Chain follows the events of a ledger, one after another, and sees that none is changed, missing, moved or put in.
type Chain struct{ Head }

// Next takes the event that stands at a number of the store. Its error says what is wrong; the chain goes on from what
// the event itself says, so that one fault is told once.
func (c *Chain) Next(number int64, e Event) error {
	_, hash, err := e.plain()
	if err != nil {
		hash = ""
	}
	return c.Follow(number, e, hash)
}

// Follow is Next where it is known what the hash of the event has to be.
func (c *Chain) Follow(number int64, e Event, hash string) error {
	was := c.Head
	c.Head = Head{number, e.Hash}
	switch {
	case number != was.Number+1:
		return fmt.Errorf("event %d follows event %d: what stood between is missing", number, was.Number)
	case e.Number != number:
		return fmt.Errorf("event %d says that it is number %d: it was moved or put in", number, e.Number)
	case hash != e.Hash:
		return fmt.Errorf("event %d was changed: its hash is not that of what it says", number)
	case e.Previous != was.Hash:
		return fmt.Errorf("event %d does not follow the one before it: one of them was put in, moved or changed", number)
	}
	return nil
}

// In says whether the kind is one that a filter names: itself, or a beginning that ends with a dot.
func (k Kind) In(filter string) bool {
	return string(k) == filter || strings.HasSuffix(filter, ".") && strings.HasPrefix(string(k), filter)
}
