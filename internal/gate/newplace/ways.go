package newplace

import (
	"encoding/binary"
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/placemap"
)

// ways is all by which type, tags and owner of what may come at an address are told apart.
type ways struct {
	asked []int     // what is asked of them, each once
	types []string  // that it may have, each once
	kinds []string  // of its system, in either estate
	kind  [2]string // and in each; "" where there is no such system
}

// askedBy numbers what a term asks beside the address and the system's kind; -1 where that is nothing.
func (s *sketch) askedBy(t estate.ResourceTerm, known map[string]int) int {
	if t.Types == nil && t.Tags == nil && t.Owners == nil {
		return -1
	}
	one := estate.ResourceTerm{Types: t.Types, Tags: t.Tags, Owners: t.Owners}
	n, ok := known[one.String()]
	if !ok {
		n = len(s.asked)
		known[one.String()] = n
		s.asked = append(s.asked, one)
	}
	return n
}

// waysOf makes up a specimen for each way, the address left open.
func (s *sketch) waysOf(w *ways) []Specimen {
	key := binary.AppendUvarint(nil, uint64(len(w.asked)))
	for _, n := range w.asked {
		key = binary.AppendUvarint(key, uint64(n))
	}
	for _, list := range [][]string{w.types, w.kinds, w.kind[:]} {
		key = append(key, 0xff)
		for _, text := range list {
			key = append(append(key, text...), 0)
		}
	}
	known, ok := s.ways[string(key)]
	if ok {
		return known
	}
	tags, owners := map[string][]string{}, []*estate.Principal{nil}
	for i := range s.owners {
		owners = append(owners, &s.owners[i])
	}
	for _, n := range w.asked {
		t := &s.asked[n]
		for _, m := range t.Tags {
			tags[m.Key] = append(tags[m.Key], m.Values...)
		}
		for i := range t.Owners {
			owners = append(owners, &t.Owners[i])
		}
	}
	for key := range s.facts.Same {
		tags[key] = append(tags[key], s.resource[key]...)
	}
	for key := range s.facts.Resource {
		tags[key] = append(tags[key], s.resource[key]...)
	}
	keys := slices.Sorted(maps.Keys(tags))
	var out []Specimen
	seen := map[string]bool{}
	tried := 0
	for _, typ := range w.types {
		for _, owner := range uniqueOwners(owners) {
			s.eachTags(keys, tags, func(one Specimen) bool {
				if tried++; tried > maxForms || s.crossed < 0 {
					s.tooMuch()
				}
				if s.full || len(out) > s.most+maxIdle {
					return false
				}
				s.crossed -= len(w.asked) + 1
				one.Type, one.Owner = typ, owner
				if key := s.signature(&one, w); !seen[string(key)] {
					seen[string(key)] = true
					out = append(out, one)
				}
				return true
			})
		}
	}
	if s.full {
		return out
	}
	s.ways[string(key)] = out
	return out
}

// eachTags gives every way in which some tags can have one of some values, another one, or none.
func (s *sketch) eachTags(keys []string, values map[string][]string, each func(Specimen) bool) bool {
	if len(keys) == 0 {
		return each(Specimen{})
	}
	key := keys[0]
	return s.eachTags(keys[1:], values, func(rest Specimen) bool {
		if !each(rest) {
			return false
		}
		for _, v := range unique(values[key]) {
			if v == "" {
				continue
			}
			with := rest
			with.Tags = append(slices.Clone(rest.Tags), estate.Tag{Key: key, Value: v})
			slices.SortFunc(with.Tags, func(a, b estate.Tag) int { return strings.Compare(a.Key, b.Key) })
			if !each(with) {
				return false
			}
		}
		if !s.facts.Same[key] && !s.facts.Resource[key] {
			return true // another value is as good as none
		}
		with := rest
		with.Others = maps.Clone(rest.Others)
		if with.Others == nil {
			with.Others = map[string][]string{}
		}
		with.Others[key] = append([]string{""}, values[key]...)
		return each(with)
	})
}

// signature is the same for specimens at one address that nothing tells apart. It stands until the next.
func (s *sketch) signature(one *Specimen, w *ways) []byte {
	b := s.buffer[:0]
	s.asking = estate.Resource{Type: one.Type, Tags: one.allTags(), Owner: one.Owner}
	for _, n := range w.asked {
		if placemap.CoversTerm(s.estates[1], &s.asked[n], &s.asking) {
			b = append(b, '1')
		} else {
			b = append(b, '0')
		}
	}
	for k := range s.estates {
		b = binary.LittleEndian.AppendUint32(b, s.handedOn(offered{k, w.kind[k], one.Type}))
	}
	s.buffer = append(b, one.Facts(s.facts)...)
	return s.buffer
}

// offered is a type in systems of a kind, in one of the estates.
type offered struct {
	estate    int
	kind, typ string
}

// handedOn numbers the operations on a type that some role may have; 0 where there is no such kind.
func (s *sketch) handedOn(what offered) uint32 {
	if what.kind == "" {
		return 0
	}
	n, ok := s.handedBy[what]
	if !ok {
		var names []string
		for _, o := range s.estates[what.estate].Offer(what.kind).On(what.typ) {
			if s.handed(o) {
				names = append(names, o.Name)
			}
		}
		all := strings.Join(names, " ")
		if n, ok = s.sets[all]; !ok {
			n = uint32(len(s.sets)) + 1
			s.sets[all] = n
		}
		s.handedBy[what] = n
	}
	return n
}

// handed says whether some role of either estate may have an operation: nobody gets any other.
func (s *sketch) handed(o *estate.Operation) bool {
	is, ok := s.given[o.Name]
	if !ok {
		for _, e := range s.estates {
			for _, r := range e.Roles {
				is = is || slices.ContainsFunc(r.Allow, func(t estate.OperationTerm) bool { return !t.Not && t.Fits(o, e.Edition) })
			}
		}
		s.given[o.Name] = is
	}
	return is
}
