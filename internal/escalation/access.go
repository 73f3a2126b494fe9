package escalation

import (
	"context"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/counting"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/region"
)

// Places are lists by which cells have to tell resources apart for Each.
func (w *Ways) Places() (out []estate.Resources) {
	for _, m := range w.order {
		if m.impersonates() || m.Kind == Tags {
			out = append(out, estate.Resources{{In: pattern(m.Where), Exactly: m.Kind == Tags}})
		}
	}
	return out
}

// Each goes through all that may be done from the instant on, once all steps are taken. The cells are of Estate, and
// were made with Places. Somebody may come more than once, and so may what may be done. It stops when each returns
// false.
func (w *Ways) Each(ctx context.Context, c *differing.Cells, each func(differing.Access) bool) error {
	goOn := true
	c.Among(nil, differing.Whole)
	tell := func(a differing.Access) bool {
		if goOn = goOn && each(a); !goOn {
			return false
		}
		for pile := range a.Piles.All() {
			address, err := estate.ParseAddress(pile.First())
			if err != nil {
				continue
			}
			for _, m := range w.impersonations[address.System] {
				if !address.Inside(m.Where) || m.Kind == SignsIn && !slices.Contains(a.Subjects, m.Who) {
					continue
				}
				for _, who := range m.takers {
					if goOn = each(differing.Access{Subjects: []estate.Principal{who}, Operation: a.Operation, Cell: a.Cell,
						Piles: pile.Alone()}); !goOn {
						return false
					}
				}
			}
		}
		return true
	}
	if err := c.Each(ctx, w.since, tell); err != nil || !goOn {
		return err
	}
	alone := map[string]*differing.Pile{}
	for _, pile := range c.Piles() {
		if pile.Len() == 1 {
			alone[pile.First()] = pile
		}
	}
	since := c.Space().Between(w.since, maxInstant)
	for _, m := range w.order {
		pile := alone[m.Where.String()]
		if m.Kind != Tags || pile == nil {
			continue
		}
		r := tagged(w.estate.Listed(m.Where), m.Set)
		for _, who := range m.takers {
			for _, name := range pile.Operations() {
				when, err := w.asTagged(c.Gate, who, name, r)
				if err == nil {
					when, err = c.Space().And(when, since)
				}
				if err != nil {
					return err
				}
				if when != region.Empty && !tell(differing.Access{Subjects: []estate.Principal{who}, Operation: name,
					Cell: differing.Cell{Sure: when, Possible: when}, Piles: pile.Alone()}) {
					return nil
				}
			}
		}
	}
	return nil
}

// Holder is somebody who may do something, or can get to it.
type Holder struct {
	gate.Answer
	Chain Chain // without steps if it is so already
}

// Holders lists whoever may do one of the selected operations on one of some places in a context, of a gate, or can
// get to it: first who may, then by how many steps it takes.
func (w *Ways) Holders(ctx context.Context, c *gate.Context, of *gate.Gate, places counting.Places,
	selects func(*estate.Operation) bool) ([]Holder, error) {
	best := map[estate.Principal]Holder{}
	found := func(a gate.Answer, chain Chain) {
		known, ok := best[a.Subject]
		if !ok || len(chain.Steps) < len(known.Chain.Steps) || len(chain.Steps) == len(known.Chain.Steps) &&
			a.Outcome > known.Outcome {
			best[a.Subject] = Holder{a, chain}
		}
	}
	now := w.stages[0]
	answers, err := counting.Holders(ctx, now.Gate, now.For(c, of), places, selects)
	if err != nil {
		return nil, err
	}
	for _, a := range answers {
		found(a, Chain{As: a.Subject})
	}
	for r := range places.Each(w.estate) {
		who := w.whoLater(r, func(p estate.Principal) bool {
			known, ok := best[p]
			return ok && len(known.Chain.Steps) == 0
		})
		if who != nil && len(who) == 0 {
			continue
		}
		for _, o := range w.estate.Offer(r.System.Kind.ID).On(r.Type) {
			if !selects(o) {
				continue
			}
			later, err := w.after(ctx, c, of, who, opening{o, r})
			if err != nil {
				return nil, err
			}
			for _, a := range later {
				if known, ok := best[a.Subject]; ok && len(known.Chain.Steps) == 0 {
					continue
				}
				chain, ok, err := w.Chain(a.Subject, o, r)
				if err != nil {
					return nil, err
				}
				if ok && len(chain.Steps) > 0 {
					found(a, chain)
				}
			}
		}
	}
	var out []Holder
	for _, h := range best {
		out = append(out, h)
	}
	slices.SortFunc(out, func(a, b Holder) int {
		if d := len(a.Chain.Steps) - len(b.Chain.Steps); d != 0 {
			return d
		}
		return a.Subject.Compare(b.Subject)
	})
	return out, nil
}

// whoLater lists those of whom it matters what they may do on a resource once all steps are taken: whoever can take
// some and may not do it already, and whoever somebody can sign in as; nil for everybody.
func (w *Ways) whoLater(r *estate.Resource, already func(estate.Principal) bool) []estate.Principal {
	out := []estate.Principal{}
	for _, m := range w.impersonations[r.Address.System] {
		if m.Kind != SignsIn {
			return nil
		}
		out = append(out, m.Who)
	}
	for who := range w.of {
		if !already(who) {
			out = append(out, who)
		}
	}
	slices.SortFunc(out, estate.Principal.Compare)
	return slices.Compact(out)
}

// after lists who, among some or everybody, may do an operation on a resource once all steps are taken, in a context.
func (w *Ways) after(ctx context.Context, c *gate.Context, of *gate.Gate, among []estate.Principal, at opening,
) (answers []gate.Answer, err error) {
	last, o, r := w.last(), at.operation, at.resource
	asked, is := last.For(c, of), func(one *estate.Operation) bool { return one == o }
	if among == nil {
		answers, err = counting.Holders(ctx, last.Gate, asked, counting.PlacesOf(r), is)
	}
	for _, who := range among {
		if err == nil {
			err = last.Answers(who, gate.Sought{Context: asked, Operations: is, Resources: slices.Values([]*estate.Resource{r})},
				func(a gate.Answer) bool {
					if a.Outcome != gate.Deny {
						answers = append(answers, a)
					}
					return true
				})
		}
	}
	if err != nil {
		return nil, err
	}
	for _, m := range w.order {
		if m.Kind != Tags || m.Where != r.Address {
			continue
		}
		for _, who := range m.takers {
			now := w.stages[0].Gate
			when, err := w.asTagged(now, who, o.Name, tagged(r, m.Set))
			if err != nil {
				return nil, err
			}
			if outcome := now.Holds(when, now.For(c, of)); outcome != gate.Deny {
				answers = append(answers, gate.Answer{Subject: who, Operation: o, Resource: r, Outcome: outcome})
			}
		}
	}
	for _, a := range slices.Clone(answers) {
		for _, m := range w.impersonations[r.Address.System] {
			if !m.reaches(a.Subject, r) {
				continue
			}
			for _, who := range m.takers {
				as := a
				as.Subject = who
				answers = append(answers, as)
			}
		}
	}
	return answers, nil
}
