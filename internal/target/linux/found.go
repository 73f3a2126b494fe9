package linux

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/target"
)

// Found tells who may do what as the server stands, as far as its own files say it plainly: accounts with shells,
// access lists, groups, and rules that name whole commands.
func (s *snapshot) Found() *target.Found {
	out := &target.Found{Rights: map[string][]target.Right{}, All: map[string][]int{}}
	if g := s.groups[care]; g != nil {
		out.Told = true
	}
	for _, name := range sorted(s.accounts) {
		acc := s.accounts[name]
		if !acc.person() || name == s.self || s.over(acc) {
			continue
		}
		if acc.uid == 0 || lets(acc.rules, "root", "ALL") {
			out.All[name] = append(out.All[name], 0)
			continue
		}
		for place := range s.state.Places {
			for n := range natives {
				if s.has(acc, n, place) {
					out.Rights[name] = append(out.Rights[name], target.Right{Native: n, Place: place})
				}
			}
		}
		out.Left = append(out.Left, s.leftOf(acc)...)
	}
	return out
}

// has says whether an account has a native on a place, beside what all of its rules let it do as root.
func (s *snapshot) has(acc *account, native, place int) bool {
	p := &s.state.Places[place]
	if !slices.Contains(natives[native].Types, p.Type) || p.Lacks&(1<<native) != 0 {
		return false
	}
	switch native {
	case signingIn:
		return s.signsIn(acc)
	case superuser:
		return false
	case readingLogs:
		return s.memberOf(acc, logGroup)
	}
	if want := permsOf[native]; want != 0 {
		f := s.files[place]
		if f != nil && !f.folder && want == 5 && p.Type != "application" {
			want = 4
		}
		return f != nil && s.permsOn(acc, f)&want == want && s.passes(acc, f)
	}
	as, commands := s.commandsOf(native, place)
	if len(commands) == 0 {
		return false
	}
	return !slices.ContainsFunc(commands, func(c string) bool { return !lets(acc.rules, as, c) })
}

// passes says whether an account gets through the folders above a file, as far as they were read as places.
func (s *snapshot) passes(acc *account, f *file) bool {
	for _, other := range s.files {
		if other.folder && strings.HasPrefix(f.path, other.path+"/") && s.permsOn(acc, other)&1 == 0 {
			return false
		}
	}
	return true
}

// permsOn gives what an account has on a file (acl(5), "ACCESS CHECK ALGORITHM").
func (s *snapshot) permsOn(acc *account, f *file) perms {
	mask, masked := f.entryOf("mask", -1)
	if !masked {
		mask = 7
	}
	if f.uid == acc.uid {
		out, _ := f.entryOf("user", -1)
		return out
	}
	if out, ok := f.entryOf("user", acc.uid); ok {
		return out & mask
	}
	in := false
	var out perms
	for _, e := range f.entries {
		if e.tag != "group" {
			continue
		}
		id := e.id
		if id < 0 {
			id = f.gid
		}
		if g := s.groupNumbered(id); g != nil && s.memberOf(acc, g.name) || acc.gid == id {
			in, out = true, out|e.perms
		}
	}
	if in {
		return out & mask
	}
	out, _ = f.entryOf("other", -1)
	return out
}

// leftOf tells what somebody may run as others that no operation stands for.
func (s *snapshot) leftOf(acc *account) (out []string) {
	var known []string
	for place := range s.state.Places {
		for n := range natives {
			_, commands := s.commandsOf(n, place)
			known = append(known, commands...)
		}
	}
	for _, text := range others(acc.rules, known) {
		out = append(out, fmt.Sprintf("%s may run %s", acc.name, printable(text)))
	}
	return out
}
