package evaluation

import (
	"bytes"
	"net/netip"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/lookup"
	"hiddengate/internal/plainjson"
)

// plainAnswers are the lines that answer plain requests, by outcome.
var plainAnswers = map[gate.Outcome]string{
	gate.Allow:   `{"decision":true,"context":{"outcome":"allow"}}` + "\n",
	gate.Deny:    `{"decision":false,"context":{"outcome":"deny"}}` + "\n",
	gate.Depends: `{"decision":false,"context":{"outcome":"depends"}}` + "\n",
}

// plain answers a request whose JSON is plain, as nearly all are, without keeping any of it; ok is false where it is
// not, or where anything is wrong with it, and then the ordinary reader takes it.
func (b *Batch) plain(line []byte, err error) (outcome gate.Outcome, ok bool) {
	if b.Why || err != nil {
		return gate.Deny, false
	}
	b.context.Reset()
	if !b.Open {
		b.context.Time(b.Now)
	}
	var r plainRequest
	if !r.read(b, line) {
		return gate.Deny, false
	}
	req := gate.Request{Operation: lookup.Text(r.operation), Resource: lookup.Text(r.resource), Context: b.context}
	req.Subject.ID = lookup.Text(r.id)
	switch lookup.Text(r.kind) {
	case "person":
	case "service":
		req.Subject.Kind = estate.IsService
	case "anonymous":
		req.Subject = estate.Principal{Kind: estate.IsAnonymous}
	default:
		return gate.Deny, false
	}
	outcome, err = b.gate.Decide(req)
	return outcome, err == nil
}

// plainRequest is the parts of a request, as they stand in its line.
type plainRequest struct {
	kind, id, operation, resource []byte
	seen                          [4]bool
	said                          [8][]byte // the keys of the context
	keys                          int
}

// first notes a key of the context; it is false where the ordinary reader should look: at a key that occurs twice, or
// is like another but for its capitals, or where there are many.
func (r *plainRequest) first(key []byte) bool {
	for _, name := range contextKeys {
		if lookup.Text(key) != name && strings.EqualFold(lookup.Text(key), name) {
			return false
		}
	}
	if r.keys == len(r.said) || slices.ContainsFunc(r.said[:r.keys],
		func(k []byte) bool { return bytes.EqualFold(k, key) }) {
		return false
	}
	r.said[r.keys] = key
	r.keys++
	return true
}

func (r *plainRequest) read(b *Batch, line []byte) bool {
	member := func(to *[]byte, i int) int {
		end := plainjson.Text(line, i)
		if end < 0 || *to != nil {
			return -1
		}
		*to = plainjson.Inner(line[i:end])
		return end
	}
	end := plainjson.Object(line, plainjson.Blank(line, 0), func(key []byte, i int) int {
		n := slices.Index([]string{"subject", "action", "resource", "context"}, lookup.Text(key))
		if n < 0 || r.seen[n] {
			return -1
		}
		r.seen[n] = true
		var typ []byte
		return plainjson.Object(line, i, func(key []byte, i int) int {
			name := lookup.Text(key)
			switch {
			case n == 0 && name == "type":
				return member(&r.kind, i)
			case n == 0 && name == "id":
				return member(&r.id, i)
			case n == 1 && name == "name":
				return member(&r.operation, i)
			case n == 2 && name == "id":
				return member(&r.resource, i)
			case n == 2 && name == "type":
				return member(&typ, i)
			case n == 3:
				if !r.first(key) {
					return -1
				}
				return b.sayPlain(name, line, i)
			}
			return -1
		})
	})
	return end >= 0 && plainjson.Blank(line, end) == len(line)
}

// sayPlain puts one thing of a request's context into ours, and gives the end of its value; -1 if the ordinary reader
// should look at it.
func (b *Batch) sayPlain(name string, line []byte, i int) int {
	end := plainjson.Text(line, i)
	if end < 0 {
		if end = plainjson.Word(line, i); end < 0 || line[i] == 'n' {
			return -1
		}
		yes := line[i] == 't'
		switch fact := estate.FactNamed(name); {
		case fact != nil && (fact.Kind == estate.YesNo || fact.Kind == estate.Carried):
			b.context.Flag(fact, yes)
		case fact != nil || name == "time" || name == "roles":
			return -1
		default:
			b.context.Attribute(name, lookup.Text(line[i:end]))
		}
		return end
	}
	value := lookup.Text(plainjson.Inner(line[i:end]))
	if fact := estate.FactNamed(name); fact != nil {
		if !b.sayPlainFact(fact, value) {
			return -1
		}
		return end
	}
	switch name {
	case "time":
		at, err := b.gate.Estate().Zone.ParseTime(value)
		if err != nil {
			return -1
		}
		b.context.Time(at)
	case "roles":
		return -1
	default:
		b.context.Attribute(name, value)
	}
	return end
}

// sayPlainFact says what a text says of a fact, without keeping the text; it is false if the ordinary reader should
// look at it.
func (b *Batch) sayPlainFact(fact *estate.Fact, value string) bool {
	switch fact.Kind {
	case estate.Carried:
		b.context.Flag(fact, value != "")
	case estate.Choice, estate.Ago:
		k := slices.Index(fact.Words, value)
		if k < 0 {
			return false
		}
		b.context.Say(fact, fact.Words[k])
	case estate.FromNetwork:
		from, err := netip.ParseAddr(value)
		if err != nil || from.Zone() != "" {
			return false
		}
		b.context.Network(from)
	default:
		return false
	}
	return true
}
