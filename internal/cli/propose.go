package cli

import (
	"maps"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/target"
	"hiddengate/internal/view"
)

// likeEnough is from which share of both on some subjects are told to be those of a group or a tag.
const likeEnough = 0.8

// likeOf finds the group or tag of the policy that some subjects are like; "" for none.
func likeOf(g *gate.Gate) func(subjects []string) string {
	e := g.Estate()
	known := map[string]map[string]bool{}
	note := func(name, subject string) {
		if known[name] == nil {
			known[name] = map[string]bool{}
		}
		known[name][subject] = true
	}
	for id := range e.Groups {
		name := estate.Principal{Kind: estate.IsGroup, ID: id}
		for _, p := range g.Members(estate.Subjects{{Principal: name}}) {
			note(name.String(), p.String())
		}
	}
	for id, s := range e.People {
		for _, tag := range s.Tags {
			if estate.IsCertified(tag.Key) {
				continue
			}
			note(tag.Key+"="+tag.Value, id)
		}
	}
	names := slices.Sorted(maps.Keys(known))
	return func(subjects []string) string {
		best, most := "", 0.0
		for _, name := range names {
			both := 0
			for _, s := range subjects {
				if known[name][s] {
					both++
				}
			}
			if is := float64(both) / float64(len(subjects)+len(known[name])-both); is >= likeEnough && is > most {
				best, most = name, is
			}
		}
		return best
	}
}

// proposalText tells what a proposal saves, and what does not fit it.
func proposalText(p *view.Page, proposal *target.Proposal) {
	if !proposal.Shorter {
		p.Line("hgate: no structure takes fewer grants than it would replace, so it is written as it is")
		return
	}
	p.Line("hgate: %s replace %s of the system's; %d of them %s to subjects rather than to groups",
		count(len(proposal.Grants), "grant"), count(proposal.Replaced, "grant"), proposal.Single,
		map[bool]string{true: "goes", false: "go"}[proposal.Single == 1])
	const most = 20
	for _, text := range proposal.Apart[:min(len(proposal.Apart), most)] {
		p.Line("hgate: apart: %s", text)
	}
	if more := len(proposal.Apart) - most; more > 0 {
		p.Line("hgate: apart: %d more", more)
	}
}
