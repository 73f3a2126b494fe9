package postgres

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/target"
)

// power is all that the roles of somebody come to: themselves, those of which they are members, and everybody.
type power struct {
	names     []string // "" among them, for everybody
	super     bool
	reads     bool // everything
	writes    bool
	login     bool
	ownership map[string]bool
}

// powerOf gathers what somebody can act as.
func (s *snapshot) powerOf(who string) *power {
	p := &power{names: []string{""}, ownership: map[string]bool{}}
	if who == "" {
		return p
	}
	for name := range s.ways(who) {
		p.names = append(p.names, name)
		p.ownership[name] = true
		r := s.roles[name]
		p.super = p.super || r != nil && r.super
		p.reads, p.writes = p.reads || name == readsAll, p.writes || name == writesAll
	}
	if r := s.roles[who]; r != nil {
		p.login = r.login
	}
	return p
}

// listed says whether somebody has a right by an access list.
func (s *snapshot) listed(p *power, h held) bool {
	return slices.ContainsFunc(p.names, func(name string) bool {
		_, ok := s.acl[name][h]
		return ok
	})
}

// can says whether somebody can use a native right on an object.
func (s *snapshot) can(p *power, native, object int) bool {
	o := &s.objects[object]
	switch {
	case native == connecting && !p.login:
		return false
	case p.super:
		return true
	case memberOf[native] != "":
		return p.ownership[memberOf[native]]
	}
	uses := func(n int) bool {
		return p.reads || p.writes || p.ownership[s.objects[n].owner] || s.listed(p, held{n, "USAGE"})
	}
	if n, ok := s.schemas[o.schema]; ok && o.schema != "" && !uses(n) {
		return false
	}
	if o.kind == schema && !uses(object) {
		return false
	}
	return p.ownership[o.owner] || p.reads && native == selecting || p.writes && writes(native) ||
		s.listed(p, held{object, natives[native].Name})
}

// owns says whether somebody may do anything with an object.
func (s *snapshot) owns(p *power, object int) bool {
	o := &s.objects[object]
	return p.super || p.ownership[o.owner] && o.kind == relation && s.can(p, selecting, object)
}

// masks tells what somebody can use on each place.
func (s *snapshot) masks(p *power) []target.Mask {
	out := make([]target.Mask, len(s.state.Places))
	for place, at := range s.state.Places {
		for native := range natives {
			if slices.Contains(natives[native].Types, at.Type) && s.can(p, native, place) {
				out[place] |= 1 << native
			}
		}
	}
	return out
}

// Found tells who may do what as the database stands, without hgate's own roles.
func (s *snapshot) Found() *target.Found {
	out := &target.Found{Rights: map[string][]target.Right{}, All: map[string][]int{}}
	bare := *s
	bare.in = map[string][]string{}
	hgates := func(name string) bool {
		r := s.roles[name]
		return r != nil && strings.HasPrefix(r.comment, grantMark(s.system))
	}
	for who, ups := range s.in {
		for _, up := range ups {
			if !hgates(up) && !hgates(who) {
				bare.in[who] = append(bare.in[who], up)
			}
		}
	}
	var names []string
	for name, r := range s.roles {
		out.Told = out.Told || hgates(name)
		if !r.system && !hgates(name) && name != s.self {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	isGroup := func(name string) bool {
		r := s.roles[name]
		return r != nil && !r.system && !r.login && name != s.self
	}
	members := map[string]*target.FoundGroup{}
	for _, name := range names {
		if isGroup(name) {
			members[name] = &target.FoundGroup{Name: name}
		}
	}
	for _, name := range names {
		for _, up := range bare.in[name] {
			g := members[up]
			switch {
			case g == nil:
			case isGroup(name):
				g.Groups = append(g.Groups, name)
			default:
				g.Accounts = append(g.Accounts, name)
			}
		}
	}
	everybody := bare.masks(bare.powerOf(""))
	bare.take(out, target.Everybody, everybody, nil)
	for _, name := range names {
		p := bare.powerOf(name)
		had := slices.Clone(everybody)
		for _, up := range bare.in[name] {
			if members[up] != nil {
				for place, m := range bare.masks(bare.powerOf(up)) {
					had[place] |= m
				}
			}
		}
		bare.take(out, name, bare.masks(p), had)
		bare.takeAll(out, name, p, func(up string) bool { return members[up] != nil })
		bare.leftOf(out, name)
	}
	for _, name := range names {
		if g := members[name]; g != nil {
			out.Groups = append(out.Groups, *g)
		}
	}
	return out
}

// take adds what somebody has beyond what they have anyway.
func (s *snapshot) take(out *target.Found, name string, has, had []target.Mask) {
	for place, m := range has {
		if had != nil {
			m &^= had[place]
		}
		for native := 0; m != 0; native, m = native+1, m>>1 {
			if m&1 != 0 {
				out.Rights[name] = append(out.Rights[name], target.Right{Native: native, Place: place})
			}
		}
	}
}

// takeAll adds the places with which somebody may do anything, unless a group of theirs says so.
func (s *snapshot) takeAll(out *target.Found, name string, p *power, group func(string) bool) {
	var ups []*power
	for _, up := range s.in[name] {
		if group(up) {
			ups = append(ups, s.powerOf(up))
		}
	}
	for place := range s.state.Places {
		if s.owns(p, place) && !slices.ContainsFunc(ups, func(up *power) bool { return s.owns(up, place) }) {
			out.All[name] = append(out.All[name], place)
		}
	}
}

// leftOf tells what somebody has that no operation stands for.
func (s *snapshot) leftOf(out *target.Found, name string) {
	for h := range s.acl[name] {
		o := &s.objects[h.object]
		if priv, partly := strings.CutSuffix(h.priv, columns); partly {
			out.Left = append(out.Left, fmt.Sprintf("%s has %s on some columns of %s alone", name, priv, o.text()))
		}
	}
	if r := s.roles[name]; r.makesRoles && !r.super {
		out.Left = append(out.Left, name+" may make and change accounts (CREATEROLE)")
	}
	slices.Sort(out.Left)
}
