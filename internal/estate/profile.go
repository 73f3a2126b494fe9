package estate

import (
	"slices"
	"time"
)

// AuthorityKind is the built-in kind of systems that sign what carries an identity.
const AuthorityKind = "authority"

// What an authority makes.
const (
	MakesX509 = "x509" // certificates by RFC 5280
	MakesSSH  = "ssh"  // user certificates as OpenSSH takes them
)

// Makings lists what an authority can make; the first is what one makes that does not say.
var Makings = []string{MakesX509, MakesSSH}

// Uses lists for what a credential can be used; the first is that of a profile that does not say.
var Uses = []string{"client", "server"}

// KeyAlgorithms lists the keys that a profile can ask for. RSA below 3,072 bits is too short for what lasts beyond 2030
// (NIST SP 800-57 part 1, table 2).
var KeyAlgorithms = []string{"ed25519", "ecdsa-p256", "ecdsa-p384", "rsa-3072", "rsa-4096"}

// NameParts lists what a certificate can say of its holder: attributes of its subject (RFC 4519), and alternative names
// (RFC 5280, section 4.2.1.6; a principal name is one of another form).
var NameParts = []string{"common-name", "organisation", "unit", "email", "principal-name", "dns"}

// NameSources lists where a part of a name comes from, `tag.KEY` aside: the subject's id, name, e-mail address or
// account in the profile's system, or the estate's title.
var NameSources = []string{"id", "name", "email", "account", "estate"}

// Profile says what an authority signs for whom, how and for how long. It is a resource of its authority as well, which
// is named after its id.
type Profile struct {
	Object
	Authority Ref
	System    Ref    // the system into which its credentials let their holders; ID "": none in particular
	Use       string // one of Uses
	Keys      []string
	Longest   time.Duration
	Approvals int
	Approvers Subjects // nil: whoever may approve by a grant
	Holders   Subjects // whom a credential may name; nil: everyone
	Names     Tags     // where each part of the name comes from
	Open      bool     // somebody without an account may ask
	Starts    *Moment
	Ends      *Moment
	Tags      Tags
}

// DefaultKeys are the keys that a profile takes that does not say.
var DefaultKeys = []string{"ed25519", "ecdsa-p256"}

// Takes lists the keys of which the profile signs one.
func (p *Profile) Takes() []string {
	if p.Keys == nil {
		return DefaultKeys
	}
	return p.Keys
}

// Address is that of the resource which the profile is.
func (p *Profile) Address() Address { return Address{System: p.Authority.ID, Path: p.ID} }

// IsAuthority says whether a system's kind is the authorities', or is based on it. The kinds must be indexed.
func (e *Estate) IsAuthority(s *System) bool {
	offer := e.Offer(s.Kind.ID)
	return offer != nil && offer.Is(AuthorityKind)
}

// profileEntries gives the profiles of a system as what it lists, by id.
func (e *Estate) profileEntries(s *System) (out []*Entry) {
	for _, p := range e.Profiles {
		if p.Authority.ID == s.ID {
			out = append(out, &Entry{Object: p.Object, Address: e.Canonical(p.Address()), Tags: p.Tags})
		}
	}
	slices.SortFunc(out, func(a, b *Entry) int { return a.Address.Compare(b.Address) })
	return out
}

// ProfileAt finds the profile that a resource is; nil where it is none.
func (e *Estate) ProfileAt(r *Resource) *Profile {
	if !e.IsAuthority(r.System) {
		return nil
	}
	if p := e.Profiles[r.Address.Path]; p != nil && p.Authority.ID == r.System.ID {
		return p
	}
	return nil
}

// Passwords are what passwords have to be like, and for how long they let in.
type Passwords struct {
	Length  int           // the least, in characters
	Longest time.Duration // until it has to be set anew
	First   time.Duration // the same of one that somebody else set
}

// DefaultPasswords are those of a workspace that does not say.
var DefaultPasswords = Passwords{Length: 16, Longest: 90 * 24 * time.Hour, First: 24 * time.Hour}
