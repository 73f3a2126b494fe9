package postgres

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/target"
)

// owns says whether somebody may do anything with an object.
func (s *snapshot) owns(p *power, object int) bool {
	o := &s.objects[object]
	return p.super || p.ownership[o.owner] && o.kind == relation && s.can(p, selecting, object)
}

// Found tells who may do what as the database stands, without hgate's own roles.
func (s *snapshot) Found() *target.Found {
	out := &target.Found{Rights: map[string][]target.Right{}, All: map[string][]int{}}
	bare := *s
	bare.in = map[string][]string{}
	for who, ups := range s.in {
		for _, up := range ups {
			if !s.isHgates(up) && !s.isHgates(who) {
				bare.in[who] = append(bare.in[who], up)
			}
		}
	}
	var names []string
	for name, r := range s.roles {
		out.Told = out.Told || s.isHgates(name)
		if !r.system && !s.isHgates(name) && name != s.self {
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
	everybody := bare.usable(bare.powerOf(""))
	ofGroup := map[string][]target.Mask{}
	for name := range members {
		ofGroup[name] = bare.usable(bare.powerOf(name))
	}
	bare.take(out, target.Everybody, everybody, nil)
	for _, name := range names {
		p := bare.powerOf(name)
		had := slices.Clone(everybody)
		for _, up := range bare.in[name] {
			for place, m := range ofGroup[up] {
				had[place] |= m
			}
		}
		bare.take(out, name, bare.usable(p), had)
		bare.takeAll(out, name, p, func(up string) bool { return members[up] != nil })
		bare.leftOf(out, name)
	}
	for i := range s.objects {
		if o := &s.objects[i]; o.guarded {
			out.Left = append(out.Left, "row policies tell who gets at which rows of "+o.text())
		}
	}
	slices.Sort(out.Left)
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
}
