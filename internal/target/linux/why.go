package linux

import (
	"fmt"
	"strings"

	"hiddengate/internal/target"
)

// why tells what on the server makes an answer other than the policy's.
func (s *snapshot) why(a target.Answer, root bool) string {
	acc := s.accounts[a.Holder.Account]
	switch {
	case root && acc.uid == 0:
		return "its number is root's"
	case root:
		return "it may run every command as root: " + s.whyRuns(acc)
	case a.Allowed:
		return s.whyAllowed(acc, a)
	}
	switch a.Operation {
	case "host.sign-in", "host.copy":
		switch {
		case !s.validShell(acc):
			return "its shell is " + printable(acc.shell)
		case s.over(acc):
			return "it is closed since " + dayText(acc.expires)
		}
		return "it has no key and no password"
	case "log.view", "log.export":
		return "it is not in the group " + logGroup
	}
	if s.over(acc) {
		return "it is closed since " + dayText(acc.expires)
	}
	if f := s.files[a.Place]; f != nil {
		return "the access list of " + f.path + ", or of a folder above it, does not let it"
	}
	return "no rule of " + commandsFile + " lets it"
}

func (s *snapshot) whyAllowed(acc *account, a target.Answer) string {
	if acc.uid == 0 {
		return "its number is root's"
	}
	switch a.Operation {
	case "host.sign-in", "host.copy":
		if acc.password == hasPassword || acc.password == needsNone {
			return "it has a shell and a password"
		}
		return "it has a shell and a key"
	case "log.view", "log.export":
		return "it is in the group " + logGroup
	}
	f := s.files[a.Place]
	need := needs(a.Operation)
	if f == nil || a.Operation == "application.manage" {
		return s.whyRuns(acc)
	}
	if f.uid == acc.uid {
		return "it owns " + f.path
	}
	if perms, ok := f.entryOf("user", acc.uid); ok && perms&need == need {
		return fmt.Sprintf("the access list of %s gives it %s", f.path, perms)
	}
	for _, e := range f.entries {
		if g := s.groupNumbered(e.id); e.tag == "group" && g != nil && e.perms&need == need && s.memberOf(acc, g.name) {
			return fmt.Sprintf("the access list of %s gives the group %s, in which it is, %s", f.path, printable(g.name),
				e.perms)
		}
	}
	if g := s.groupNumbered(f.gid); g != nil && s.memberOf(acc, g.name) {
		return fmt.Sprintf("%s belongs to the group %s, in which it is", f.path, printable(g.name))
	}
	perms, _ := f.entryOf("other", -1)
	return fmt.Sprintf("%s gives everybody %s", f.path, perms)
}

// needs is what an operation on a file needs, as access lists have it.
func needs(operation string) perms {
	switch operation {
	case "file.write", "file.remove":
		return 2
	case "application.open":
		return 1
	}
	return 4
}

// whyRuns tells what lets an account run commands as others.
func (s *snapshot) whyRuns(acc *account) string {
	for _, line := range linesOf(s.commands) {
		if strings.HasPrefix(line, acc.name+" ") {
			return commandsFile + " has a rule for it that the policy does not give"
		}
	}
	for _, name := range sorted(s.groups) {
		if s.memberOf(acc, name) && name != acc.name && name != care && !strings.HasPrefix(name, care+"-") {
			return "it is in the group " + printable(name) + ", and a rule lets that group or the account do it"
		}
	}
	return "a rule outside " + commandsFile + " lets it (`sudo -ll -U " + acc.name + "` lists them)"
}
