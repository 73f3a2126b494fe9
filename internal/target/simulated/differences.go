package simulated

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"hiddengate/internal/standin"
	"hiddengate/internal/target"
)

func (p *planning) teamWords(name string) string { return p.kind.team + " " + name }

func (p *planning) mayWords(whose, at, right string) string {
	return whose + " may " + right + " at " + at
}

func (p *planning) say(do target.Doing, grants []string, why, text string) {
	grants = slices.Compact(slices.Sorted(slices.Values(grants)))
	p.plan.Statements = append(p.plan.Statements, target.Statement{Do: do, Text: text, Grants: grants, Why: why})
}

// differences tells in sentences what differs between the settings that there are and those that have to be.
func (p *planning) differences() {
	p.permitDifferences("everybody", p.access.Everybody, p.next.Everybody, nil, "everybody has it")
	for _, name := range slices.Sorted(maps.Keys(p.next.Accounts)) {
		p.accountDifferences(name, p.access.Accounts[name], p.next.Accounts[name])
	}
	all := maps.Clone(p.next.Teams)
	maps.Copy(all, p.access.Teams)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		p.teamDifferences(name, p.access.Teams[name], p.next.Teams[name])
	}
}

func (p *planning) accountDifferences(name string, was, is *standin.Account) {
	whose := "account " + name
	if was == nil {
		was = &standin.Account{}
		why := ""
		if slices.Contains(p.plan.First, name) {
			why = "it gets a first password, which has to be changed"
		}
		p.say(target.Add, nil, why, whose)
	}
	if !slices.Equal(was.Keys, is.Keys) {
		p.say(target.Alter, nil, "the keys that the policy has", fmt.Sprintf("%s has %d keys", whose, len(is.Keys)))
	}
	switch {
	case is.Ends == nil && was.Ends != nil:
		p.say(target.Alter, nil, "the policy has no end", whose+" does not end")
	case is.Ends != nil && (was.Ends == nil || !was.Ends.Equal(*is.Ends)):
		p.say(target.Alter, nil, "the policy says so", whose+" ends "+is.Ends.UTC().Format(time.RFC3339))
	}
	switch {
	case was.Keeper && !is.Keeper:
		p.say(target.Remove, nil, "a keeper may do everything", whose+" is a keeper")
	}
	switch {
	case is.Locked && !was.Locked && p.holders[name] == nil:
		p.say(target.Alter, nil, "the policy gives the account to nobody", whose+" is locked")
	case is.Locked && !was.Locked:
		p.say(target.Alter, nil, "the policy gives it nothing here", whose+" is locked")
	case was.Locked && !is.Locked:
		p.say(target.Alter, nil, "the policy gives it something here", whose+" is open")
	}
	all := maps.Clone(was.Ranks)
	if all == nil {
		all = map[string]int{}
	}
	maps.Copy(all, is.Ranks)
	for _, at := range slices.Sorted(maps.Keys(all)) {
		switch {
		case is.Ranks[at] == 0:
			p.say(
				target.Remove,
				nil,
				"no precedence gives it",
				fmt.Sprintf("%s comes as number %d at %s", whose, was.Ranks[at], at),
			)
		case is.Ranks[at] != was.Ranks[at]:
			p.say(target.Alter, nil, "the precedence", fmt.Sprintf("%s comes as number %d at %s", whose, is.Ranks[at], at))
		}
	}
	p.permitDifferences(whose, was.Permits, is.Permits, nil, "no grant gives it")
	p.limitDifferences(whose, was.Limits, is.Limits)
	p.tokenDifferences(whose, was.Tokens, is.Tokens)
}

func (p *planning) teamDifferences(name string, was, is *standin.Team) {
	whose := p.teamWords(name)
	switch {
	case is == nil:
		p.say(target.Remove, nil, "no grant needs it", whose)
		return
	case was == nil:
		p.say(target.Add, p.grants[whose], "", whose)
		was = &standin.Team{}
	}
	for _, account := range was.Members {
		if slices.Contains(is.Members, account) {
			continue
		}
		why := "the policy does not put it there"
		if h := p.holders[account]; h != nil && !p.isTeamMark(name, is.Note) {
			why = "its members have " + p.beyond(h, is.Permits)
		}
		p.say(target.Remove, nil, why, whose+" has the member "+account)
	}
	p.permitDifferences(whose, was.Permits, is.Permits, p.grants[whose], "no grant gives it")
	p.limitDifferences("whoever has "+whose, was.Limits, is.Limits)
	var added []string
	for _, account := range is.Members {
		if !slices.Contains(was.Members, account) {
			added = append(added, account)
		}
	}
	for some := range slices.Chunk(added, 20) {
		word := " has the member "
		if len(some) > 1 {
			word = " has the members "
		}
		p.say(target.Add, p.grants[whose], "", whose+word+strings.Join(some, ", "))
	}
}

// permitDifferences tells how permits differ: what is taken, then what is given. Places with the same are told
// together.
func (p *planning) permitDifferences(whose string, was, is standin.Permits, grants []string, why string) {
	for _, one := range beyond(was, is, func(string, []string) []string { return nil }) {
		p.say(target.Remove, nil, why, p.mayWords(whose, one.at, one.rights))
	}
	for _, one := range beyond(is, was, func(at string, rights []string) []string {
		from := slices.Clone(grants)
		for _, right := range rights {
			from = append(from, p.grants[p.mayWords(whose, at, right)]...)
		}
		return slices.Compact(slices.Sorted(slices.Values(from)))
	}) {
		p.say(target.Add, one.grants, "", p.mayWords(whose, one.at, one.rights))
	}
}

// permitted is rights at places, in words, with the grants that they come from.
type permitted struct {
	at, rights string
	grants     []string
}

// beyond lists what permits have that others lack, in the order of places.
func beyond(a, b standin.Permits, grants func(at string, rights []string) []string) (out []permitted) {
	known := map[string]int{}
	for _, at := range slices.Sorted(maps.Keys(a)) {
		rights := slices.DeleteFunc(slices.Sorted(slices.Values(a[at])),
			func(right string) bool { return slices.Contains(b[at], right) })
		if rights = slices.Compact(rights); len(rights) == 0 {
			continue
		}
		one := permitted{at, strings.Join(rights, ", "), grants(at, rights)}
		key := one.rights + "\n" + strings.Join(one.grants, "\n")
		if n, is := known[key]; is {
			out[n].at += ", " + at
			continue
		}
		known[key] = len(out)
		out = append(out, one)
	}
	return out
}
