package target_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// box is a signal box of many levers, with accounts of so many people.
func box(people int) (s *target.State, text string) {
	s = state()
	var list, who strings.Builder
	for i := range people {
		name := fmt.Sprintf("a%d", i)
		s.Accounts = append(s.Accounts, target.Account{Name: name})
		fmt.Fprintf(&list, ", accounts/%s: {owner: %s}", name, name)
		fmt.Fprintf(&who, "%s: {}, ", name)
	}
	for i := range levers {
		fmt.Fprintf(&list, ", l%d: {}", i)
	}
	return s, kind + "systems: {box: {kind: signal-box, resources: {accounts: {}" + list.String() + "}}}\npeople: {" +
		who.String() + "}\n"
}

func ownerOf(account string) (estate.Principal, bool) {
	return estate.Principal{ID: account}, strings.HasPrefix(account, "a")
}

func likeNobody([]string) string { return "" }

// A proposal gives exactly what was found, and takes no more grants than it replaces.
func TestAProposalGivesWhatWasFound(t *testing.T) {
	shorter := 0
	for seed := range 150 {
		d := rand.New(rand.NewPCG(uint64(seed), 5))
		s, head := box(8)
		found := &target.Found{Rights: map[string][]target.Right{}, All: map[string][]int{}}
		names := []string{target.Everybody, "crew", "night"}
		found.Groups = []target.FoundGroup{{Name: "crew", Accounts: []string{"a0", "a1", "a2"}},
			{Name: "night", Accounts: []string{"a3", "a1"}, Groups: []string{"crew"}}}
		for i := range 8 {
			names = append(names, fmt.Sprintf("a%d", i))
		}
		for range 6 + d.IntN(30) {
			name := names[d.IntN(len(names))]
			x := target.Right{Native: d.IntN(3), Place: 1 + d.IntN(levers)}
			switch {
			case d.IntN(12) == 0 && name != target.Everybody:
				found.All[name] = append(found.All[name], d.IntN(levers+1))
			case !slices.Contains(found.Rights[name], x):
				found.Rights[name] = append(found.Rights[name], x)
			}
		}
		plain := target.Adopt("box", &carries, s, found, ownerOf)
		proposal := target.Propose("box", &carries, s, found, ownerOf, likeNobody)
		assert.LessOrEqual(t, len(proposal.Grants), proposal.Replaced)
		if proposal.Shorter {
			shorter++
		}
		texts := [2]string{head + string(plain.File("box", s)), head + string(proposal.File("box", s))}
		gates := [2]*gate.Gate{targettest.Load(t, texts[0]), targettest.Load(t, texts[1])}
		for i := range 8 {
			for r := range gates[0].Estate().Tree.All() {
				for _, operation := range []string{"lever.look", "lever.pull", "lever.lock", "bell.hear"} {
					var said [2]gate.Outcome
					var errs [2]error
					for k, g := range gates {
						c := g.NewContext()
						c.Time(targettest.At)
						said[k], errs[k] = g.Decide(gate.Request{Subject: estate.Principal{ID: fmt.Sprintf("a%d", i)},
							Operation: operation, Resource: r.Address.String(), Context: c})
					}
					require.Equal(t, errs[0] == nil, errs[1] == nil)
					require.Equal(t, said[0], said[1], "a%d %s %s\n%s\n%s", i, operation, r.Address, texts[0], texts[1])
				}
			}
		}
	}
	assert.Positive(t, shorter)
}

// The structure by which rights were given is found again, though one in twenty is missing or beyond it.
func TestAPlantedStructureIsFoundAgain(t *testing.T) {
	planted, again := 0, 0
	for seed := range 20 {
		d := rand.New(rand.NewPCG(uint64(seed), 6))
		const people, jobs, places = 90, 6, 60
		s, _ := box(people)
		for i := levers; i < places; i++ {
			s.Places = append(s.Places, target.Place{Path: fmt.Sprintf("l%d", i), Type: "lever"})
		}
		var rights [jobs][]target.Right
		for j := range jobs { // each has ten places of its own
			for i := range 10 {
				rights[j] = append(rights[j], target.Right{Native: d.IntN(2), Place: 1 + (j*10+i)%places})
			}
		}
		found := &target.Found{Rights: map[string][]target.Right{}, All: map[string][]int{}}
		total := 0
		for i := range people {
			has := map[target.Right]bool{}
			for range 1 + d.IntN(2) {
				for _, x := range rights[d.IntN(jobs)] {
					has[x] = true
				}
			}
			total += len(has)
			name := fmt.Sprintf("a%d", i)
			for j := range rights {
				for _, x := range rights[j] {
					if has[x] && d.IntN(40) > 0 || !has[x] && d.IntN(40*jobs/2) == 0 {
						found.Rights[name] = append(found.Rights[name], x)
					}
				}
			}
		}
		proposal := target.Propose("box", &carries, s, found, ownerOf, likeNobody)
		operations := map[string]string{}
		for _, r := range proposal.Roles {
			operations[r.ID] = fmt.Sprint(r.Operations)
		}
		groups := map[string]bool{}
		for _, g := range proposal.Groups {
			var has []string
			for _, gr := range proposal.Grants {
				if slices.Contains(gr.To, "group:"+g.ID) {
					for _, place := range gr.Places {
						has = append(has, fmt.Sprintf("%s %d", operations[gr.Role], place))
					}
				}
			}
			slices.Sort(has)
			groups[fmt.Sprint(has)] = true
		}
		for _, r := range rights {
			var has []string
			for _, x := range r {
				has = append(has, fmt.Sprintf("%s %d", carries.Natives[x.Native].Gives, x.Place))
			}
			slices.Sort(has)
			planted++
			if groups[fmt.Sprint(has)] {
				again++
			}
		}
		assert.NotEmpty(t, proposal.Apart)
		assert.Less(t, len(proposal.Grants), proposal.Replaced)
	}
	t.Logf("%d of %d found again", again, planted)
	assert.GreaterOrEqual(t, again, planted*19/20)
}
