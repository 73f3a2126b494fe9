package escalation

import (
	"slices"
	"strings"

	"hiddengate/internal/estate"
)

// Chain is how a subject gets to an operation on a resource: the steps, and as whom it then does it.
type Chain struct {
	Steps []Step
	As    estate.Principal
}

// Chain gives the shortest chain of steps that ends in an operation on a resource; false if there is none. One without
// steps says that it may be done as it is.
func (w *Ways) Chain(who estate.Principal, o *estate.Operation, r *estate.Resource) (Chain, bool, error) {
	s := search{Ways: w, failed: map[goal]bool{}}
	for most := 0; most <= mostSteps; most++ {
		if out, ok := s.reach(goal{who, o, r, most, false}); ok || s.err != nil {
			return out, ok && s.err == nil, s.err
		}
	}
	return Chain{}, false, nil
}

// search looks for chains of at most so many steps.
type search struct {
	*Ways
	failed map[goal]bool
	err    error
}

type goal struct {
	who       estate.Principal
	operation *estate.Operation
	resource  *estate.Resource
	most      int
	own       bool // as who it is, not as somebody else
}

func (s *search) reach(to goal) (out Chain, found bool) {
	if to.most < 0 || s.err != nil || s.failed[to] {
		return out, false
	}
	consider := func(c Chain, ok bool) {
		if ok && (!found || len(c.Steps) < len(out.Steps)) {
			out, found = c, true
		}
	}
	for cost := 0; cost <= to.most && cost < len(s.stages) && !found; cost++ {
		if cost > 0 && s.stages[cost] == s.stages[cost-1] {
			continue
		}
		for _, gr := range s.grants(cost, to) {
			consider(s.by(gr, to))
		}
	}
	for _, m := range s.of[to.who] {
		by := m.by[to.who]
		if by.cost > to.most || found && by.cost >= len(out.Steps) {
			continue
		}
		switch {
		case m.Kind == Tags && m.Where == to.resource.Address:
			r, err := s.asTagged(s.stages[0].Gate, to.who, to.operation.Name, tagged(to.resource, m.Set))
			if some, err := s.some(s.stages[0].Gate, r, err); err != nil {
				s.err = err
			} else if some {
				consider(s.step(m, to.who, to.most))
			}
		case to.own:
		case m.Kind == SignsIn && m.reaches(m.Who, to.resource):
			consider(s.as(m, m.Who, to))
		case m.Kind == Acts && to.resource.Address.Inside(m.Where):
			for _, other := range s.stages[0].Subjects() {
				if other != to.who && !(found && len(out.Steps) <= by.cost) {
					consider(s.as(m, other, to))
				}
			}
		}
	}
	if !found {
		s.failed[to] = true
	}
	return out, found
}

// as reaches something as somebody else.
func (s *search) as(m *move, other estate.Principal, to goal) (Chain, bool) {
	by := m.by[to.who]
	rest, ok := s.reach(goal{other, to.operation, to.resource, to.most - by.cost, false})
	if !ok {
		return rest, false
	}
	first, ok := s.step(m, to.who, by.cost)
	if !ok {
		return first, false
	}
	last := &first.Steps[len(first.Steps)-1]
	if m.Kind == Acts {
		last.Who = other
	}
	return Chain{slices.Concat(first.Steps, rest.Steps), rest.As}, true
}

// step reaches a step and takes it.
func (s *search) step(m *move, who estate.Principal, most int) (out Chain, ok bool) {
	by := m.by[who]
	if by.operation == nil {
		out, ok = s.among(who, by.among, most-1)
	} else {
		out, ok = s.reach(goal{who, by.operation, by.resource, most - 1, m.Kind == Rewrites})
	}
	if !ok {
		return out, false
	}
	last := m.Step
	last.Subject, last.As = who, out.As
	if by.operation != nil {
		last.Operation, last.Resource = by.operation.Name, by.resource.Address.String()
	}
	return Chain{append(slices.Clip(out.Steps), last), who}, true
}

// among reaches being among some subjects: by joining a group, where one is not already.
func (s *search) among(who estate.Principal, list estate.Subjects, most int) (out Chain, found bool) {
	if most < 0 {
		return out, false
	}
	if s.stages[0].Selects(list, who) {
		return Chain{As: who}, true
	}
	for _, m := range s.of[who] {
		if m.Kind != Joins || m.by[who].cost > most || !s.joined(who, m.Entry, list) {
			continue
		}
		if c, ok := s.step(m, who, most); ok && (!found || len(c.Steps) < len(out.Steps)) {
			out, found = c, true
		}
	}
	return out, found
}

// joined says whether somebody is among some subjects once it is in a group.
func (s *search) joined(who estate.Principal, group string, list estate.Subjects) bool {
	inside := map[string]bool{group: true} // the group and those that it stands in
	for grown := true; grown; {
		grown = false
		for id, g := range s.estate.Groups {
			if !inside[id] && slices.ContainsFunc(g.Members,
				func(t estate.SubjectTerm) bool { return !t.Not && t.Kind == estate.IsGroup && inside[t.ID] }) {
				inside[id], grown = true, true
			}
		}
	}
	is := false
	for _, t := range list {
		fits := t.Kind == estate.IsGroup && inside[t.ID] ||
			s.stages[0].Selects(estate.Subjects{{Principal: t.Principal}}, who)
		if fits && t.Not {
			return false
		}
		is = is || fits
	}
	return is
}

// grants lists the grants by which something may be done once all steps of a cost are taken.
func (s *search) grants(cost int, to goal) []*estate.Grant {
	g := s.stages[cost].Gate
	r, err := g.Possible(to.who, to.operation.Name, to.resource)
	if some, err := s.some(g, r, err); err != nil || !some {
		s.err = err
		return nil
	}
	return g.Giving(to.who, to.operation.Name, to.resource)
}

// by reaches what a grant gives.
func (s *search) by(gr *estate.Grant, to goal) (Chain, bool) {
	if key, is := strings.CutPrefix(gr.ID, stepPrefix); is {
		return s.step(s.moves[key], to.who, to.most)
	}
	return s.among(to.who, gr.To, to.most)
}
