package escalation

import (
	"slices"

	"hiddengate/internal/estate"
)

// What is done with a profile, as the built-in catalog names it.
const (
	issuing      = "credential.issue"
	approving    = "credential.approve" // which takes somebody who asks in a stranger's name
	askingForOne = "credential.request-for"
)

// signingSteps finds the steps for which it takes what signs: whoever can have a stranger's name signed acts as whom it
// names, in the system into which a profile's credentials let. What is done to the authority itself is done to all its
// profiles, whomever they name.
func (w *Ways) signingSteps(o opened, by taken) {
	if p := w.estate.ProfileAt(o.resource); p != nil {
		switch o.operation.Name {
		case issuing:
			w.signs(p, p.Holders, o.who, by)
		case approving:
			if w.strangersAsk(p, o.resource) {
				w.signs(p, p.Holders, o.who, by)
			}
		default: // who changes the profile changes its holders
			w.signs(p, nil, o.who, by)
		}
		return
	}
	if o.operation.Name == approving || o.operation.Name == issuing { // which are looked at on each profile
		return
	}
	for _, p := range estate.Sorted(w.estate.Profiles) {
		if p.Authority.ID == o.resource.System.ID {
			w.signs(p, nil, o.who, by)
		}
	}
}

// signs takes the steps of somebody who can have a profile's credentials signed in the names of some; nil: of anybody.
func (w *Ways) signs(p *estate.Profile, holders estate.Subjects, who estate.Principal, by taken) {
	if p.System.ID == "" {
		return
	}
	s := Step{Kind: Acts, Where: estate.Address{System: p.System.ID}}
	if holders == nil {
		w.take(s, who, by)
		return
	}
	s.Kind = SignsIn
	for _, holder := range w.stages[0].Of(holders) {
		if s.Who = holder; holder != who {
			w.take(s, who, by)
		}
	}
}

// strangersAsk says whether anybody may ask in the name of another at a profile, as far as grants alone tell.
func (w *Ways) strangersAsk(p *estate.Profile, r *estate.Resource) bool {
	g := w.stages[0].Gate
	for _, gr := range w.estate.Grants {
		if g.Covers(gr.On, r) && slices.ContainsFunc(gr.Roles, func(role estate.Ref) bool {
			return g.RoleHas(role.ID, askingForOne)
		}) && len(w.stages[0].Of(gr.To)) > 0 {
			return true
		}
	}
	return p.Open
}
