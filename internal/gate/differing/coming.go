package differing

import (
	"maps"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/gate/newplace"
	"hiddengate/internal/region"
)

// describedFacts is the first number of the facts of resources that are described, which no listed resource has.
const describedFacts = 1 << 31

// addComing adds a pile for each specimen for what may come.
func (p *Pair) addComing(coming []newplace.Specimen, byTags [2][]uint32) {
	facts := map[string]uint32{}
	p.tested, p.made = map[estate.Principal]bool{}, map[*newplace.Specimen]int{}
	for i := range coming {
		p.made[&coming[i]] = i
		if o := coming[i].Owner; o != nil {
			p.tested[*o] = true
		}
	}
	for i := range coming {
		if coming[i].Idle {
			p.idle = append(p.idle, &coming[i])
			continue
		}
		pile := &Pile{pair: p, text: coming[i].Address.String(), places: []place{{[2]int32{-1, -1}}}, may: &coming[i]}
		for k, s := range p.sides {
			if k == 1 && p.Old.Places == p.New.Places {
				pile.looks[1] = pile.looks[0]
				break
			}
			if r := coming[i].In(s.Estate()); r != nil {
				pile.looks[k] = look{at: s.Places.Described(r, s.Classes), there: true}
				if coming[i].Inherit {
					pile.looks[k].facts = byTags[k][s.Estate().Tree.Rows[pile.row(k, 0)].Tags]
				}
			}
		}
		if p.asksOfResources() && !coming[i].Inherit {
			key := coming[i].Facts(&p.New.Facts)
			if _, ok := facts[key]; !ok {
				facts[key] = uint32(len(facts))
			}
			for k := range pile.looks {
				pile.looks[k].facts = describedFacts + facts[key]
			}
		}
		if pile.looks[0].there || pile.looks[1].there {
			p.piles = append(p.piles, pile)
		}
	}
}

// maxUnsettled bounds how many are looked at.
const maxUnsettled = 64

// unsettled gathers it.
func (p *Pair) unsettled() newplace.Unsettled {
	u := newplace.Unsettled{Values: map[string][]string{}}
	if p.Old.Roster == p.New.Roster {
		return u
	}
	if p.owners {
		for id := range p.owningGroups() {
			if !slices.Equal(p.Old.Group(id), p.New.Group(id)) {
				u.Owners = append(u.Owners, estate.Principal{Kind: estate.IsGroup, ID: id})
			}
		}
		slices.SortFunc(u.Owners, estate.Principal.Compare)
	}
	for _, key := range p.New.Facts.Sames {
		values := map[string]bool{}
		for _, w := range p.everyone() {
			if w.numbers[0] < 0 || w.numbers[1] < 0 {
				continue
			}
			if was, is := p.Old.All[w.numbers[0]].Tags.Get(key.Key), p.New.All[w.numbers[1]].Tags.Get(key.Key); was != is {
				values[was], values[is] = true, true
			}
		}
		u.Values[key.Key] = slices.Sorted(maps.Keys(values))
	}
	u.Many = len(u.Owners) > maxUnsettled
	u.Owners = u.Owners[:min(len(u.Owners), maxUnsettled)]
	for key, values := range u.Values {
		u.Many = u.Many || len(values) > maxUnsettled
		u.Values[key] = values[:min(len(values), maxUnsettled)]
	}
	return u
}

// owningGroups gives the ids of the groups that own some resource in either estate.
func (p *Pair) owningGroups() map[string]bool {
	out := map[string]bool{}
	for _, s := range p.sides {
		for _, o := range s.Estate().Tree.Owners {
			if o != nil && o.Kind == estate.IsGroup {
				out[o.ID] = true
			}
		}
	}
	return out
}

// asksOfResources says that some condition asks about what a resource says of itself.
func (p *Pair) asksOfResources() bool { return p.owners || p.New.Facts.Fixed > 1 }

// fixFor says in a context what is so of a subject and of the resources of a pile. Of what may come that is said
// which is described; the rest stays open.
func (d *differ) fixFor(c *region.Context, a about) {
	one, s, n, owns := a.pile.may, d.sides[a.side], a.subject, a.owns
	if one == nil || one.Inherit {
		tree := s.Estate().Tree
		s.FixOwning(c, n, tree.Tags[tree.Rows[a.pile.row(a.side, 0)].Tags], owns)
		return
	}
	if one.Owner != nil || owns || !d.ownsUntested(s, n) {
		c.FlagAt(factspace.OwnerDim, owns)
	}
	own := s.All[n].Tags
	for _, key := range s.Facts.Sames {
		switch v := own.Get(key.Key); {
		case v == "" || one.Others[key.Key] == nil:
			c.FlagAt(key.Dim, v != "" && v == one.Tags.Get(key.Key))
		case slices.Contains(one.Others[key.Key], v):
			c.FlagAt(key.Dim, false)
		}
	}
	for _, key := range s.Facts.Subjects {
		c.TextAt(key.Dim, own.Get(key.Key))
	}
	for _, key := range s.Facts.Resources {
		if one.Others[key.Key] != nil {
			c.TextAt(key.Dim, "\x00") // which no condition names
		} else {
			c.TextAt(key.Dim, one.Tags.Get(key.Key))
		}
	}
}

// ownsUntested says whether a subject can own something as somebody whom no list names.
func (d *differ) ownsUntested(s *side, n int) bool {
	if !d.tested[s.SubjectOf(n)] {
		return true
	}
	for id := range s.Estate().Groups {
		if !d.tested[estate.Principal{Kind: estate.IsGroup, ID: id}] && membership.Has(s.Lists.Group(id), n) {
			return true
		}
	}
	return false
}
