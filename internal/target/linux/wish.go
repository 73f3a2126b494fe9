package linux

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"hiddengate/internal/clock"
	"hiddengate/internal/target"
)

// wish is how an account has to be.
type wish struct {
	name    string
	holder  *target.Holder // nil for one that is in hgate's care and no more in the policy's
	closed  bool           // it has nothing, or nobody may use it
	signsIn bool
	opens   []string // applications, where it may not sign in
	keys    []string // lines of its file of keys
	groups  []string // that it has to be in, without care
	grants  []string // by which it has anything
	free    bool     // it is let go: it keeps what it has and hgate did not give
}

// perms that natives are on a file.
var permsOf = map[int]perms{opening: 5, readingFolder: 5, writingFolder: 7, readingFile: 4, writingFile: 6}

// commandsOf gives what a native on a place lets its holder run, and as whom.
func (s *snapshot) commandsOf(native, place int) (as string, commands []string) {
	unit := func(verbs ...string) (out []string) {
		for _, verb := range verbs {
			out = append(out, fmt.Sprintf("%s %s %s.service", control, verb, s.programs[place]))
		}
		return out
	}
	switch native {
	case superuser:
		return "ALL : ALL", []string{"ALL"}
	case asService:
		return s.programs[place], []string{"ALL"}
	case restarting:
		return "root", []string{control + " reboot"}
	case stopping:
		return "root", []string{control + " poweroff"}
	case restartingService:
		return "root", unit("restart")
	case stoppingService:
		return "root", unit("restart", "start", "stop")
	case runningJob:
		return "root", unit("start")
	}
	return "", nil
}

// needsGroup says whether a right is had by a group of its own, rather than by how an account is.
func (s *snapshot) needsGroup(x target.Right) bool {
	_, commands := s.commandsOf(x.Native, x.Place)
	return permsOf[x.Native] != 0 || len(commands) > 0
}

// wishes says how each account in the policy's care, or in hgate's, has to be, by name.
func (s *snapshot) wishes(a *target.Arrangement) (out []*wish) {
	mine := map[string]bool{}
	for _, h := range a.Holders {
		if !accountName.MatchString(h.Account) {
			continue
		}
		mine[h.Account] = true
		if w := s.wish(a, h); w.holder != nil {
			out = append(out, w)
		}
	}
	if g := s.groups[care]; g != nil {
		for _, name := range sorted(s.accounts) {
			acc := s.accounts[name]
			if !mine[name] && acc.person() && name != s.self && s.memberOf(acc, care) {
				out = append(out, &wish{name: name, closed: acc.made, free: !acc.made})
			}
		}
	}
	slices.SortFunc(out, func(a, b *wish) int { return strings.Compare(a.name, b.name) })
	return out
}

// wish says how the account of a holder has to be. Its holder is nil if there is none, and none is needed.
func (s *snapshot) wish(a *target.Arrangement, h *target.Holder) *wish {
	w := &wish{name: h.Account}
	var all target.Mask
	for place := range s.state.Places {
		m := a.Mask(h, place)
		all |= m
		if m&(1<<opening) != 0 && s.files[place] != nil {
			w.opens = append(w.opens, s.programs[place])
		}
	}
	if h.New && all == 0 {
		return w
	}
	w.holder = h
	slices.Sort(w.opens)
	w.closed = all == 0
	w.signsIn = all&(1<<signingIn) != 0 && !w.closed
	note := func(grants []string) {
		for _, g := range grants {
			if !slices.Contains(w.grants, g) {
				w.grants = append(w.grants, g)
			}
		}
	}
	for _, r := range a.RolesOf(h.Account) {
		note([]string{r.Grant})
		if !w.closed && slices.ContainsFunc(r.Rights, s.needsGroup) {
			w.groups = append(w.groups, groupOf(r.Grant))
		}
	}
	for _, x := range a.Direct[h.Account] {
		note(x.Grants)
	}
	slices.Sort(w.grants)
	if all&(1<<readingLogs) != 0 && !w.closed {
		w.groups = append(w.groups, logGroup)
	}
	slices.Sort(w.groups)
	w.groups = slices.Compact(w.groups)
	if subject := a.Gate.Estate().Subject(h.Subject); subject != nil && (w.signsIn || len(w.opens) > 0) && !w.closed {
		w.keys = keyLines(subject.Keys, w, h.Ends)
	}
	return w
}

// keyLines writes the keys by which somebody signs in (sshd(8), "AUTHORIZED_KEYS FILE FORMAT"). Who may only open
// applications opens one of them, and can do nothing else.
func keyLines(keys []string, w *wish, ends clock.Instant) (out []string) {
	var options []string
	if !w.signsIn {
		options = append(options, "restrict", "pty", `command="`+Opener(w.opens)+`"`)
	}
	if ends != clock.End {
		at := time.UnixMicro(int64(ends)).UTC()
		options = append(options, `expiry-time="`+at.Format("20060102150405")+`Z"`)
	}
	before := strings.Join(options, ",")
	if before != "" {
		before += " "
	}
	for _, text := range keys {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(text))
		if err != nil {
			continue // the policy's reader has refused it
		}
		out = append(out, before+strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))+" "+w.name)
	}
	slices.Sort(out)
	return out
}

// Opener is the command that opens one of some applications. Their names need no quotes.
func Opener(names []string) string {
	if len(names) == 1 {
		return "exec " + programsIn + "/" + names[0]
	}
	var b strings.Builder
	b.WriteString(`case $SSH_ORIGINAL_COMMAND in `)
	for _, name := range names {
		fmt.Fprintf(&b, "%s) exec %s/%s;; ", name, programsIn, name)
	}
	fmt.Fprintf(&b, "*) echo 'Name one: %s' >&2; exit 1;; esac", strings.Join(names, ", "))
	return b.String()
}

// closesOn is the first day on which an account is closed, counted from 1970, as the end of its time needs it; -1 for
// never. Days begin at midnight UTC, so it is open for up to a day longer than its keys, which end at the moment.
func closesOn(ends clock.Instant) int {
	if ends == clock.End {
		return -1
	}
	const day = int64(24 * time.Hour / time.Microsecond)
	return int((int64(ends) + day - 1) / day)
}

func dayText(day int) string { return time.Unix(int64(day)*24*60*60, 0).UTC().Format("2006-01-02") }

// commandLine is a line of commandsFile, with the grants that caused it.
type commandLine struct {
	text   string
	grants []string
}

// commandLines says what commandsFile has to hold: first that those in hgate's care may run nothing, then what they
// may.
func (s *snapshot) commandLines(a *target.Arrangement, wishes []*wish) (out []commandLine) {
	open := map[string]bool{}
	for _, w := range wishes {
		open[w.name] = !w.closed && !w.free
	}
	add := func(who string, x target.Right, grants []string) {
		as, commands := s.commandsOf(x.Native, x.Place)
		for _, c := range commands {
			out = append(out, commandLine{fmt.Sprintf("%s ALL = (%s) NOPASSWD: %s", who, as, c), grants})
		}
	}
	for _, r := range a.Roles {
		if !slices.ContainsFunc(r.Members, func(name string) bool { return open[name] }) {
			continue
		}
		for _, x := range r.Rights {
			add("%"+groupOf(r.Grant), x, []string{r.Grant})
		}
	}
	for _, w := range wishes {
		if w.holder == nil || !open[w.name] {
			continue
		}
		for _, x := range a.Direct[w.name] {
			add(w.name, x.Right, x.Grants)
		}
	}
	slices.SortStableFunc(out, func(a, b commandLine) int { return cmp.Compare(a.text, b.text) })
	out = slices.CompactFunc(out, func(a, b commandLine) bool { return a.text == b.text })
	return out
}

// commandsText writes commandsFile.
func commandsText(lines []commandLine) string {
	var b strings.Builder
	b.WriteString("# Made by hgate from the policy. The next push writes it again.\n")
	b.WriteString("%" + care + " ALL = (ALL : ALL) !ALL\n")
	for _, l := range lines {
		b.WriteString(l.text + "\n")
	}
	return b.String()
}
