package postgres

import (
	"slices"

	"hiddengate/internal/target"
)

// power is all that the roles of somebody come to: themselves, those of which they are members, and everybody.
type power struct {
	names     []string // "" among them, for everybody
	super     bool
	reads     bool // everything
	writes    bool
	login     bool
	makes     bool // roles
	ownership map[string]bool
}

// powerOf gathers what somebody can act as.
func (s *snapshot) powerOf(who string) *power {
	if who == "" {
		return &power{names: []string{""}}
	}
	p := s.ownPowerOf(who)
	p.names = append(p.names, "")
	return p
}

// ownPowerOf is powerOf without what everybody has.
func (s *snapshot) ownPowerOf(who string) *power {
	p := &power{ownership: map[string]bool{}}
	for name := range s.ways(who) {
		p.names = append(p.names, name)
		p.ownership[name] = true
		r := s.roles[name]
		p.super = p.super || r != nil && r.super
		p.makes = p.makes || r != nil && r.makesRoles && s.assigns(name)
		p.reads, p.writes = p.reads || name == readsAll, p.writes || name == writesAll
	}
	if r := s.roles[who]; r != nil {
		p.login = r.login
	}
	return p
}

// granted says whether somebody has a right by an access list.
func (s *snapshot) granted(p *power, h held) bool {
	return slices.ContainsFunc(p.names, func(name string) bool {
		_, ok := s.acl[name][h]
		return ok
	})
}

// holds says whether somebody has a native right on an object, whether they may use its schema or not.
func (s *snapshot) holds(p *power, native, object int) bool {
	o := &s.objects[object]
	switch {
	case native == connecting && !p.login:
		return false
	case p.super:
		return true
	case native == makingRoles:
		return p.makes
	case memberOf[native] != "":
		return p.ownership[memberOf[native]]
	}
	if owning&(1<<native) != 0 {
		return p.ownership[o.owner]
	}
	return p.ownership[o.owner] || p.reads && native == selecting || p.writes && writes(native) ||
		s.granted(p, held{object, natives[native].Name})
}

// can says whether somebody can use a native right on an object.
func (s *snapshot) can(p *power, native, object int) bool {
	if !s.holds(p, native, object) {
		return false
	}
	uses := func(n int) bool {
		return p.super || p.reads || p.writes || p.ownership[s.objects[n].owner] || s.granted(p, held{n, "USAGE"})
	}
	o := &s.objects[object]
	if n, ok := s.schemas[o.schema]; ok && o.schema != "" {
		return uses(n)
	}
	return o.kind != schema || uses(object)
}

// masks tells on each place which natives fit.
func (s *snapshot) masks(fits func(native, place int) bool) []target.Mask {
	out := make([]target.Mask, len(s.state.Places))
	for place, at := range s.state.Places {
		for native := range natives {
			if slices.Contains(natives[native].Types, at.Type) && fits(native, place) {
				out[place] |= 1 << native
			}
		}
	}
	return out
}

// usable tells what somebody can use on each place.
func (s *snapshot) usable(p *power) []target.Mask {
	return s.masks(func(native, place int) bool { return s.can(p, native, place) })
}
