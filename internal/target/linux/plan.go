package linux

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/target"
)

// planning is a plan on its way. What takes away comes before what gives, so that nobody has more meanwhile than before
// or after.
type planning struct {
	*snapshot
	a      *target.Arrangement
	wishes []*wish
	cared  map[string]bool // the accounts of the wishes
	first  map[int]bool    // the numbers of their first groups, that of hgate's care apart
	plan   *target.Plan
	script strings.Builder
}

// Plan says what a server has to be told so that it gives what is arranged.
func (s *snapshot) Plan(a *target.Arrangement) *target.Plan {
	p := &planning{snapshot: s, a: a, plan: &target.Plan{}, wishes: s.wishes(a), cared: map[string]bool{},
		first: map[int]bool{}}
	for _, w := range p.wishes {
		p.cared[w.name] = true
		if acc := s.accounts[w.name]; acc != nil {
			p.first[acc.gid] = true
		}
	}
	if g := s.groups[care]; g != nil {
		delete(p.first, g.gid)
	}
	for _, h := range a.Holders {
		if !accountName.MatchString(h.Account) {
			p.plan.Left = append(p.plan.Left, h.Account+" can be no account's name here; list one of another name")
		}
	}
	p.groupsThere()
	for _, w := range p.wishes {
		p.accountThere(w)
	}
	for _, w := range p.wishes {
		p.leaves(w)
	}
	for _, w := range p.wishes {
		p.cares(w)
	}
	p.keyFiles()
	p.signInFile()
	p.commandFile()
	p.accessLists()
	for _, w := range p.wishes {
		p.joins(w)
	}
	p.groupsGone()
	p.plan.Script = p.script.String()
	return p.plan
}

// Why something is told that no grant causes.
const (
	ofCare   = "whoever is in the policy's care has nothing but what it gives"
	ofKeys   = "whoever is in the policy's care signs in with the keys that it has of them"
	notGiven = "the policy does not give it"
)

// tell adds a command that is its own text.
func (p *planning) tell(do target.Doing, grants []string, why, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	p.plan.Statements = append(p.plan.Statements, target.Statement{Do: do, Text: text, Grants: grants, Why: why})
	fmt.Fprintf(&p.script, "step %d\n%s\n", len(p.plan.Statements), text)
}

// neededGroups lists the groups that there have to be, with the grants that need them, and care first.
func (p *planning) neededGroups() (names []string, grant map[string]string) {
	grant = map[string]string{}
	var needed []string
	for _, w := range p.wishes {
		if !w.free {
			needed = append(needed, w.groups...)
		}
	}
	for _, r := range p.a.Roles {
		if name := groupOf(r.Grant); slices.Contains(needed, name) {
			names = append(names, name)
			grant[name] = r.Grant
		}
	}
	slices.Sort(names)
	names = slices.Compact(names)
	if len(p.wishes) > 0 {
		names = append([]string{care}, names...)
	}
	return names, grant
}

func (p *planning) groupsThere() {
	names, grant := p.neededGroups()
	for _, name := range names {
		if p.groups[name] == nil {
			var grants []string
			if g := grant[name]; g != "" {
				grants = []string{g}
			}
			p.tell(target.Add, grants, ofCare, "groupadd %s", name)
		}
	}
}

// accountThere makes an account, or changes how it is.
func (p *planning) accountThere(w *wish) {
	acc := p.accounts[w.name]
	if w.free {
		return
	}
	end := -1
	if w.holder != nil {
		end = closesOn(w.holder.Ends)
	}
	if acc == nil {
		shell := noShell
		if w.signsIn || len(w.opens) > 0 {
			shell = plainShell
		}
		own := "--user-group"
		if p.groups[w.name] != nil { // it is another's, and may give something
			own = "--no-user-group --gid " + care
		}
		until := ""
		if end >= 0 {
			until = " --expiredate " + dayText(end)
		}
		p.tell(target.Add, w.grants, "", "useradd --create-home %s --comment '%s' --shell %s --password '*'%s -- %s",
			own, mark, shell, until, w.name)
		return
	}
	change := func(why, format string, args ...any) {
		p.tell(target.Alter, w.grants, why, "usermod "+format+" -- "+w.name, args...)
	}
	if acc.uid == 0 {
		p.tell(target.Remove, nil, "it has the number of root", "%s", renumber(w.name, p.freeNumber()))
	}
	if g := p.groupNumbered(acc.gid); g == nil || g.name != w.name && g.name != care && g.name != "users" {
		change("its first group may give it something", "--gid %s", care)
	}
	opens := w.signsIn || len(w.opens) > 0
	switch {
	case !opens && p.validShell(acc):
		change("it may not sign in", "--shell %s", noShell)
	case opens && !p.validShell(acc):
		change("", "--shell %s", plainShell)
	}
	if w.closed {
		if acc.expires < 0 || acc.expires > 1 {
			change("it has nothing here", "--expiredate 1970-01-02")
		}
	} else if acc.expires != end {
		text := "''"
		if end >= 0 {
			text = dayText(end)
		}
		change("", "--expiredate %s", text)
	}
	p.passwordOf(w, acc, change)
}

// passwordOf sees that nobody gets in by a password who may not, and that a lock keeps nobody out who may.
func (p *planning) passwordOf(w *wish, acc *account, change func(why, format string, args ...any)) {
	switch {
	case acc.password == needsNone:
		change("it needs no password", "--password '*'")
	case w.signsIn && acc.password == locked:
		change("", "--unlock")
	case w.signsIn && acc.password == shutForGood:
		change("", "--password '*'")
	case w.signsIn:
	case len(w.opens) > 0 && acc.password != noPassword:
		change("a password would let it do more than open applications", "--password '*'")
	case len(w.opens) == 0 && acc.password == hasPassword:
		change("it may not sign in", "--lock")
	}
}

// validShell says whether an account has a shell that lets it in.
func (s *snapshot) validShell(a *account) bool {
	return !strings.HasSuffix(a.shell, "/nologin") && !strings.HasSuffix(a.shell, "/false")
}

// freeNumber is a number that no account has.
func (s *snapshot) freeNumber() int {
	n := firstPerson
	for s.accountNumbered(n) != nil {
		n++
	}
	return n
}

// renumber gives an account with root's number another one. usermod refuses to, since root always runs something, so
// vipw does it under its lock (vipw(8)).
func renumber(name string, number int) string {
	edit := fmt.Sprintf("sed -i \"s/^%s:\\([^:]*\\):0:/%s:\\1:%d:/\" \"$1\"; touch -d \"2 seconds\" \"$1\"",
		strings.ReplaceAll(name, ".", "[.]"), name, number)
	return "VISUAL=" + quote("sh -c "+quote(edit)+" vipw") + " vipw >/dev/null"
}

// leaves takes an account out of groups that the policy does not give it.
func (p *planning) leaves(w *wish) {
	acc := p.accounts[w.name]
	if acc == nil {
		return
	}
	for _, name := range sorted(p.groups) {
		if !slices.Contains(p.groups[name].members, w.name) || name == care && !w.free || slices.Contains(w.groups, name) {
			continue
		}
		ours := name == care || strings.HasPrefix(name, care+"-")
		switch {
		case ours:
			p.tell(target.Remove, nil, notGiven, "gpasswd --delete %s %s", w.name, quoteName(name))
		case !w.free && name != w.name:
			p.tell(target.Remove, nil, "the group is outside the policy, and may give it something",
				"gpasswd --delete %s %s", w.name, quoteName(name))
		}
	}
}

// quoteName quotes the name of a group that needs it.
func quoteName(name string) string {
	if accountName.MatchString(name) {
		return name
	}
	return quote(name)
}

// cares puts an account into hgate's care.
func (p *planning) cares(w *wish) {
	if acc := p.accounts[w.name]; !w.free && (acc == nil || !p.memberOf(acc, care)) &&
		!(acc == nil && p.groups[w.name] != nil) {
		p.tell(target.Add, nil, ofCare, "gpasswd --add %s %s", w.name, care)
	}
}

// joins puts an account into the groups by which it has something.
func (p *planning) joins(w *wish) {
	acc := p.accounts[w.name]
	for _, name := range w.groups {
		if w.free || acc != nil && p.memberOf(acc, name) {
			continue
		}
		if name == logGroup && p.groups[logGroup] == nil {
			p.plan.Left = append(p.plan.Left, fmt.Sprintf("%s may not read the logs: there is no group %s", w.name, logGroup))
			continue
		}
		grants := p.a.GrantsOf(w.name, readingLogs)
		for _, r := range p.a.RolesOf(w.name) {
			if groupOf(r.Grant) == name {
				grants = []string{r.Grant}
			}
		}
		p.tell(target.Add, grants, "", "gpasswd --add %s %s", w.name, name)
	}
}

// groupsGone takes away groups of grants that nobody needs any more.
func (p *planning) groupsGone() {
	needed, _ := p.neededGroups()
	for _, name := range sorted(p.groups) {
		if strings.HasPrefix(name, care+"-") && !slices.Contains(needed, name) && accountName.MatchString(name) {
			p.tell(target.Remove, nil, "no grant needs it", "groupdel %s", name)
		}
	}
}
