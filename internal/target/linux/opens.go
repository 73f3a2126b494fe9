package linux

import "strings"

// over says whether an account is closed, as the system counts its days.
func (s *snapshot) over(a *account) bool { return a.expires >= 0 && a.expires <= s.today }

// signsIn says whether an account can get a command line: it has a shell, is open, and has a key or a password.
func (s *snapshot) signsIn(a *account) bool {
	if !s.validShell(a) || s.over(a) {
		return false
	}
	if a.password == hasPassword || a.password == needsNone {
		return true
	}
	if !s.memberOf(a, care) || s.signIn != signInRules {
		return a.homeKeys
	}
	for _, line := range linesOf(s.keys[a.name]) {
		if line != "" && !strings.HasPrefix(line, "#") && !strings.HasPrefix(line, "restrict,pty,command=") {
			return true
		}
	}
	return false
}
