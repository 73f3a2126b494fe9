package simulated

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/standin"
	"hiddengate/internal/target"
)

// planning is a plan on its way.
type planning struct {
	*snapshot
	a       *target.Arrangement
	next    *standin.Access
	plan    *target.Plan
	holders map[string]*target.Holder
	direct  map[string][]target.Held // by account
	grants  map[string][]string      // by what a statement adds: the grants that it comes from
}

// Plan says what the stand-in has to be told: which settings have to stand in place of those that it has.
func (s *snapshot) Plan(a *target.Arrangement) *target.Plan {
	p := &planning{snapshot: s, a: a, next: s.access.Clone(), plan: &target.Plan{}, holders: map[string]*target.Holder{},
		direct: map[string][]target.Held{}, grants: map[string][]string{}}
	for _, h := range a.Holders {
		p.holders[h.Account] = h
		p.direct[h.Account] = a.Direct[h.Account]
	}
	p.teams()
	for _, h := range a.Holders {
		p.account(h)
	}
	p.nobodys()
	p.everybody()
	p.differences()
	for _, h := range a.Holders {
		p.password(h.Account)
	}
	text, err := json.Marshal(p.next)
	if err != nil { // it has texts and nothing else
		panic(err)
	}
	p.plan.Script = string(text)
	return p.plan
}

// teams makes the teams for grants, takes away those that no grant needs, and takes out of the others whoever would
// get too much.
func (p *planning) teams() {
	made := map[string]bool{}
	for _, r := range p.a.Roles {
		name := p.teamName(r.Grant)
		if is := p.access.Teams[name]; is != nil && is.Note != p.teamMark(r.Grant) {
			p.plan.Left = append(p.plan.Left, fmt.Sprintf("the %s %s is not hgate's, and stands where that for grant %s should",
				p.kind.team, name, r.Grant))
			for _, account := range r.Members {
				for _, x := range r.Rights {
					p.direct[account] = append(p.direct[account], target.Held{Right: x, Grants: []string{r.Grant}})
				}
			}
			continue
		}
		made[name] = true
		t := &standin.Team{
			Note:    p.teamMark(r.Grant),
			Members: slices.Sorted(slices.Values(r.Members)),
			Permits: standin.Permits{},
			Limits:  p.limits(r.Grant),
		}
		for _, x := range r.Rights {
			p.permit(t.Permits, x)
		}
		p.next.Teams[name] = t
		p.grants[p.teamWords(name)] = []string{r.Grant}
	}
	for name, t := range p.next.Teams {
		switch {
		case made[name]:
		case p.isTeamMark(name, t.Note):
			delete(p.next.Teams, name)
		default:
			t.Members = slices.DeleteFunc(t.Members, func(account string) bool {
				if h := p.holders[account]; h != nil {
					return p.beyond(h, t.Permits) != ""
				}
				return p.orphan(account)
			})
		}
	}
}

func (p *planning) permit(permits standin.Permits, x target.Right) {
	at, right := p.pathOf(x.Place), p.kind.natives[x.Native].Name
	if !slices.Contains(permits[at], right) {
		permits[at] = append(permits[at], right)
		slices.Sort(permits[at])
	}
}

// beyond says what permits give somebody that the policy does not; "" for nothing.
func (p *planning) beyond(h *target.Holder, permits standin.Permits) string {
	for _, at := range slices.Sorted(maps.Keys(permits)) {
		for _, right := range permits[at] {
			if extra := p.extra(h, at, right); extra != "" {
				return extra
			}
		}
	}
	return ""
}

// extra says where a permit gives somebody more than the policy; "" for nowhere.
func (p *planning) extra(h *target.Holder, at, right string) string {
	for _, place := range p.places(at) {
		n, fits := p.fits(right, place)
		if fits && p.a.Listed(place) && p.a.Mask(h, place)&(1<<n) == 0 {
			return right + " at " + p.pathOf(place)
		}
	}
	return ""
}

// account gives an account what the policy says of it.
func (p *planning) account(h *target.Holder) {
	is := p.next.Accounts[h.Account]
	if is == nil {
		is = &standin.Account{Note: p.accountMark()}
		p.next.Accounts[h.Account] = is
	}
	subject := p.a.Gate.Estate().Subject(h.Subject)
	if subject != nil && p.kind.keys && (len(subject.Keys) > 0 || is.Note == p.accountMark()) {
		is.Keys = slices.Clone(subject.Keys)
	}
	if p.access.Accounts[h.Account] == nil && len(is.Keys) == 0 && p.a.Passwords[h.Account].Verifier == "" {
		p.plan.First = append(p.plan.First, h.Account)
	}
	is.Ends = nil
	if h.Ends != clock.End {
		ends := h.Ends.Time().UTC()
		is.Ends = &ends
	}
	is.Locked = !p.hasAnything(h)
	is.Keeper = is.Keeper && p.hasEverything(h)
	p.rank(h, is)
	is.Limits = p.limits() // also where it has chosen a role that is not hgate's
	permits := standin.Permits{}
	whose := "account " + h.Account
	own := p.teamName("own:" + h.Account)
	if !p.kind.alone {
		whose = p.teamWords(own)
	}
	for _, x := range p.direct[h.Account] {
		p.permit(permits, x.Right)
		words := p.mayWords(whose, p.pathOf(x.Place), p.kind.natives[x.Native].Name)
		p.grants[words] = append(p.grants[words], x.Grants...)
	}
	if !p.kind.alone {
		if other := p.access.Teams[own]; other != nil && other.Note != p.teamMark("own:"+h.Account) {
			p.plan.Left = append(p.plan.Left, fmt.Sprintf("the %s %s is not hgate's, and stands where that for what %s alone "+
				"has should", p.kind.team, own, h.Account))
			return
		}
		if len(permits) > 0 {
			for _, x := range p.direct[h.Account] {
				p.grants[whose] = append(p.grants[whose], x.Grants...)
			}
			p.next.Teams[own] = &standin.Team{
				Note:    p.teamMark("own:" + h.Account),
				Members: []string{h.Account},
				Permits: permits,
				Limits:  p.limits(p.grants[whose]...),
			}
		}
		return
	}
	for at, rights := range is.Permits {
		for _, right := range rights {
			if p.keeps(h, at, right) && !slices.Contains(permits[at], right) {
				permits[at] = append(permits[at], right)
				slices.Sort(permits[at])
			}
		}
	}
	if is.Permits = permits; len(permits) == 0 {
		is.Permits = nil
	}
	var from []string
	for _, x := range p.direct[h.Account] {
		from = append(from, x.Grants...)
	}
	is.Limits = p.limits(from...)
	p.tokens(h.Account, is)
}

// rank says for each place which comes first where one alone can have something, as the policy's precedence has it.
func (p *planning) rank(h *target.Holder, is *standin.Account) {
	if p.kind.ranks == "" {
		return
	}
	was := is.Ranks
	is.Ranks = nil
	for place := range p.state.Places {
		at := p.pathOf(place)
		n, fits := p.fits(p.kind.ranks, place)
		rank := was[at]
		if p.a.Listed(place) {
			rank = 0
			if fits && p.a.Mask(h, place)&(1<<n) != 0 {
				rank = p.a.Rank(h, p.kind.natives[n].Gives[0], place)
			}
		}
		if rank > 0 {
			if is.Ranks == nil {
				is.Ranks = map[string]int{}
			}
			is.Ranks[at] = rank
		}
	}
}

// keeps says whether an account keeps a permit that it has and that no grant needs: one that is not about what the
// policy lists, or one for all inside a place that gives no more than the policy does.
func (p *planning) keeps(h *target.Holder, at, right string) bool {
	listed := slices.ContainsFunc(p.places(at), p.a.Listed)
	return !listed || strings.HasSuffix(at, "*") && p.extra(h, at, right) == ""
}

func (p *planning) hasAnything(h *target.Holder) bool {
	for place := range p.state.Places {
		if p.a.Mask(h, place) != 0 {
			return true
		}
	}
	return false
}

func (p *planning) hasEverything(h *target.Holder) bool {
	for place := range p.state.Places {
		if p.a.Listed(place) && !p.a.AllowsAll(h, place) {
			return false
		}
	}
	return true
}

// orphan says whether hgate made an account that is nobody's any more.
func (p *planning) orphan(account string) bool {
	is := p.access.Accounts[account]
	return is != nil && is.Note == p.accountMark() && p.holders[account] == nil && account != p.self
}

// nobodys closes the accounts that hgate made and that are nobody's any more.
func (p *planning) nobodys() {
	for account, is := range p.next.Accounts {
		if p.orphan(account) {
			is.Locked, is.Permits, is.Keeper, is.Tokens = true, nil, false, nil
		}
	}
}

// everybody takes from everybody what they have on what the policy lists.
func (p *planning) everybody() {
	for at := range p.next.Everybody {
		if !slices.ContainsFunc(p.places(at), p.a.Listed) {
			continue
		}
		if p.self != "" && !manages(p.access, p.self) && slices.Contains(p.next.Everybody[at], standin.Managing) {
			p.plan.Left = append(p.plan.Left, "everybody may "+standin.Managing+" at "+at+": it is hgate's own way in")
			p.next.Everybody[at] = []string{standin.Managing}
			continue
		}
		delete(p.next.Everybody, at)
	}
	if len(p.next.Everybody) == 0 {
		p.next.Everybody = nil
	}
}
