// Package targettest holds a driver against policies in tests: it pushes them to a real system, and asks that.
package targettest

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/target"
)

// At is when everything is pushed: 2030-03-17.
var At = clock.Instant(1_900_000_000_000_000)

// Bench is a real system with policies for it.
type Bench struct {
	T       testing.TB
	Name    string // of the system in the policies
	Carries *target.Carries
	Real    target.System
	Allowed map[string]int // how many answers allowed each operation
	// First are the first passwords that were handed out, by account.
	First map[string]string
}

// New makes a bench.
func New(t testing.TB, name string, carries *target.Carries, real target.System) *Bench {
	return &Bench{T: t, Name: name, Carries: carries, Real: real, Allowed: map[string]int{}, First: map[string]string{}}
}

// Load reads and compiles a policy of one file.
func Load(t testing.TB, text string) *gate.Gate {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
	require.NoError(t, err, text)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	return g
}

// Arrange says what the system has to give, as it is, with what is lent.
func (b *Bench) Arrange(g *gate.Gate, snap target.Snapshot, lent []estate.Elevation) *target.Arrangement {
	w, err := target.Work(b.T.Context(), target.Task{Gate: g, System: b.Name, At: At, Carries: b.Carries,
		State: snap.State(), Create: true, Lent: lent})
	require.NoError(b.T, err)
	a, err := w.Arrange(b.T.Context())
	require.NoError(b.T, err)
	return a
}

// Push pushes, and gives what was told; nothing may be left to tell.
func (b *Bench) Push(g *gate.Gate) *target.Plan {
	snap, err := b.Real.Read(b.T.Context())
	require.NoError(b.T, err)
	plan := snap.Plan(b.Arrange(g, snap, nil))
	plan.Passwords = map[string]string{}
	for _, account := range plan.First {
		plan.Passwords[account] = "the first of " + account
		b.First[account] = plan.Passwords[account]
	}
	require.NoError(b.T, b.Real.Write(b.T.Context(), snap, plan, func(is target.Snapshot) error {
		if again := is.Plan(b.Arrange(g, is, nil)); len(again.Statements) > 0 {
			return fmt.Errorf("left: %s", Texts(again))
		}
		return nil
	}), "%s", Texts(plan))
	return plan
}

// Texts tells what a plan says and leaves, in lines.
func Texts(p *target.Plan) string {
	var out []string
	for _, s := range p.Statements {
		out = append(out, string(s.Do)+" "+s.Text)
	}
	return strings.Join(append(out, p.Left...), "\n")
}

// Everything goes through all that can be asked.
func Everything(w *target.Wanted) func(func(target.Question) bool) {
	return w.Questions(func(estate.Principal) bool { return true }, func(int) bool { return true })
}

// Ask asks everything, and gives how much was asked and tried, and what is not as expected.
func (b *Bench) Ask(g *gate.Gate) (asked, tried int, wrong []string) {
	snap, err := b.Real.Read(b.T.Context())
	require.NoError(b.T, err)
	w := b.Arrange(g, snap, nil).Wanted
	require.NoError(b.T, b.Real.Ask(b.T.Context(), snap, Everything(w), func(a target.Answer) bool {
		asked++
		if a.Tried {
			tried++
		}
		if a.Allowed {
			b.Allowed[a.Operation]++
		}
		outcome, _ := w.Outcome(a.Holder, a.Operation, a.Place)
		if a.Allowed && outcome != gate.Allow {
			wrong = append(wrong, "WIDER")
		}
		if !a.Agrees() {
			wrong = append(wrong, fmt.Sprintf("%s %s %s: system %t, policy %t (%s)", a.Holder.Account, a.Operation,
				w.State.Address(b.Name, a.Place), a.Allowed, a.Expected, a.Why))
		}
		return true
	}))
	return asked, tried, wrong
}

// Some draws one to so many of a list, as a list in a file has them.
func Some(d *rand.Rand, list []string, most int) string {
	var chosen []string
	for range 1 + d.IntN(most) {
		chosen = append(chosen, fmt.Sprintf("%q", list[d.IntN(len(list))]))
	}
	return strings.Join(chosen, ", ")
}

// People writes people with their public keys, two of whom end, and groups of them: p0, p1 and so on, somebody who
// begins later and somebody who is suspended.
func People(public map[string]string) string {
	var out strings.Builder
	out.WriteString("people:\n")
	for i := range len(public) {
		id := fmt.Sprintf("p%d", i)
		ends := ""
		if i%4 == 1 {
			ends = ", ends: 2030-03-17"
		}
		fmt.Fprintf(&out, "  %s: {keys: %s%s}\n", id, public[id], ends)
	}
	out.WriteString("  late: {starts: 2037-01-01}\n  gone: {status: suspended}\n")
	out.WriteString("groups: {g0: {members: [p0, p1, p2]}, g1: {members: [p2, p3, p4, late]}, " +
		"g2: {members: [group:g0, p6, gone]}}\n")
	return out.String()
}

// Few is how many people Accounts writes.
const Few = 8

// Accounts writes the end of a list of resources, with accounts of the first half of some people, which have names of
// their own, and then the people and groups of them.
func Accounts(names []string) string {
	var out strings.Builder
	out.WriteString(", accounts: {}")
	for i := range Few / 2 {
		path, _ := target.Escaped(names[i] + " person")
		fmt.Fprintf(&out, ", %q: {owner: p%d}", "accounts/"+path, i)
	}
	out.WriteString("}}}\npeople: {")
	for i := range Few {
		fmt.Fprintf(&out, "p%d: {}, ", i)
	}
	out.WriteString("late: {starts: 2037-01-01}, gone: {status: suspended}}\n" +
		"groups: {g0: {members: [p0, p1, p2]}, g1: {members: [p2, p3, p4, late]}, " +
		"g2: {members: [group:g0, p7, gone]}}\n")
	return out.String()
}

// OfTwoAtOnce pushes what was read at the same time twice, each by a system of its own, and sees that the second is
// refused.
func (b *Bench) OfTwoAtOnce(g *gate.Gate, connect func() target.System) {
	var results [2]error
	var wait, ready sync.WaitGroup
	ready.Add(2)
	for i := range results {
		s := connect()
		defer s.Close()
		was, err := s.Read(b.T.Context())
		require.NoError(b.T, err)
		plan := was.Plan(b.Arrange(g, was, nil))
		require.NotEmpty(b.T, plan.Statements)
		wait.Go(func() {
			ready.Done()
			ready.Wait()
			results[i] = s.Write(b.T.Context(), was, plan, func(target.Snapshot) error { return nil })
		})
	}
	wait.Wait()
	if results[0] == nil {
		results[0], results[1] = results[1], results[0]
	}
	require.ErrorIs(b.T, results[0], target.ErrChanged)
	require.NoError(b.T, results[1])
}

// Rules draws roles, grants and blocks.
func Rules(d *rand.Rand, operations, whom, where, when []string) string {
	var out strings.Builder
	const roles = 6
	out.WriteString("roles:\n")
	for i := range roles {
		fmt.Fprintf(&out, "  r%d: {allow: [%s]}\n", i, Some(d, operations, roles))
	}
	out.WriteString("grants:\n")
	for i := range 2 + d.IntN(8) {
		fmt.Fprintf(&out, "  a-Grant-of-a-rather-long-name-%d: {to: [%s], role: r%d, on: [%s]%s}\n", i, Some(d, whom, 2),
			d.IntN(roles), Some(d, where, 3), when[d.IntN(len(when))])
	}
	out.WriteString("blocks:\n")
	var named []string // those by name, of which one can be taken from what a role allows
	for _, o := range operations {
		if o != "*" {
			named = append(named, o)
		}
	}
	for i := range 1 + d.IntN(2) {
		fmt.Fprintf(&out, "  block-%d: {to: [%s], deny: [%s], on: [%s]}\n", i, Some(d, whom, 1), Some(d, named, 2),
			Some(d, where, 2))
	}
	return out.String()
}

// EachIsGiven sees that every native's operations were allowed to somebody.
func EachIsGiven(t testing.TB, carries *target.Carries, allowed map[string]int) {
	for _, n := range carries.Natives {
		for _, operation := range n.Gives {
			require.Positive(t, allowed[operation], "%s is never given", operation)
		}
	}
}
