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

// markOfLever is a mark on a lever, which has the account of its owner and a side; both may be missing.
type markOfLever struct{ id, owner, side string }

var owners = map[string]string{"": "", "p0": "p0", "other": "p1", "more": "p1", "p3": "p3"}

// marksPolicy is policy with marks in the first lever, which the policy tells apart and lists.
func marksPolicy(d *rand.Rand) (text string, marks []markOfLever) {
	var listed strings.Builder
	for _, owner := range []string{"-", "", "p0", "other", "more", "p3"} {
		for _, side := range []string{"-", "", "up", "down", "none"} {
			one := markOfLever{fmt.Sprintf("m%d", len(marks)), owner, side}
			marks = append(marks, one)
			fmt.Fprintf(&listed, ", l0/%s: {type: lever", one.id)
			if owner != "-" {
				fmt.Fprintf(&listed, ", owner: %q", owners[owner])
			}
			if side != "-" {
				fmt.Fprintf(&listed, ", tags: {side: %q}", side)
			}
			listed.WriteString("}")
		}
	}
	text = strings.Replace(policy(d), ", l0: {", listed.String()+
		", accounts/more: {owner: p1}, l0: {rows: {owner: who, tags: {side: side}}, ", 1)
	return text, marks
}

// fits says whether a mark is in a class, for an account.
func (m markOfLever) fits(c *target.RowClass, account string) bool {
	for i, text := range []string{m.owner, m.side} {
		column := c.Columns[i]
		ok := false
		switch column.Sort {
		case target.Silent:
			ok = text == "-"
		case target.Text:
			ok = text == column.Value
		case target.Own:
			ok = text == account
		case target.Other:
			ok = text != "-" && text != account && !slices.Contains(column.Told, text)
		}
		if !ok {
			return false
		}
	}
	return true
}

// A system that can be told of some rows of a table gives on each what the policy does; another gives on the table what
// the policy does on the table and on each of its rows.
func TestRowsAreToldApart(t *testing.T) {
	onRows := carries
	onRows.Natives = slices.Clone(carries.Natives)
	onRows.Natives[0].OnRows, onRows.Natives[1].OnRows = true, true
	some, withheld, narrower := 0, 0, 0
	for seed := range uint64(300) {
		text, marks := marksPolicy(rand.New(rand.NewPCG(seed, 4)))
		g := targettest.Load(t, text)
		c := g.NewContext()
		c.Time(targettest.At)
		allows := func(who estate.Principal, native target.Native, address string) bool {
			return !slices.ContainsFunc(native.Gives, func(operation string) bool {
				outcome, err := g.Decide(gate.Request{Subject: who, Operation: operation, Resource: address, Context: c})
				require.NoError(t, err)
				return outcome != gate.Allow
			})
		}
		s := state()
		s.Accounts = append(s.Accounts, target.Account{Name: "other"}, target.Account{Name: "more"})
		if seed%2 == 0 { // whatever an inventory says, this driver cannot tell the system of rows
			s.Places[1].Rows = g.Estate().Tree.Entry(g.Estate().Tree.Find("box:l0")).Rows
		}
		w, err := target.Work(t.Context(), target.Task{Gate: g, System: "box", At: targettest.At, Carries: &carries, State: s,
			Create: true})
		require.NoError(t, err)
		everything := target.Native{Gives: []string{"lever.look", "lever.pull", "lever.lock"}}
		for _, h := range w.Holders {
			assert.Equal(t, allows(h.Subject, everything, "box:l0") && !slices.ContainsFunc(marks, func(m markOfLever) bool {
				return !allows(h.Subject, everything, "box:l0/"+m.id)
			}), w.AllowsAll(h, 1), "%s\n%s", h.Account, text)
			for k, native := range carries.Natives {
				table := allows(h.Subject, native, "box:l0")
				all := table && !slices.ContainsFunc(marks, func(m markOfLever) bool {
					return !allows(h.Subject, native, "box:l0/"+m.id)
				})
				has := w.Mask(h, 1)&(1<<k) != 0
				if has {
					assert.True(t, all, "%s %s\n%s", h.Account, native.Name, text)
				} else if table {
					withheld++
				}
			}
		}
		for _, c := range w.Fidelity() { // whoever has something on some rows is counted, and why they get less is said
			if c.Place != 1 || c.How != target.Narrower {
				continue
			}
			has := 0
			for _, h := range w.Holders {
				one := target.Native{Gives: []string{c.Operation}}
				if allows(h.Subject, one, "box:l0") || slices.ContainsFunc(marks, func(m markOfLever) bool {
					return allows(h.Subject, one, "box:l0/"+m.id)
				}) {
					has++
				}
			}
			assert.GreaterOrEqual(t, c.Subjects, has, "%s\n%s", c.Operation, text)
			if strings.Contains(c.Why, "of single rows") {
				narrower++
			}
		}
		s.Places[1].Rows = g.Estate().Tree.Entry(g.Estate().Tree.Find("box:l0")).Rows
		w, err = target.Work(t.Context(), target.Task{Gate: g, System: "box", At: targettest.At, Carries: &onRows, State: s,
			Create: true})
		require.NoError(t, err)
		require.Len(t, s.Places, levers+1, "the state is the driver's")
		a, err := w.Arrange(t.Context())
		require.NoError(t, err)
		for _, h := range a.Holders {
			for place, at := range a.State.Places {
				if at.Class == nil {
					continue
				}
				for _, m := range marks {
					if !m.fits(at.Class, h.Account) {
						continue
					}
					for k, native := range onRows.Natives[:2] {
						may := allows(h.Subject, native, "box:l0/"+m.id)
						assert.Equal(t, may, a.Mask(h, place)&(1<<k) != 0, "%s %s %v\n%s", h.Account, native.Name, m, text)
						if may {
							some++
						}
					}
				}
			}
		}
	}
	assert.Positive(t, some)
	assert.Positive(t, withheld)
	assert.Positive(t, narrower)
}

// Of a table whose rows fall into more classes than are told apart, nothing is given.
func TestOfTooManyClassesNothingIsGiven(t *testing.T) {
	for many, given := range map[int]bool{500: true, 600: false} {
		var sides []string
		for i := range many {
			sides = append(sides, fmt.Sprint("s", i))
		}
		g := targettest.Load(
			t,
			kind+"systems: {box: {kind: signal-box, resources: {accounts: {}, l0: {rows: {tags: {side: side}}}, "+
				"l1: {}}}}\npeople: {p0: {}}\nroles: {r: {allow: ['*']}}\ngrants: {g: {to: p0, role: r, on: box}, "+
				"h: {to: p0, role: r, on: {in: box, tags: {side: ["+strings.Join(sides, ", ")+"]}}}}\n",
		)
		s := state()
		w, err := target.Work(t.Context(), target.Task{Gate: g, System: "box", At: targettest.At, Carries: &carries, State: s,
			Create: true})
		require.NoError(t, err)
		require.Len(t, w.Holders, 1)
		assert.Equal(t, given, w.Mask(w.Holders[0], 1) != 0)
		assert.Equal(t, given, w.AllowsAll(w.Holders[0], 1))
		assert.NotZero(t, w.Mask(w.Holders[0], 2), "the other lever has no rows")
	}
}
