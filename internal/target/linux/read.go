package linux

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hiddengate/internal/target"
)

// system is a server that was reached.
type system struct {
	name   string
	shell  shell
	self   string
	listed []target.Place
}

func connect(ctx context.Context, to target.Connection) (target.System, error) {
	s := &system{name: to.System, listed: to.Listed}
	if to.At == here {
		var err error
		s.shell, err = newLocal()
		return s, err
	}
	at, err := readAddress(to.At)
	if err != nil {
		return nil, err
	}
	s.self = at.User
	s.shell, err = newRemote(ctx, at, to.Secret)
	return s, err
}

func (s *system) Close() { s.shell.close() }

// plainly has the words of programs, and where they are, be the same on every server.
const plainly = "LC_ALL=C PATH=/usr/sbin:/usr/bin:/sbin:/bin; export LC_ALL PATH\n"

// saying is what scripts begin with that print parts.
const saying = plainly + `say() { printf '%s ' "$1"; base64 -w0; echo; }`

// sections prints what a server has, each part in one line: its name, and its text in base64 (RFC 4648, section 4), so
// that nothing in it can be taken for another. Of passwords it prints what sort they are.
const sections = saying + `
[ "$(uname -s)" = Linux ] || { echo 'it does not run Linux' >&2; exit 1; }
[ "$(id -u)" = 0 ] || { echo 'this account is not root, and cannot become it' >&2; exit 1; }
say self <<END
${SUDO_USER:-root}
END
date -u +%s | say time
say passwd </etc/passwd
say group </etc/group
awk -F: '{ p = $2; s = "set"
  if (p == "") s = "empty"; else if (p == "*") s = "none"
  else if (p ~ /^!+\*?$/) s = "shut"; else if (p ~ /^!/) s = "locked"
  print $1 ":" s ":" $8 }' /etc/shadow | say shadow
if [ -f ` + commandsFile + ` ]; then say commands <` + commandsFile + `; fi
if [ -f ` + signInFile + ` ]; then say sign-in <` + signInFile + `; fi
for f in ` + keysIn + `/*; do
  case ${f##*/} in *[!a-z0-9_.-]*) continue ;; esac
  if [ -f "$f" ] && ! [ -L "$f" ]; then say "key:${f##*/}" <"$f"; fi
done
for program in sshd sudo; do if command -v $program >/dev/null; then echo | say has:$program; fi; done
if command -v systemctl >/dev/null; then
  systemctl list-unit-files --type=service,timer --no-legend --no-pager --plain 2>/dev/null | say units
fi
find ` + programsIn + ` -mindepth 1 -maxdepth 1 -type f -perm /111 -print0 2>/dev/null | sort -z | say programs
find /srv -mindepth 1 -maxdepth 1 -type d -print0 2>/dev/null | sort -z | say folders
`

// Read reads the accounts, groups, rights and keys of a server, and the places that the policy lists or that are easy
// to find.
func (s *system) Read(ctx context.Context) (target.Snapshot, error) { return s.read(ctx) }

func (s *system) read(ctx context.Context) (*snapshot, error) {
	out, err := s.shell.run(ctx, sections)
	if err != nil {
		return nil, err
	}
	parts, err := partsOf(out)
	if err != nil {
		return nil, err
	}
	snap := &snapshot{system: s.name, self: s.self, accounts: map[string]*account{}, groups: map[string]*group{},
		files: map[int]*file{}, programs: map[int]string{}, keys: map[string]string{}}
	if snap.self == "" {
		snap.self = strings.TrimSpace(parts["self"])
	}
	snap.commands, snap.signIn = parts["commands"], parts["sign-in"]
	_, snap.hasSSH = parts["has:sshd"]
	_, snap.hasSudo = parts["has:sudo"]
	for name, text := range parts {
		if who, ok := strings.CutPrefix(name, "key:"); ok && accountName.MatchString(who) {
			snap.keys[who] = text
		}
	}
	seconds, err := strconv.Atoi(strings.TrimSpace(parts["time"]))
	if err != nil {
		return nil, errOdd
	}
	snap.today = seconds / (24 * 60 * 60)
	if err := snap.people(parts); err != nil {
		return nil, err
	}
	more, err := s.shell.run(ctx, snap.look(s.listed, parts))
	if err != nil {
		return nil, err
	}
	found, err := partsOf(more)
	if err != nil {
		return nil, err
	}
	if err := snap.places(s.listed, parts, found); err != nil {
		return nil, err
	}
	hash := sha256.New()
	hash.Write(withoutTime(out))
	hash.Write(more)
	snap.key = hex.EncodeToString(hash.Sum(nil))
	return snap, nil
}

// withoutTime leaves out what differs each time.
func withoutTime(out []byte) []byte {
	from := bytes.Index(out, []byte("\ntime "))
	if from < 0 {
		return out
	}
	to := bytes.IndexByte(out[from+1:], '\n')
	return append(slices.Clone(out[:from]), out[from+1+max(to, 0):]...)
}

var errOdd = errors.New("what it prints about itself cannot be understood")

// partsOf takes apart what a script printed.
func partsOf(out []byte) (map[string]string, error) {
	parts := map[string]string{}
	for line := range strings.Lines(string(out)) {
		name, coded, ok := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		text, err := base64.StdEncoding.DecodeString(coded)
		if !ok || err != nil {
			return nil, errOdd
		}
		parts[name] = string(text)
	}
	return parts, nil
}

// people reads the accounts and groups.
func (s *snapshot) people(parts map[string]string) error {
	for line := range strings.Lines(parts["passwd"]) {
		f := strings.Split(strings.TrimSuffix(line, "\n"), ":")
		if len(f) != 7 || f[0] == "" || s.accounts[f[0]] != nil {
			continue // what the system itself passes over
		}
		uid, errU := strconv.Atoi(f[2])
		gid, errG := strconv.Atoi(f[3])
		if errU != nil || errG != nil {
			continue
		}
		name, _, _ := strings.Cut(f[4], ",")
		s.accounts[f[0]] = &account{name: f[0], uid: uid, gid: gid, made: name == mark, home: f[5], shell: f[6],
			password: shutForGood, expires: -1}
	}
	for line := range strings.Lines(parts["shadow"]) {
		f := strings.Split(strings.TrimSuffix(line, "\n"), ":")
		if len(f) != 3 || s.accounts[f[0]] == nil {
			continue
		}
		a := s.accounts[f[0]]
		a.password = password(f[1])
		if day, err := strconv.Atoi(f[2]); err == nil {
			a.expires = day
		}
	}
	for line := range strings.Lines(parts["group"]) {
		f := strings.Split(strings.TrimSuffix(line, "\n"), ":")
		if len(f) != 4 || s.groups[f[0]] != nil {
			continue
		}
		gid, err := strconv.Atoi(f[2])
		if err != nil {
			continue
		}
		g := &group{name: f[0], gid: gid}
		for _, m := range strings.Split(f[3], ",") {
			if m != "" && !slices.Contains(g.members, m) {
				g.members = append(g.members, m)
			}
		}
		s.groups[f[0]] = g
	}
	if s.accounts["root"] == nil {
		return errOdd
	}
	for _, name := range sorted(s.accounts) {
		a := s.accounts[name]
		s.state.Accounts = append(s.state.Accounts,
			target.Account{Name: name, Made: a.made, Reserved: !a.person() || name == s.self})
	}
	return nil
}

// look makes the script that reads more: the access lists of files, what sudo lets each person do, and their homes.
func (s *snapshot) look(listed []target.Place, parts map[string]string) string {
	var b strings.Builder
	b.WriteString(saying + "\n")
	seen := map[string]bool{}
	var all []string
	add := func(path string) {
		for _, one := range append(above(path), path) {
			if !seen[one] {
				seen[one] = true
				all = append(all, one)
			}
		}
	}
	for _, p := range listed {
		if path, ok := pathOf(p.Path); ok && (p.Type == "area" || p.Type == "item") {
			add(path)
		}
	}
	for _, path := range append(namesIn(parts["programs"]), namesIn(parts["folders"])...) {
		add(path)
	}
	n := 0
	for some := range slices.Chunk(all, 200) {
		b.WriteString("set --")
		for _, path := range some {
			b.WriteString(" " + quote(path))
		}
		fmt.Fprintf(&b, "\nstat -c '%%f %%u %%g %%n' -- \"$@\" 2>/dev/null | say stat:%d\n", n)
		fmt.Fprintf(&b, "getfacl -EpnP -- \"$@\" 2>/dev/null | say acl:%d\n", n)
		n++
	}
	for _, name := range sorted(s.accounts) {
		a := s.accounts[name]
		if !a.person() || name == s.self {
			continue
		}
		if s.groups[care] == nil { // what they may run is asked for where it may have to be adopted: it takes its time
			fmt.Fprintf(&b, "sudo -n -ll -U %[1]s 2>/dev/null | say rules:%[1]s\n", name)
		}
		fmt.Fprintf(&b, "if [ -s %s ]; then echo | say home:%s; fi\n", quote(a.home+"/.ssh/authorized_keys"), name)
	}
	return b.String()
}

// namesIn takes apart what find printed. Names that no address can name are left out.
func namesIn(text string) (out []string) {
	for _, name := range strings.Split(text, "\x00") {
		if name != "" && !strings.ContainsFunc(name, unprintable) {
			out = append(out, name)
		}
	}
	return out
}
