package simulated

import (
	"hiddengate/internal/clock"
	"hiddengate/internal/standin"
	"hiddengate/internal/target"
)

// password tells a password that was set here, which a stand-in keeps for itself and shows to nobody.
func (p *planning) password(account string) {
	set := p.a.Passwords[account]
	if set.Verifier == "" {
		return
	}
	if p.plan.Verifiers == nil {
		p.plan.Verifiers = map[string]target.Password{}
	}
	p.plan.Verifiers[account] = set
	why := "it was set here"
	if set.First {
		why = "it was set here, and has to be changed"
	}
	p.say(target.Alter, nil, why, "account "+account+" has another password")
}

// verified writes passwords that were set as a stand-in takes them.
func verified(passwords map[string]target.Password) map[string]standin.Verified {
	out := map[string]standin.Verified{}
	for account, set := range passwords {
		one := standin.Verified{Verifier: set.Verifier, First: set.First, Lasts: int64(set.Lasts.Seconds())}
		if set.Ends < clock.End {
			ends := set.Ends.Time().UTC()
			one.Ends = &ends
		}
		out[account] = one
	}
	return out
}
