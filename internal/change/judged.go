package change

import (
	"context"
	"maps"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/gate/membership"
)

// Judged tells what some subjects, or all where who is nil, may do from an instant on to what no inventory lists and
// a system judges all the same; nil where no system does. Its lines are about what may come, as all that is gained
// beside an estate without grants.
func Judged(ctx context.Context, e *estate.Estate, who map[estate.Principal]bool, since clock.Instant,
) (*Effect, error) {
	if !slices.ContainsFunc(slices.Collect(maps.Values(e.Systems)), func(s *estate.System) bool { return s.Judge }) {
		return nil, nil
	}
	bare := e.With(estate.Clear("grants"))
	roster := membership.New(e)
	pair, err := differing.CompilePair(differing.Estates{Before: bare, After: e, Only: who,
		Rosters: [2]*membership.Roster{roster, roster}, Coming: &differing.Coming{Judged: true}})
	if err != nil {
		return nil, err
	}
	g := newGatherer(pair, false)
	if err := pair.Differences(ctx, since, g.take); err != nil {
		return nil, err
	}
	out := &Effect{Before: bare, After: e, altered: alteredIn(e, e), Gates: pair, ComingInPart: !pair.Whole}
	_, out.Coming = g.finish()
	return out, nil
}

// In keeps the lines about what may come of operations and places that are chosen, as they are in a context, and
// tells how each comes out there.
func (e *Effect) In(c *gate.Context, of *gate.Gate, operation func(*estate.Operation) bool,
	place func(*estate.Resource) bool) (lines []Line, outcomes []gate.Outcome) {
	context := e.Gates.New.For(c, of)
	for _, l := range e.Coming {
		l.Operations = slices.DeleteFunc(slices.Clone(l.Operations),
			func(name string) bool { return !operation(e.After.Operations[name]) })
		l.Piles = l.Piles.Where(func(p *differing.Pile) bool { return place(p.May().In(e.After)) })
		sure, possible := e.Gates.New.Holds(l.New.Sure, context), e.Gates.New.Holds(l.New.Possible, context)
		outcome := min(sure, possible)
		if sure != possible {
			outcome = gate.Depends
		}
		if len(l.Operations) > 0 && l.Piles.Len() > 0 && outcome != gate.Deny {
			lines, outcomes = append(lines, l), append(outcomes, outcome)
		}
	}
	return lines, outcomes
}
