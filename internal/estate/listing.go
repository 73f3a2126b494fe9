package estate

import (
	"iter"
	"slices"

	"hiddengate/internal/diagnostic"
)

// Listing is a part of an inventory of resources, as columns: most lines of one say no more than an address, a
// type, tags and an owner, and there can be millions. Its addresses are canonical, but for case.
type Listing struct {
	File string
	*Vocabulary
	text []byte
	rows []listed
}

// Vocabulary is what the numbers in listings mean; several can share one, which only grows.
type Vocabulary struct {
	Types  []string     // by number; the first is "", for none said
	Tags   []Tags       // likewise; the first is nil
	Owners []*Principal // likewise; the first two are NoneSaid and Cleared
}

// NewVocabulary makes one in which only the first numbers mean something.
func NewVocabulary() *Vocabulary {
	return &Vocabulary{Types: []string{""}, Tags: []Tags{nil}, Owners: []*Principal{nil, nil}}
}

// What the first numbers of a Listing's owners mean.
const (
	NoneSaid = 0
	Cleared  = 1
)

type listed struct {
	at          uint64 // where the address ends in text
	line        uint32
	tags, owner uint32
	typ         uint16
	system      uint16 // bytes of the system's id
}

// NewListing makes an empty part of a file's inventory, with room for so many bytes of it.
func NewListing(file string, v *Vocabulary, room int) *Listing {
	return &Listing{File: file, Vocabulary: v, text: make([]byte, 0, room/2), rows: make([]listed, 0, room/64)}
}

// Listed says of a resource in which line it stands and, by numbers in the listing's columns, what it is.
type Listed struct {
	Line              int
	Type, Tags, Owner uint32
}

// Add lists the resource at an address, whose system's id has so many bytes.
func (l *Listing) Add(address []byte, system int, r Listed) {
	l.text = append(l.text, address...)
	l.rows = append(l.rows, listed{uint64(len(l.text)), uint32(r.Line), r.Tags, r.Owner, uint16(r.Type), uint16(system)})
}

// Renumber tells the lines otherwise.
func (l *Listing) Renumber(line func(int) int) {
	for i := range l.rows {
		l.rows[i].line = uint32(line(int(l.rows[i].line)))
	}
}

// Addresses gives the addresses as they are written.
func (l *Listing) Addresses() iter.Seq[Address] {
	return func(yield func(Address) bool) {
		for i := range l.rows {
			text, n := l.address(i)
			if !yield(Address{System: string(text[:n]), Path: string(text[n+1:])}) {
				return
			}
		}
	}
}

// Len counts the resources listed.
func (l *Listing) Len() int { return len(l.rows) }

func (l *Listing) address(i int) (text []byte, system int) {
	start := uint64(0)
	if i > 0 {
		start = l.rows[i-1].at
	}
	return l.text[start:l.rows[i].at], int(l.rows[i].system)
}

func (l *Listing) position(i int) diagnostic.Position {
	return diagnostic.Position{File: l.File, Line: int(l.rows[i].line), Column: 1}
}

// CheckListings tells what is wrong with listed resources that no single line can know: systems, types and owners
// that there are not. The systems' kinds must be sound.
func (e *Estate) CheckListings(report func(at diagnostic.Position, what string, id string, system *System)) {
	known := map[*Vocabulary][]bool{} // of its owners
	for _, l := range e.Listings {
		owner := known[l.Vocabulary]
		for _, o := range l.Owners[len(owner):] {
			owner = append(owner, o == nil || e.known(*o))
		}
		known[l.Vocabulary] = owner
		var last *System
		var offer *Offer
		var types []bool
		for i := range l.rows {
			text, n := l.address(i)
			if last == nil || last.ID != string(text[:n]) {
				last, types = e.Systems[string(text[:n])], nil
				if last == nil {
					report(l.position(i), "system", string(text[:n]), nil)
					continue
				}
				offer = e.offers[last.Kind.ID]
				for _, t := range l.Types {
					types = append(types, t == "" || slices.Contains(offer.AllTypes, t))
				}
			}
			r := l.rows[i]
			if !types[r.typ] {
				report(l.position(i), "type", l.Types[r.typ], last)
			}
			if !owner[r.owner] {
				report(l.position(i), "owner", l.Owners[r.owner].String(), last)
			}
		}
	}
}

func (e *Estate) known(p Principal) bool {
	switch p.Kind {
	case IsPerson:
		return e.People[p.ID] != nil
	case IsService:
		return e.Services[p.ID] != nil
	case IsGroup:
		return e.Groups[p.ID] != nil
	}
	return true
}

// Twice is a resource that is listed twice.
type Twice struct {
	Address       Address
	First, Second diagnostic.Position
}
