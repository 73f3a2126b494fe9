// Package simulated carries a policy to the simulated systems that hgate ships, and asks them. All keep their access
// settings as one text, which is read and replaced as a whole: there is no half of a push.
package simulated

import (
	"maps"
	"slices"

	"hiddengate/internal/standin"
	"hiddengate/internal/target"
)

// snapshot is what a stand-in had at a moment.
type snapshot struct {
	kind     *kind
	system   string
	self     string // the account by which it was read
	revision string
	access   *standin.Access
	state    target.State
}

// The notes by which hgate knows what it made.
func (s *snapshot) accountMark() string          { return "hgate " + s.system + " account" }
func (s *snapshot) teamMark(grant string) string { return "hgate " + s.system + " grant " + grant }
func (s *snapshot) teamName(grant string) string { return "hgate:" + s.system + ":" + grant }
func (s *snapshot) isTeamMark(name, n string) bool {
	return n != "" && n == s.teamMark(s.grantOf(name))
}
func (s *snapshot) grantOf(teamName string) string {
	return teamName[min(len(teamName), len("hgate:"+s.system+":")):]
}

// State tells what there is.
func (s *snapshot) State() *target.State { return &s.state }

// newSnapshot puts together what was read.
func newSnapshot(k *kind, system, self, revision string, x *standin.Access, places []standin.Place) *snapshot {
	s := &snapshot{kind: k, system: system, self: self, revision: revision, access: x}
	for _, p := range places {
		if p.Path == standin.Root {
			p.Path = ""
		}
		s.state.Places = append(s.state.Places, target.Place{Path: p.Path, Type: p.Type})
	}
	for _, name := range slices.Sorted(maps.Keys(x.Accounts)) {
		s.state.Accounts = append(s.state.Accounts, target.Account{Name: name,
			Made: x.Accounts[name].Note == s.accountMark(), Reserved: name == self})
	}
	return s
}

// blank is a stand-in that has some places and gives nothing to anybody.
func blank(k *kind, to target.Connection, of *target.State) *snapshot {
	return &snapshot{kind: k, system: to.System, access: &standin.Access{}, state: *of}
}

// pathOf writes a place as the stand-in does.
func (s *snapshot) pathOf(place int) string {
	if path := s.state.Places[place].Path; path != "" {
		return path
	}
	return standin.Root
}

// places lists the places for which a place of permits stands.
func (s *snapshot) places(permitted string) (out []int) {
	for i := range s.state.Places {
		if standin.Covers(permitted, s.pathOf(i)) {
			out = append(out, i)
		}
	}
	return out
}

// fits says whether a right means anything at a place, and gives its number.
func (s *snapshot) fits(right string, place int) (native int, ok bool) {
	for n := range s.kind.natives {
		if s.kind.natives[n].Name == right {
			return n, slices.Contains(s.kind.natives[n].Types, s.state.Places[place].Type)
		}
	}
	return 0, false
}
