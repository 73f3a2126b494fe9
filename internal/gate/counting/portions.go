package counting

import (
	"cmp"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/gate/unitrow"
)

// Portions are some subjects and some listed resources, put together where no rule tells them apart, so that one may
// be asked about for all: in one gate, or in each of two gates of the same resources.
type Portions struct {
	Classes    []SubjectClass
	asked      []*portionGate
	operations func(*estate.Operation) bool
	piles      [][]int
	whole      []Portion                       // the piles, by their first rows
	owned      map[estate.Principal][]ownedRow // by owner, where a condition asks who owns
	groups     []estate.Principal              // the owners that are groups
}

// SubjectClass is subjects who are alike, by their places among those asked about, in order.
type SubjectClass struct {
	Subjects []int
	who      estate.Principal   // the first
	owns     []estate.Principal // as whom they own some of the resources
}

// Portion is resources on which the answers for subjects who are alike are the same, by their rows, in order.
type Portion struct{ Rows []int }

type ownedRow struct{ pile, row int }

// NewPortions puts subjects and the resources of some rows, in order, together for requests of a context of each gate
// about some operations; nil for all.
func NewPortions(gates []*gate.Gate, contexts []*gate.Context, operations func(*estate.Operation) bool,
	who []estate.Principal, rows []int) *Portions {
	p := &Portions{operations: operations}
	for k, g := range gates {
		p.asked = append(p.asked, newPortionGate(g, contexts[k]))
	}
	p.pileUp(rows)
	p.class(who)
	return p
}

// pileUp puts resources together.
func (p *Portions) pileUp(rows []int) {
	type look struct {
		at    placemap.Spot
		facts uint32
	}
	tree := p.asked[0].Estate().Tree
	asksOwner := false
	for _, g := range p.asked {
		asksOwner = asksOwner || g.Facts.Owner
	}
	if asksOwner {
		p.owned = map[estate.Principal][]ownedRow{}
	}
	known := map[[2]look]int{}
	for _, row := range rows {
		var key [2]look
		for k, g := range p.asked {
			key[k] = look{g.Places.Spots[row], g.factsOf(row)}
		}
		n, ok := known[key]
		if !ok {
			n = len(p.piles)
			known[key] = n
			p.piles = append(p.piles, nil)
		}
		p.piles[n] = append(p.piles[n], row)
		if owner := tree.Owners[tree.Rows[row].Owner]; asksOwner && owner != nil {
			if p.owned[*owner] == nil && owner.Kind == estate.IsGroup {
				p.groups = append(p.groups, *owner)
			}
			p.owned[*owner] = append(p.owned[*owner], ownedRow{n, row})
		}
	}
	for _, pile := range p.piles {
		p.whole = append(p.whole, Portion{pile})
	}
	byFirst(p.whole)
	for _, g := range p.asked {
		g.look(p.whole)
	}
}

func byFirst(list []Portion) {
	slices.SortFunc(list, func(a, b Portion) int { return cmp.Compare(a.Rows[0], b.Rows[0]) })
}

// class puts subjects together. Whoever owns some of the resources is alone, as is whoever has several sessions or
// something lent.
func (p *Portions) class(who []estate.Principal) {
	type look struct {
		holder unitrow.Holder
		tags   uint32
	}
	type looks struct {
		of    [2]look
		alone int
	}
	known := map[looks]int{}
	for i, subject := range who {
		var key looks
		owns := p.ownersOf(subject)
		apart := len(owns) > 0
		for k, g := range p.asked {
			n := g.NumberOf(subject)
			if n < 0 || g.several(n) {
				apart = true
				continue
			}
			key.of[k] = look{g.Rows.RowOf[n], g.factsAbout(n)}
		}
		if apart {
			key.alone = i + 1
		}
		c, ok := known[key]
		if !ok {
			c = len(p.Classes)
			known[key] = c
			p.Classes = append(p.Classes, SubjectClass{who: subject, owns: owns})
		}
		p.Classes[c].Subjects = append(p.Classes[c].Subjects, i)
	}
}

// ownersOf gives as whom a subject owns some of the resources, in any of the gates.
func (p *Portions) ownersOf(subject estate.Principal) (out []estate.Principal) {
	if p.owned[subject] != nil {
		out = append(out, subject)
	}
	for _, group := range p.groups {
		if slices.ContainsFunc(p.asked, func(g *portionGate) bool {
			n := g.NumberOf(subject)
			return n >= 0 && g.Owns(n, &group)
		}) {
			out = append(out, group)
		}
	}
	return out
}

// Of gives the portions of the resources for those who are alike, by their first rows: within each nothing tells two
// resources apart for them.
func (p *Portions) Of(c *SubjectClass) (out []Portion) {
	if len(c.owns) == 0 {
		return p.whole
	}
	owned := map[int][][]int{} // of piles, the rows that they own as the same owner
	for _, owner := range c.owns {
		of := map[int][]int{}
		for _, o := range p.owned[owner] {
			of[o.pile] = append(of[o.pile], o.row)
		}
		for pile, part := range of {
			owned[pile] = append(owned[pile], part)
		}
	}
	for n, pile := range p.piles {
		var own []int
		for _, part := range owned[n] {
			out, own = append(out, Portion{part}), append(own, part...)
		}
		if own != nil {
			slices.Sort(own)
			pile = slices.DeleteFunc(slices.Clone(pile), func(row int) bool {
				_, found := slices.BinarySearch(own, row)
				return found
			})
		}
		if len(pile) > 0 {
			out = append(out, Portion{pile})
		}
	}
	byFirst(out)
	return out
}

// Ask asks one of the gates about each portion, for one of those who are alike. It gives what is told of each, by
// number; where that is the same it is the same list. It stands until the next question.
func (p *Portions) Ask(k int, c *SubjectClass, portions []Portion) ([]*Told, error) {
	g := p.asked[k]
	n := g.NumberOf(c.who)
	if n < 0 {
		return nil, g.Subject(c.who)
	}
	if g.several(n) {
		return p.askEach(g, c, portions)
	}
	s := subjectAsked{n: n, holder: &g.Rows.RowOf[n], facts: g.factsAbout(n)}
	if len(c.owns) == 0 {
		return g.answers(&s, p)
	}
	var out []*Told
	for _, portion := range portions {
		row := portion.Rows[0]
		told, err := g.answer(&s, row, g.bring(&s, row), p.operations)
		if err != nil {
			return nil, err
		}
		out = append(out, told)
	}
	return out, nil
}

// askEach asks about somebody for whom rows do not tell all.
func (p *Portions) askEach(g *portionGate, c *SubjectClass, portions []Portion) ([]*Told, error) {
	number := map[*estate.Resource]int{}
	var asked []*estate.Resource
	out := make([]*Told, len(portions))
	for i, portion := range portions {
		r := g.Estate().Tree.At(portion.Rows[0])
		number[r] = i
		asked, out[i] = append(asked, r), &Told{}
	}
	sought := gate.Sought{Context: g.context, Resources: slices.Values(asked), Operations: p.operations}
	err := g.Answers(c.who, sought, func(a gate.Answer) bool {
		told := out[number[a.Resource]]
		told.Operations, told.Outcomes = append(told.Operations, a.Operation), append(told.Outcomes, a.Outcome)
		return true
	})
	return out, err
}
