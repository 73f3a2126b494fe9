package simulated

import (
	"maps"
	"slices"
	"time"

	"hiddengate/internal/standin"
	"hiddengate/internal/target"
)

// Found tells who may do what as the stand-in stands.
func (s *snapshot) Found() *target.Found {
	out := &target.Found{Rights: map[string][]target.Right{}, All: map[string][]int{}}
	for _, name := range slices.Sorted(maps.Keys(s.access.Accounts)) {
		a := s.access.Accounts[name]
		out.Told = out.Told || a.Note == s.accountMark()
		switch {
		case name == s.self || a.Locked:
		case a.Keeper:
			out.All[name] = s.places("*")
		default:
			if rights := s.rights(a.Permits); len(rights) > 0 {
				out.Rights[name] = rights
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.access.Teams)) {
		t := s.access.Teams[name]
		out.Told = out.Told || s.isTeamMark(name, t.Note)
		shown := name
		if s.access.Accounts[name] != nil {
			shown = s.kind.team + " " + name
		}
		one := target.FoundGroup{Name: shown}
		for _, account := range t.Members {
			if account != s.self && !s.access.Accounts[account].Locked {
				one.Accounts = append(one.Accounts, account)
			}
		}
		out.Groups = append(out.Groups, one)
		out.Rights[shown] = s.rights(t.Permits)
	}
	if rights := s.rights(s.access.Everybody); len(rights) > 0 {
		out.Rights[target.Everybody] = rights
	}
	return out
}

// rights lists what permits come to, place by place.
func (s *snapshot) rights(p standin.Permits) (out []target.Right) {
	for place := range s.state.Places {
		for n := range s.kind.natives {
			if _, fits := s.fits(s.kind.natives[n].Name, place); fits && p.Have(s.kind.natives[n].Name, s.pathOf(place)) {
				out = append(out, target.Right{Native: n, Place: place})
			}
		}
	}
	return out
}

// manages says whether an account may replace the settings by something else than what everybody has.
func manages(x *standin.Access, account string) bool {
	a := x.Accounts[account]
	return a != nil && (a.Keeper || a.Permits.Have(standin.Managing, standin.Root) ||
		slices.ContainsFunc(x.TeamsOf(account), func(name string) bool {
			return x.Teams[name].Permits.Have(standin.Managing, standin.Root)
		}))
}

// why tells what in the stand-in makes an answer other than the policy's.
func (s *snapshot) why(a target.Answer, now time.Time) string {
	is := s.access.Accounts[a.Holder.Account]
	switch {
	case is == nil:
		return "there is no such account"
	case !a.Allowed && is.Locked:
		return "the account is locked"
	case !a.Allowed && is.Ends != nil && !now.Before(*is.Ends):
		return "the account has ended"
	}
	at := s.pathOf(a.Place)
	for n := range s.kind.natives {
		right := s.kind.natives[n].Name
		if _, fits := s.fits(right, a.Place); !fits || !slices.Contains(s.kind.natives[n].Gives, a.Operation) {
			continue
		}
		if !a.Allowed {
			return "nothing there gives it"
		}
		if is.Keeper {
			return "the account is a keeper"
		}
		if is.Permits.Have(right, at) {
			return "the account itself has " + right
		}
		for _, name := range s.access.TeamsOf(a.Holder.Account) {
			if s.access.Teams[name].Permits.Have(right, at) {
				return "member of " + s.kind.team + " " + name + ", which has " + right
			}
		}
		if s.access.Everybody.Have(right, at) {
			return "everybody has " + right
		}
	}
	return "the stand-in says so"
}
