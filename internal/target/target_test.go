package target_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/target"
)

// carries is a made-up driver for a made-up kind: a signal box with levers.
var carries = target.Carries{
	Natives: []target.Native{
		{Name: "look", Types: []string{"box", "lever"}, Gives: []string{"lever.look"}},
		{Name: "pull", Types: []string{"lever"}, Gives: []string{"lever.pull"}},
		{Name: "master key", Types: []string{"lever"}, Gives: []string{"lever.pull", "lever.lock", "lever.look"}},
	},
	Notes: []target.Note{{Operation: "bell.hear", How: target.ToEverybody, Why: "everybody hears it"}},
}

const kind = `hidden-gate: 1
edition: 2
catalogs:
  signal-box:
    about: A box with levers
    types: [box, lever]
    named: {accounts: accounts}
    inside: {accounts: account}
    operations:
      lever.look: {level: view, about: Look at levers}
      lever.pull: {level: use, types: [lever], about: Pull a lever}
      lever.lock: {level: change, types: [lever], about: Lock a lever}
      bell.hear: {level: view, types: [box], about: Hear the bell}
`

// levers is how many levers the box has; the last is in no inventory.
const levers = 6

func state() *target.State {
	s := &target.State{Places: []target.Place{{Path: "", Type: "box"}}}
	for i := range levers {
		s.Places = append(s.Places, target.Place{Path: fmt.Sprintf("l%d", i), Type: "lever"})
	}
	s.Accounts = []target.Account{{Name: "p0", Made: true}, {Name: "p3"}, {Name: "root", Reserved: true}}
	return s
}

func policy(d *rand.Rand) string {
	var b strings.Builder
	b.WriteString(kind + "systems: {box: {kind: signal-box, resources: {accounts: {}, accounts/other: {owner: p1}, " +
		"accounts/root: {owner: p2}")
	for i := range levers - 1 {
		fmt.Fprintf(&b, ", l%d: {tags: {side: %s}, owner: p%d}", i, []string{"up", "down"}[i%2], i%4)
	}
	b.WriteString("}}}\npeople: {p0: {}, p1: {ends: 2040-01-01}, p2: {}, p3: {}, p4: {status: suspended}}\n" +
		"groups: {g: {members: [p0, p1, p3]}}\nroles:\n")
	pick := func(list ...string) string { return list[d.IntN(len(list))] }
	for i := range 4 {
		fmt.Fprintf(&b, "  r%d: {allow: [%s, %s]}\n", i, pick("lever.look", "lever.pull", "lever.lock", "bell.hear"),
			pick("lever.look", "lever.pull", "lever.lock", "up to change"))
	}
	b.WriteString("grants:\n")
	for i := range 1 + d.IntN(6) {
		fmt.Fprintf(&b, "  g%d: {to: [%s], role: r%d, on: [%s]%s}\n", i,
			pick("group:g", "p0", "p1", "p3", "everyone"), d.IntN(4),
			pick("box", "'box:l0'", "'box:l1'", "{in: box, tags: {side: up}}", "everything"),
			pick("", "", "", ", when: {mfa: true}", ", when: {owner: true}"))
	}
	fmt.Fprintf(&b, "blocks: {b: {to: [%s], deny: [%s], on: ['box:l%d']}}\n", pick("p0", "group:g"),
		pick("lever.pull", "from view"), d.IntN(levers-1))
	return b.String()
}

// What roles and rights together give an account is what the policy gives it, no more and no less, each with a grant
// that gives it; and the interface holds for a system that nobody thought of.
func TestAnArrangementGivesWhatThePolicyGives(t *testing.T) {
	at := clock.Instant(1_900_000_000_000_000)
	roles, direct, given := 0, 0, 0
	for seed := range 400 {
		d := rand.New(rand.NewPCG(uint64(seed), 1))
		text := policy(d)
		e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
		require.NoError(t, err, text)
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		s := state()
		w, err := target.Work(t.Context(), target.Task{Gate: g, System: "box", At: at, Carries: &carries, State: s,
			Create: true})
		require.NoError(t, err)
		a, err := w.Arrange(t.Context())
		require.NoError(t, err)
		assert.Equal(t, []string{"root"}, w.Reserved)
		for _, h := range w.Holders {
			assert.NotContains(t, []string{"root", "p3"}, h.Account, "an account that nobody said is theirs")
			has := map[target.Right]bool{}
			for _, r := range a.RolesOf(h.Account) {
				roles++
				assert.Contains(t, r.Members, h.Account)
				for _, x := range r.Rights {
					has[x] = true
				}
			}
			for _, x := range a.Direct[h.Account] {
				direct++
				assert.False(t, has[x.Right], "given twice: %s", text)
				assert.NotEmpty(t, x.Grants, text)
				for _, id := range x.Grants {
					if r := e.Listed(s.Address("box", x.Place)); r != nil {
						assert.True(t, g.Covers(e.Grants[id].On, r), "%s on %s", id, r.Address)
					}
				}
				has[x.Right] = true
			}
			for place, p := range s.Places {
				for n, native := range carries.Natives {
					want := place < levers && slices.Contains(native.Types, p.Type) // the last is in no inventory
					for _, operation := range native.Gives {
						c := g.NewContext()
						c.Time(at)
						want = want && decided(t, g, h.Subject, operation, s.Address("box", place), c)
					}
					require.Equal(t, want, has[target.Right{Native: n, Place: place}], "seed %d: %s %s on %s\n%s", seed,
						h.Account, native.Name, p.Path, text)
					if want {
						given++
					}
				}
			}
		}
		faithful(t, w, g, at, text)
	}
	assert.Greater(t, min(roles, direct, given), 200)
}

func decided(t *testing.T, g *gate.Gate, who estate.Principal, operation string, at estate.Address,
	c *gate.Context,
) bool {
	outcome, err := g.Decide(gate.Request{Subject: who, Operation: operation, Resource: at.String(), Context: c})
	require.NoError(t, err)
	return outcome == gate.Allow
}

// faithful holds the fidelity report against the decisions.
func faithful(t *testing.T, w *target.Wanted, g *gate.Gate, at clock.Instant, text string) {
	for _, c := range w.Fidelity() {
		allowed, possible := 0, 0
		for _, h := range w.Holders {
			outcome, ok := w.Outcome(h, c.Operation, c.Place)
			require.True(t, ok)
			asked := g.NewContext()
			asked.Time(at)
			require.Equal(t, outcome == gate.Allow,
				decided(t, g, h.Subject, c.Operation, w.State.Address("box", c.Place), asked))
			if outcome == gate.Allow {
				allowed++
			}
			if outcome != gate.Deny {
				possible++
			}
		}
		assert.Equal(t, possible, c.Subjects, text)
		switch c.How {
		case target.AsWritten:
			assert.Equal(t, possible, allowed, text)
		case target.Narrower:
			assert.NotEmpty(t, c.Why)
		case target.ToEverybody:
			assert.Equal(t, "bell.hear", c.Operation)
		}
	}
}

// Answers that are not as expected are told once for all accounts that share them.
func TestDifferencesOfOneCauseAreToldOnce(t *testing.T) {
	ana, bo := &target.Holder{Account: "ana"}, &target.Holder{Account: "bo"}
	answer := func(h *target.Holder, operation string, place int, why string) target.Answer {
		q := target.Question{Holder: h, Operation: operation, Place: place}
		return target.Answer{Question: q, Allowed: true, Why: why}
	}
	got := target.Group([]target.Answer{answer(ana, "x", 1, "p"), answer(ana, "y", 1, "p"), answer(ana, "x", 2, "q"),
		answer(bo, "x", 1, "p"), answer(bo, "y", 1, "p"), answer(bo, "x", 3, "q")})
	require.Len(t, got, 3)
	assert.Equal(t, []string{"ana", "bo"}, got[0].Accounts)
	assert.Equal(t, []string{"x", "y"}, got[0].Operations)
	assert.Equal(t, []int{2}, got[1].Places)
	assert.Equal(t, []string{"bo"}, got[2].Accounts)
}

// Whatever the answers are, their differences tell each of them once, and nothing else.
func TestDifferencesTellExactlyTheAnswers(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		want := map[string]bool{}
		var answers []target.Answer
		for account := range 3 {
			for place := range 4 {
				for operation := range 3 {
					why := rapid.IntRange(0, 3).Draw(t, "why")
					if why == 0 {
						continue
					}
					q := target.Question{Holder: &target.Holder{Account: fmt.Sprint("a", account)}, Place: place,
						Operation: fmt.Sprint("o", operation)}
					one := target.Answer{Question: q, Allowed: why == 1, Why: fmt.Sprint("because ", why)}
					answers = append(answers, one)
					want[fmt.Sprint(q.Holder.Account, q.Operation, place, one.Allowed, one.Why)] = true
				}
			}
		}
		for _, d := range target.Group(answers) {
			for _, account := range d.Accounts {
				for _, operation := range d.Operations {
					for _, place := range d.Places {
						key := fmt.Sprint(account, operation, place, d.Allowed, d.Why)
						require.True(t, want[key], key)
						delete(want, key)
					}
				}
			}
		}
		require.Empty(t, want)
	})
}

// What a system gives to everybody who gets in is told where a test or a guarantee forbids it to somebody who does, and
// only there.
func TestWhatEverybodyHasIsHeldAgainstTestsAndGuarantees(t *testing.T) {
	for says, want := range map[string]string{
		"tests: {t: {who: p0, denied: bell.hear on box}}":                          "test t p0",
		"tests: {t: {who: group:g, denied: '* on box'}}":                           "test t p0",
		"tests: {t: {who: p3, denied: bell.hear on box}}":                          "",
		"tests: {t: {who: p0, denied: lever.look on box:l0}}":                      "",
		"tests: {t: {levels: {p0: {box: none}}}}":                                  "test t p0",
		"tests: {t: {levels: {p0: {box: view}}}}":                                  "",
		"guarantees: {n: {never: p0, may: bell.hear, on: box}}":                    "guarantee n p0",
		"guarantees: {n: {never: p3, may: bell.hear, on: box}}":                    "",
		"guarantees: {n: {never: p0, may: bell.hear, on: 'box:l0'}}":               "",
		"guarantees: {n: {only: group:g, may: bell.hear, on: box}}":                "",
		"guarantees: {n: {only: p1, may: bell.hear, on: box}}":                     "guarantee n p0",
		"guarantees: {n: {at-most: 1, may: bell.hear, on: box}}":                   "guarantee n p1",
		"guarantees: {n: {at-most: 2, may: bell.hear, on: box}}":                   "",
		"guarantees: {n: {at-least: 1, may: bell.hear, on: box}}":                  "",
		"guarantees: {n: {may: bell.hear, on: everything, requires: {mfa: true}}}": "guarantee n p0",
	} {
		text := kind + "systems: {box: {kind: signal-box, resources: {l0: {}, accounts: {}, accounts/p0: {owner: p0}, " +
			"accounts/p1: {owner: p1}, accounts/p3: {owner: p3}}}}\npeople: {p0: {}, p1: {}, p3: {}}\n" +
			"groups: {g: {members: [p0, p1]}}\nroles: {looks: {allow: lever.look}}\n" +
			"grants: {all-look: {to: group:g, role: looks, on: box}}\n" + says
		e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
		require.NoError(t, err, text)
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		w, err := target.Work(t.Context(), target.Task{Gate: g, System: "box", At: 1_900_000_000_000_000,
			Carries: &carries, State: state()})
		require.NoError(t, err)
		got := ""
		for _, one := range w.Forbidden() {
			assert.Equal(t, "bell.hear", one.Operation)
			assert.Zero(t, one.Place)
			got += one.By + " " + one.Subject.String()
		}
		assert.Equal(t, want, got, says)
	}
}
