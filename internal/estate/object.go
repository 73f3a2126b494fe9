// Package estate is the model: what one workspace describes, as plain types without I/O. Names, addresses,
// selectors and conditions are parsed into these types here; what they decide is the gate's business.
package estate

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/visible"
)

// Source is where an entry stands: its position, and the bytes [Start, End) of the file, key and value, without
// the line break at the end. Both are 0 for a line of an inventory.
type Source struct {
	diagnostic.Position
	Start, End int
}

// Object is what every entry of a workspace may carry.
type Object struct {
	ID        string
	Title     string
	About     string
	Why       string
	Owner     *Principal // nil: none said
	Protected bool
	Accept    []Acceptance
	Source    Source
}

// Head gives the object itself, so that all kinds of entry can be handled alike.
func (o *Object) Head() *Object { return o }

// Acceptance takes a finding off the count, until its end.
type Acceptance struct {
	Finding string
	Why     string
	Ends    *Moment
}

// Ref names an entry of another section.
type Ref struct {
	ID       string
	Position diagnostic.Position
}

// Moment is an end of a time: a whole local day, or an instant.
type Moment struct {
	IsDate  bool
	Date    clock.Date
	Instant clock.Instant
	Text    string // as written
}

// Tag is one key with its value. An empty value clears an inherited one.
type Tag struct{ Key, Value string }

// Tags are sorted by key.
type Tags []Tag

// Get gives the value of key, "" where there is none.
func (t Tags) Get(key string) string {
	for _, tag := range t {
		if tag.Key == key {
			return tag.Value
		}
	}
	return ""
}

// Name is the same for tags that say the same of the keys that count; all do if counts is nil.
func (t Tags) Name(counts func(key string) bool) string {
	var b strings.Builder
	for _, tag := range t {
		if counts == nil || counts(tag.Key) {
			b.WriteString(tag.Key)
			b.WriteByte(0)
			b.WriteString(tag.Value)
			b.WriteByte(0)
		}
	}
	return b.String()
}

// Match compares one tag or attribute with the values of which it must have one.
type Match struct {
	Key    string
	Values []string
}

// Fits says whether tags have one of the values for every key.
func Fits(match []Match, tags Tags) bool {
	for _, m := range match {
		if v := tags.Get(m.Key); v == "" || !slices.Contains(m.Values, v) {
			return false
		}
	}
	return true
}

// Words of the notations are no ids.
var reserved = map[string]bool{"everyone": true, "everything": true, "anonymous": true, "all": true, "not": true,
	"scope": true, "group": true, "person": true, "service": true}

// MaxID is how many bytes an id may have.
const MaxID = 128

// CheckID tells what is wrong with an id: letters, digits and . _ - @, beginning with a letter or digit.
func CheckID(id string) error {
	switch {
	case id == "":
		return fmt.Errorf("an id may not be empty")
	case len(id) > MaxID:
		return fmt.Errorf("an id has at most %d bytes, this one has %d", MaxID, len(id))
	case reserved[id]:
		return fmt.Errorf("%q is a word of the notations and can't be an id", id)
	}
	ascii := true
	for i, r := range id {
		if r < utf8.RuneSelf && alphanumeric(byte(r)) { // most are nothing else
			continue
		}
		ascii = ascii && r < utf8.RuneSelf
		plain := (unicode.IsLetter(r) || unicode.IsDigit(r)) && !visible.Hidden(r)
		if !plain && i == 0 {
			return fmt.Errorf("the id %q must begin with a letter or digit", id)
		}
		if !plain && !strings.ContainsRune("._-@", r) {
			return fmt.Errorf("the id %q may not contain %q: use letters, digits and . _ - @", id, r)
		}
	}
	if ascii {
		return nil
	}
	if !utf8.ValidString(id) {
		return fmt.Errorf("an id must be valid UTF-8")
	}
	if !norm.NFC.IsNormalString(id) {
		return fmt.Errorf("the id %q is written in a way that Unicode has another for: write %q", id, norm.NFC.String(id))
	}
	return nil
}

// PrincipalKind says what sort of thing a Principal names.
type PrincipalKind int

// What may stand where subjects are named.
const (
	IsPerson PrincipalKind = iota
	IsService
	IsGroup
	IsEveryone
	IsAnonymous
)

// Section gives the section in which such subjects stand; "" where they stand in none.
func (k PrincipalKind) Section() string {
	switch k {
	case IsPerson:
		return "people"
	case IsService:
		return "services"
	case IsGroup:
		return "groups"
	}
	return ""
}

// Principal names a person, service or group, everyone, or anonymous.
type Principal struct {
	Kind PrincipalKind
	ID   string
}

// Compare orders principals, people first, then by id.
func (p Principal) Compare(o Principal) int {
	return cmp.Or(cmp.Compare(p.Kind, o.Kind), strings.Compare(p.ID, o.ID))
}

// String writes the principal as files do, a person by the bare id.
func (p Principal) String() string {
	switch p.Kind {
	case IsService:
		return "service:" + p.ID
	case IsGroup:
		return "group:" + p.ID
	case IsEveryone:
		return "everyone"
	case IsAnonymous:
		return "anonymous"
	}
	return p.ID
}

// ParsePrincipal reads `ines.okafor`, `person:ID`, `service:ID`, `group:ID`, `everyone` or `anonymous`.
func ParsePrincipal(text string) (Principal, error) {
	switch text {
	case "everyone":
		return Principal{Kind: IsEveryone}, nil
	case "anonymous":
		return Principal{Kind: IsAnonymous}, nil
	}
	p := Principal{ID: text}
	if kind, id, found := strings.Cut(text, ":"); found {
		p.ID = id
		switch kind {
		case "person":
		case "service":
			p.Kind = IsService
		case "group":
			p.Kind = IsGroup
		default:
			return p, fmt.Errorf("%q names no subject: write an id, person:ID, service:ID, group:ID, everyone or anonymous",
				text)
		}
	}
	return p, CheckID(p.ID)
}

// SubjectTerm is one entry of a list of subjects.
type SubjectTerm struct {
	Principal
	Not      bool
	Position diagnostic.Position
}

// Subjects is a list in which `not` entries take away from what the others gather.
type Subjects []SubjectTerm

// InGroup selects whom a group holds.
func InGroup(id string) Subjects { return Subjects{{Principal: Principal{Kind: IsGroup, ID: id}}} }

// ParseSubjectTerm reads a principal, `not` before it or not.
func ParseSubjectTerm(text string) (SubjectTerm, error) {
	rest, not := strings.CutPrefix(text, "not ")
	p, err := ParsePrincipal(strings.TrimSpace(rest))
	return SubjectTerm{Principal: p, Not: not}, err
}

// String writes the term as files do.
func (t SubjectTerm) String() string {
	if t.Not {
		return "not " + t.Principal.String()
	}
	return t.Principal.String()
}
