package linux

import (
	"slices"
	"strings"
)

// rule is what sudo lets somebody run, as `sudo -ll` lists it; the last that fits counts.
type rule struct {
	as       []string // the accounts as which
	commands []string
}

// rulesOf reads what `sudo -ll` prints (sudo(8), "-l, --list").
func rulesOf(text string) (out []rule) {
	var now *rule
	commands := false
	for line := range strings.Lines(text) {
		line = strings.TrimSuffix(line, "\n")
		word := strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(line, "Sudoers entry:"), strings.HasPrefix(line, "LDAP Role:"):
			out = append(out, rule{})
			now, commands = &out[len(out)-1], false
		case now == nil || word == "":
		case commands && strings.HasPrefix(line, "\t"):
			now.commands = append(now.commands, word)
		case word == "Commands:":
			commands = true
		default:
			commands = false
			if text, ok := strings.CutPrefix(word, "RunAsUsers: "); ok {
				for _, one := range strings.Split(text, ",") {
					now.as = append(now.as, strings.TrimSpace(one))
				}
			}
		}
	}
	return out
}

// asRoot says whether a rule lets commands be run as root.
func (r *rule) asRoot() bool {
	return len(r.as) == 0 || slices.Contains(r.as, "root") || slices.Contains(r.as, "ALL") || slices.Contains(r.as, "#0")
}

// lets says whether rules let a command be run as an account; "ALL" is every command. A command that a rule writes in
// another way, as with a pattern, is not found here.
func lets(rules []rule, as, command string) bool {
	out := false
	for i := range rules {
		r := &rules[i]
		if as == "root" && !r.asRoot() || as != "root" && !slices.Contains(r.as, as) && !slices.Contains(r.as, "ALL") {
			continue
		}
		for _, c := range r.commands {
			name, not := strings.CutPrefix(c, "!")
			if name == "ALL" || name == command {
				out = !not
			}
		}
	}
	return out
}

// others lists the commands that rules let be run and that are not among some.
func others(rules []rule, known []string) (out []string) {
	for i := range rules {
		r := &rules[i]
		for _, c := range r.commands {
			switch {
			case c == "!ALL":
				out = nil
			case !slices.Contains(known, c) && c != "ALL":
				out = append(out, c+" as "+strings.Join(r.as, " or "))
			}
		}
	}
	return out
}
