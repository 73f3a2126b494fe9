package mariadb

import (
	"slices"

	"hiddengate/internal/target"
)

// acting is one way in which somebody acts: as their account, as one of its roles, or as everybody. Of the rows that
// MariaDB keeps for it about a schema, the one that tells most about where alone counts.
type acting struct {
	as []who // whose rows are taken together: a role with those that it is a member of
	// then are those whose rows count where the first have none: the user's at other hosts that may be theirs.
	then []who
}

// power is all that somebody can act as.
type power struct {
	ways []acting
	open bool // it is an account that is not locked
}

// powerOf gathers what somebody can act as, with what everybody has.
func (s *snapshot) powerOf(w who) *power {
	p := s.ownPowerOf(w)
	p.ways = append(p.ways, acting{as: s.closure(public)})
	return p
}

// ownPowerOf is powerOf without what everybody has.
func (s *snapshot) ownPowerOf(w who) *power {
	a := s.accounts[w]
	if a == nil { // it is a role
		return &power{ways: []acting{{as: s.closure(w)}}}
	}
	p := &power{ways: []acting{{as: []who{w}, then: s.alsoAs(w)}}, open: !a.locked}
	for _, role := range s.in[w] {
		p.ways = append(p.ways, acting{as: s.closure(who{user: role})})
	}
	return p
}

// closure lists somebody with the roles of which they are members, and those of which these are.
func (s *snapshot) closure(w who) []who {
	out := []who{w}
	for i := 0; i < len(out); i++ {
		for _, role := range s.in[out[i]] {
			if up := (who{user: role}); !slices.Contains(out, up) {
				out = append(out, up)
			}
		}
	}
	return out
}

// schemaOf gives the object of the schema that an object is or is in; -1 where there is none.
func (s *snapshot) schemaOf(object int) int {
	o := &s.objects[object]
	switch o.kind {
	case schema:
		return object
	case relation, routine:
		if n, known := s.at[told{kind: schema, name: o.schema}]; known {
			return n
		}
	}
	return -1
}

// counting gives whose rows about an object count, and about which: of an object's own, or of all that may be about a
// schema.
func (s *snapshot) counting(way acting, objects []int) (some []who, on int) {
	has := func(some []who, on int) bool {
		return slices.ContainsFunc(some, func(one who) bool { return s.rows[one][on] })
	}
	for _, on := range objects {
		if has(way.as, on) {
			return way.as, on
		}
	}
	for _, one := range way.then {
		for _, on := range objects {
			if has([]who{one}, on) {
				return []who{one}, on
			}
		}
	}
	return nil, 0
}

// has says whether somebody has a right on an object, and by whom and what; partly says that columns will do, or names
// of some sort.
func (s *snapshot) has(p *power, object int, right string, partly bool) (by who, on int, ok bool) {
	words := []string{right}
	if right == endsOthers {
		words = append(words, super)
	}
	if partly {
		words = append(words, right+columns)
	}
	in := s.schemaOf(object)
	for _, way := range p.ways {
		find := func(some []who, at int) bool {
			for _, one := range some {
				for _, word := range words {
					if s.acl[one][held{at, word}] {
						by, on, ok = one, at, true
						return true
					}
				}
			}
			return false
		}
		if find(way.as, 0) {
			return by, on, ok
		}
		if object == 0 && right == create {
			for _, at := range s.naming(partly) {
				if find(way.as, at) {
					return by, on, ok
				}
			}
		}
		if in >= 0 {
			if some, at := s.counting(way, append([]int{in}, s.patterns[in]...)); find(some, at) {
				return by, on, ok
			}
		}
		if object > 0 && object != in {
			if some, at := s.counting(way, []int{object}); find(some, at) {
				return by, on, ok
			}
		}
	}
	return who{}, 0, false
}

// naming lists the patterns by which schemas of some names can be made: all names, or partly at least some.
func (s *snapshot) naming(partly bool) (out []int) {
	for i := len(s.state.Places); i < len(s.objects); i++ {
		if o := &s.objects[i]; o.kind == pattern && (o.name == everyName || partly) {
			out = append(out, i)
		}
	}
	return out
}

// changing are the rights to write the tables in which MariaDB keeps who may do what: by them somebody can do
// everything, and be let in as anybody.
var changing = []string{"INSERT", "UPDATE", "DELETE"}

// rules says whether somebody can write those tables, and by what.
func (s *snapshot) rules(p *power) (by who, on int, right string, ok bool) {
	for _, way := range p.ways {
		find := func(some []who, at int) bool {
			for _, one := range some {
				for _, word := range changing {
					if s.acl[one][held{at, word}] {
						by, on, right, ok = one, at, word, true
						return true
					}
				}
			}
			return false
		}
		if some, at := s.counting(way, s.deciding); find(way.as, 0) || find(some, at) {
			return by, on, right, ok
		}
		for i := len(s.state.Places); i < len(s.objects); i++ {
			o := &s.objects[i]
			if o.system && o.kind == relation && (find(way.as, i) || find(way.then, i)) {
				return by, on, right, ok
			}
		}
	}
	return who{}, 0, "", false
}

// can says whether somebody has a native on a place; partly says that a part of it will do.
func (s *snapshot) can(p *power, native, place int, partly bool) bool {
	if native == signingIn {
		return p.open
	}
	if native == makingAccounts && partly {
		if _, _, _, ok := s.rules(p); ok {
			return true
		}
	}
	return !slices.ContainsFunc(rightsOf(native), func(right string) bool {
		_, _, ok := s.has(p, place, right, partly)
		return !ok
	})
}

// sort is what tells apart the places on which nobody concerned has a right of their own.
type sort struct {
	in  int
	typ string
}

// masks tells which natives somebody has on each place. It takes a look at each place, and more only where they have a
// right on it, and once for each schema and type.
func (s *snapshot) masks(p *power, partly bool) []target.Mask {
	out := make([]target.Mask, len(s.state.Places))
	known := map[sort]target.Mask{}
	for place, at := range s.state.Places {
		one := sort{s.schemaOf(place), at.Type}
		own := place == 0 || at.Type == "schema" || slices.ContainsFunc(p.ways, func(way acting) bool {
			on := func(one who) bool { return s.rows[one][place] }
			return slices.ContainsFunc(way.as, on) || slices.ContainsFunc(way.then, on)
		})
		mask, is := known[one]
		if own || !is {
			mask = 0
			for native := range natives {
				if slices.Contains(natives[native].Types, at.Type) && s.can(p, native, place, partly) {
					mask |= 1 << native
				}
			}
			if !own {
				known[one] = mask
			}
		}
		out[place] = mask
	}
	return out
}

// beyondAll are the rights by which somebody can do everything.
var beyondAll = []string{"SELECT", "INSERT", "UPDATE", "DELETE", create, drop, "ALTER", "INDEX", "EXECUTE", createView,
	"CREATE ROUTINE", "ALTER ROUTINE", grantOption, createUser, super}

// everything says whether somebody can do everything.
func (s *snapshot) everything(p *power) bool {
	return !slices.ContainsFunc(beyondAll, func(right string) bool {
		_, _, ok := s.has(p, 0, right, false)
		return !ok
	})
}
