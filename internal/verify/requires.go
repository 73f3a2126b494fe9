package verify

import (
	"hiddengate/internal/estate"
)

var requires = &Kind{
	Name: "requires", Doc: "whoever may, only under this condition",
	Takes: TakesCondition,
	// What is allowed without the condition is what is left once the condition is a block. One that asks nothing of
	// subject and resource is taken away from what is allowed (Prover.find).
	edits: func(g *estate.Guarantee) []estate.Edit {
		return []estate.Edit{estate.Put("blocks", &estate.Block{
			Object: estate.Object{ID: "guarantee " + g.ID, Source: g.Source},
			To: estate.Subjects{{Principal: estate.Principal{Kind: estate.IsEveryone}},
				{Principal: estate.Principal{Kind: estate.IsAnonymous}}},
			Deny: g.May, On: g.On, When: g.Requires,
		})}
	},
	find: func(s search) (*violation, error) {
		return s.any(func(estate.Principal) bool { return true })
	},
	forbids: func(_ *estate.Guarantee, _ map[estate.Principal]bool, who []estate.Principal) (estate.Principal, bool) {
		return first(who, func(estate.Principal) bool { return true })
	},
}
