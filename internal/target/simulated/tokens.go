package simulated

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"hiddengate/internal/standin"
	"hiddengate/internal/target"
)

// tokens gives an account the tokens that were made for it. One that is narrowed to roles gives what the teams for
// grants of those roles and no others give: never more than a session with them.
func (p *planning) tokens(account string, is *standin.Account) {
	if !p.kind.tokens {
		return
	}
	is.Tokens = nil
	for _, t := range p.a.Tokens[account] {
		one := &standin.Token{Hash: t.Hash}
		ends := t.Ends.Time().UTC()
		one.Ends = &ends
		if len(t.Roles) > 0 {
			for _, r := range p.a.Roles {
				g := p.a.Gate.Estate().Grants[r.Grant]
				name := p.teamName(r.Grant)
				narrow := p.next.Teams[name] != nil && slices.Contains(p.next.Teams[name].Members, account)
				for _, ref := range g.Roles {
					narrow = narrow && slices.Contains(t.Roles, ref.ID)
				}
				if narrow {
					one.Teams = append(one.Teams, name)
				}
			}
			if slices.Sort(one.Teams); len(one.Teams) == 0 {
				p.plan.Left = append(p.plan.Left, fmt.Sprintf("the token %s of %s is not told: no %s gives what its roles give",
					t.ID, account, p.kind.team))
				continue
			}
		}
		if is.Tokens == nil {
			is.Tokens = map[string]*standin.Token{}
		}
		is.Tokens[t.ID] = one
	}
}

func (p *planning) tokenDifferences(whose string, was, is map[string]*standin.Token) {
	all := maps.Clone(was)
	if all == nil {
		all = map[string]*standin.Token{}
	}
	maps.Copy(all, is)
	for _, id := range slices.Sorted(maps.Keys(all)) {
		switch {
		case reflect.DeepEqual(was[id], is[id]):
		case is[id] == nil:
			p.say(target.Remove, nil, "it is over, or nobody made it here", whose+" has the token "+id)
		default:
			text := fmt.Sprintf("%s has the token %s until %s", whose, id, is[id].Ends.Format(time.RFC3339))
			if len(is[id].Teams) > 0 {
				text += ", for " + strings.Join(is[id].Teams, ", ")
			}
			p.say(map[bool]target.Doing{true: target.Add, false: target.Alter}[was[id] == nil], nil, "it was made here", text)
		}
	}
}
