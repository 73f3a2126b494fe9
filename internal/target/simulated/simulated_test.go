package simulated

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/standin"
	"hiddengate/internal/survey"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// policy draws a policy.
func (b *bench) policy(d *rand.Rand) string {
	var out strings.Builder
	out.WriteString("hidden-gate: 1\nedition: 2\nsystems: {real: {kind: " + b.serves + ", precedence: [r0, r1], " +
		"resources: {accounts: {}")
	for _, p := range b.places[:len(b.places)-1] {
		fmt.Fprintf(&out, ", %q: {type: %s}", p.Path, p.Type)
	}
	for i := range people / 2 {
		fmt.Fprintf(&out, ", accounts/own.%d: {owner: p%d}", i, i)
	}
	out.WriteString("}}}\n" + targettest.People(b.public))
	operations := []string{"only use", "only view", "*", "account.*", "role.*"}
	for _, n := range b.natives {
		operations = append(operations, n.Gives...)
	}
	where := []string{"real", "real", "everything"}
	for _, p := range b.places[:len(b.places)-1] {
		where = append(where, "real:"+p.Path)
	}
	when := []string{"", "", "", "", ", when: {mfa: true}", ", when: {signed-in-within: 1h}", ", ends: 2020-01-01"}
	out.WriteString(
		targettest.Rules(d, operations, []string{"group:g0", "group:g1", "group:g2", "p0", "p3", "p5", "everyone"},
			where, when),
	)
	return out.String()
}

func rounds() int {
	if testing.Short() {
		return 2
	}
	return 12
}

// Whatever a policy says, each stand-in says after a push, and after the next: every account is asked about everything,
// and signs in and does everything that it may.
func TestEachStandInSaysWhatThePolicySays(t *testing.T) {
	for name, of := range trials {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			asked, done := 0, 0
			had := map[string]int{}
			for round := range rounds() {
				d := rand.New(rand.NewPCG(uint64(round), 7))
				b := newBench(t, of)
				for edit := range 3 {
					text := b.policy(d)
					g := targettest.Load(t, text)
					plan := b.Push(g)
					a, tried, wrong := b.Ask(g)
					require.Empty(t, wrong, "round %d\n%s\n%s", round, text, targettest.Texts(plan))
					require.Equal(t, a, tried)
					asked += a
					if edit == 2 && round%4 == 0 {
						done += b.doEverything(g)
					}
				}
				for operation, n := range b.Allowed {
					had[operation] += n
				}
			}
			t.Logf("%s: %d were rehearsed, and %d done by whoever signed in", name, asked, done)
			if !testing.Short() {
				assert.Greater(t, asked, 5_000)
				assert.Greater(t, done, 500)
				targettest.EachIsGiven(t, &Named(name).Carries, had)
			}
		})
	}
}

// doEverything has everybody sign in and do everything there is, as far as they may, and tells how much was tried.
func (b *bench) doEverything(g *gate.Gate) (tried int) {
	snap, err := b.system.Read(b.T.Context())
	require.NoError(b.T, err)
	w := b.Arrange(g, snap, nil).Wanted
	people, some := map[string]doer{}, map[string]bool{}
	for q := range targettest.Everything(w) {
		account := q.Holder.Account
		if _, known := people[account]; !known {
			people[account] = b.signIn(account, q.Holder.Subject.ID)
			if has := snap.(*snapshot).access.Accounts[account]; has.Locked {
				require.Nil(b.T, people[account], "%s signs in and is locked", account)
			}
		}
		line := b.line(q.Operation, snap.(*snapshot).pathOf(q.Place))
		require.Equal(b.T, q.Expected, people[account].could(b.T, line), "%s %s", account, line)
		some[account] = some[account] || q.Expected
		tried++
	}
	for _, h := range w.Holders { // who may nothing is locked out, and who ends, ends there too
		has := snap.(*snapshot).access.Accounts[h.Account]
		require.Equal(b.T, !some[h.Account], has.Locked, h.Account)
		if h.Ends != clock.End {
			require.NotNil(b.T, has.Ends, h.Account)
			require.True(b.T, h.Ends.Time().Equal(*has.Ends), h.Account)
		} else {
			require.Nil(b.T, has.Ends, h.Account)
		}
	}
	return tried
}

// drifting is a policy for a stand-in with what can drift from it.
type drifting struct {
	*trial
	here, there string // two places of one type
	// The operations and rights: noor has the first two at both places, and with tomas the last two here.
	operations, rights []string
}

func driftingOf(of *trial) *drifting {
	d := &drifting{trial: of, here: of.places[0].Path}
	for _, p := range of.places[1 : len(of.places)-1] {
		if p.Type == of.places[0].Type {
			d.there = p.Path
		}
	}
	for _, n := range of.natives {
		if slices.Contains(n.Types, of.places[0].Type) && len(d.rights) < 4 {
			d.operations, d.rights = append(d.operations, n.Gives[0]), append(d.rights, n.Name)
		}
	}
	return d
}

func (d *drifting) policy() string {
	return fmt.Sprintf(`hidden-gate: 1
edition: 2
systems: {real: {kind: %[1]s, resources: {%[2]s: {type: %[4]s}, %[3]s: {type: %[4]s}, accounts: {},
  accounts/noor: {owner: noor}}}}
people: {noor: {}, tomas: {}}
roles: {sight: {allow: [%[5]s, %[6]s]}, work: {allow: [%[6]s, %[7]s]}}
grants:
  noor-sees: {to: [noor], role: sight, on: [real:%[2]s, real:%[3]s]}
  both-work: {to: [noor, tomas], role: work, on: [real:%[2]s]}
`, d.serves, d.here, d.there, d.places[0].Type, d.operations[0], d.operations[1], d.operations[2])
}

// drift is a change by hand, and an answer that tells it; "" if no account gets or lacks anything by it.
type drift struct {
	how func(x *standin.Access)
	why string
}

// drifts are changes by hand.
func (d *drifting) drifts() map[string]drift {
	wider := func(account, operation, at, why string) string {
		return fmt.Sprintf("%s %s real:%s: system true, policy false (%s)", account, operation, at, why)
	}
	lacks := func(account, operation, at, why string) string {
		return fmt.Sprintf("%s %s real:%s: system false, policy true (%s)", account, operation, at, why)
	}
	made, right, operation := "hgate:real:both-work", d.rights[2], d.operations[2]
	out := map[string]drift{
		"another team": {func(x *standin.Access) {
			x.Teams["old crew"] = &standin.Team{Members: []string{"noor", "stranger"},
				Permits: standin.Permits{d.there: {d.rights[0], right}}}
		}, wider("noor", operation, d.there, "member of "+d.team+" old crew, which has "+right)},
		"everybody": {func(x *standin.Access) { x.Everybody = standin.Permits{d.there: {right}} },
			wider("tomas", operation, d.there, "everybody has "+right)},
		"a keeper": {func(x *standin.Access) { x.Accounts["noor"].Keeper = true },
			wider("noor", operation, d.there, "the account is a keeper")},
		"a lock": {func(x *standin.Access) { x.Accounts["noor"].Locked = true },
			lacks("noor", operation, d.here, "the account is locked")},
		"an end": {func(x *standin.Access) { at := time.Unix(0, 0).UTC(); x.Accounts["tomas"].Ends = &at },
			lacks("tomas", operation, d.here, "the account has ended")},
		"a team emptied": {func(x *standin.Access) { x.Teams[made].Members = nil },
			lacks("tomas", operation, d.here, "nothing there gives it")},
		"a team lost": {func(x *standin.Access) { delete(x.Teams, made) },
			lacks("tomas", operation, d.here, "nothing there gives it")},
		"a team widened": {func(x *standin.Access) { x.Teams[made].Permits[d.there] = []string{right} },
			wider("tomas", operation, d.there, "member of "+d.team+" "+made+", which has "+right)},
		"a team given to another": {func(x *standin.Access) {
			x.Teams[made].Members = append(x.Teams[made].Members, "stranger")
		}, ""},
		"a team of nobody's": {func(x *standin.Access) {
			x.Teams["hgate:real:old"] = &standin.Team{Note: "hgate real grant old", Permits: standin.Permits{d.here: {right}}}
		}, ""},
		"an account of nobody's": {func(x *standin.Access) {
			x.Accounts["late"] = &standin.Account{Note: "hgate real account"}
		}, ""},
	}
	if d.alone {
		out["a right of one"] = drift{func(x *standin.Access) {
			x.Accounts["noor"].Permits = standin.Permits{d.there: {right}}
		}, wider("noor", operation, d.there, "the account itself has "+right)}
		out["a right on all inside"] = drift{func(x *standin.Access) {
			x.Accounts["noor"].Permits = standin.Permits{"*": {d.rights[3]}}
		}, wider("noor", d.operations[3], d.there, "the account itself has "+d.rights[3])}
	}
	if d.keys {
		out["a key"] = drift{func(x *standin.Access) {
			x.Accounts["tomas"].Keys = []string{"ssh-ed25519 " +
				"AAAAC3NzaC1lZDI1NTE5AAAAIEl6CnpcVOYU2qRTIUBz6G6w4j1W4TiYZlIHmXmo94Xk"}
		}, ""}
	}
	if d.ranks != "" {
		out["a rank"] = drift{func(x *standin.Access) { x.Accounts["tomas"].Ranks = map[string]int{d.here: 1} }, ""}
	}
	return out
}

// Whatever somebody changes by hand is found, named and undone, and an account that the policy does not name keeps all.
func TestDriftInAStandInIsFoundNamedAndUndone(t *testing.T) {
	for name, of := range trials {
		d := driftingOf(of)
		g := targettest.Load(t, d.policy())
		stranger := &standin.Account{Permits: standin.Permits{"*": d.rights[:2]}}
		if !of.alone {
			stranger = &standin.Account{}
		}
		for drift, one := range d.drifts() {
			t.Run(name+" "+drift, func(t *testing.T) {
				b := newBench(t, of)
				b.change(func(x *standin.Access) { x.Accounts["stranger"] = stranger })
				b.Push(g)
				_, _, wrong := b.Ask(g)
				require.Empty(t, wrong)
				b.change(one.how)
				_, _, wrong = b.Ask(g)
				if one.why != "" {
					require.Contains(t, wrong, one.why, "%s", strings.Join(wrong, "\n"))
				}
				plan := b.Push(g)
				require.NotEmpty(t, plan.Statements)
				_, _, wrong = b.Ask(g)
				require.Empty(t, wrong)
				v, err := b.system.client.read(t.Context())
				require.NoError(t, err)
				assert.Equal(t, stranger, v.Settings.Accounts["stranger"])
				assert.True(t, v.Settings.Accounts[standin.Keeper].Keeper)
			})
		}
	}
}

// cutOff breaks off while it replaces the settings.
type cutOff struct{ client }

func (cutOff) replace(context.Context, *replacement) error { return io.ErrUnexpectedEOF }

// A push does nothing if somebody was there meanwhile, and takes itself back if the stand-in does not do what it is
// told.
func TestAPushToAStandInIsAllOrNothing(t *testing.T) {
	for name, of := range trials {
		t.Run(name, func(t *testing.T) {
			g := targettest.Load(t, driftingOf(of).policy())
			b := newBench(t, of)
			snap, err := b.system.Read(t.Context())
			require.NoError(t, err)
			plan := snap.Plan(b.Arrange(g, snap, nil))
			before, err := b.system.client.read(t.Context())
			require.NoError(t, err)
			wrong := fmt.Errorf("it is not as it should be")
			require.ErrorIs(t, b.system.Write(t.Context(), snap, plan, func(target.Snapshot) error { return wrong }), wrong)
			after, err := b.system.client.read(t.Context())
			require.NoError(t, err)
			assert.Equal(t, before, after)
			b.change(func(x *standin.Access) { x.Accounts["stranger"] = &standin.Account{} })
			require.ErrorIs(t, b.system.Write(t.Context(), snap, plan, nil), target.ErrChanged)
			cut := &system{of.kind, "real", cutOff{b.system.client}} // nobody knows what has come of it
			require.ErrorIs(t, cut.Write(t.Context(), snap, plan, nil), target.ErrPartly)
		})
	}
}

// Whoever takes the control of a device from another, or does not, is whom the policy's precedence says.
func TestTheControlGoesToWhomThePolicySays(t *testing.T) {
	taken, kept := 0, 0
	for round := range 3 * rounds() {
		d := rand.New(rand.NewPCG(uint64(round), 5))
		b := newBench(t, trials["device"])
		g := targettest.Load(t, b.policy(d))
		b.Push(g)
		snap, err := b.system.Read(t.Context())
		require.NoError(t, err)
		w := b.Arrange(g, snap, nil).Wanted
		c := g.NewContext()
		c.Time(targettest.At)
		may := map[int][]*target.Holder{}
		for q := range targettest.Everything(w) {
			if q.Operation == "control.take" && q.Expected {
				may[q.Place] = append(may[q.Place], q.Holder)
			}
		}
		for place, holders := range may {
			for i := 1; i < len(holders) && i < 4; i++ {
				first, then := holders[i-1], holders[i]
				of := survey.Contested{Operation: "control.take", Resource: g.Estate().Tree.At(
					g.Estate().Tree.Find(snap.State().Address("real", place).String())), Context: c,
					Who: []estate.Principal{first.Subject, then.Subject}, Holder: &first.Subject}
				all, _, err := survey.Contest(g, of)
				require.NoError(t, err)
				at := snap.(*snapshot).pathOf(place)
				one, other := b.signIn(first.Account, first.Subject.ID), b.signIn(then.Account, then.Subject.ID)
				require.NoError(t, one[0]("take control at "+at))
				err = other[0]("take control at " + at)
				require.Equal(
					t,
					all[0].Who == then.Subject,
					err == nil,
					"%s takes it from %s: %v",
					then.Account,
					first.Account,
					err,
				)
				if err == nil {
					taken++
					one = other
				} else {
					kept++
				}
				require.NoError(t, one[0]("leave control at "+at))
			}
		}
	}
	assert.Positive(t, kept)
	if !testing.Short() {
		assert.Positive(t, taken)
	}
}

// What a stand-in gives to whom is what is pulled of it.
func TestWhatIsFoundInAStandInIsWhatItGives(t *testing.T) {
	for name, of := range trials {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for round := range rounds() / 2 {
				b := newBench(t, of)
				b.Push(targettest.Load(t, b.policy(rand.New(rand.NewPCG(uint64(round), 11)))))
				first, right := of.places[0].Path, of.natives[0].Name
				b.change(func(x *standin.Access) {
					x.Everybody = standin.Permits{first: {of.natives[1].Name}}
					x.Accounts["old"] = &standin.Account{}
					if x.Teams == nil {
						x.Teams = map[string]*standin.Team{}
					}
					x.Teams["old"] = &standin.Team{Members: []string{"old"}, Permits: standin.Permits{first + "/*": {right}}}
				})
				b.foundIsGiven()
			}
		})
	}
}

// foundIsGiven asks as everybody whether they have what was found, and nothing else.
func (b *bench) foundIsGiven() {
	taken, err := b.system.Read(b.T.Context())
	require.NoError(b.T, err)
	snap := taken.(*snapshot)
	found := snap.Found()
	for account, is := range snap.access.Accounts {
		if account == standin.Keeper || is.Locked || is.Ends != nil {
			continue
		}
		has := slices.Concat(found.Rights[account], found.Rights[target.Everybody])
		for _, group := range found.Groups {
			if slices.Contains(group.Accounts, account) {
				has = append(has, found.Rights[group.Name]...)
			}
		}
		var lines []string
		var rights []target.Right
		for place := range snap.state.Places {
			for n := range b.natives {
				if _, fits := snap.fits(b.natives[n].Name, place); fits {
					rights = append(rights, target.Right{Native: n, Place: place})
					lines = append(lines, b.line(b.natives[n].Gives[0], snap.pathOf(place)))
				}
			}
		}
		could, err := b.system.client.rehearse(b.T.Context(), account, lines)
		require.NoError(b.T, err)
		for i, x := range rights {
			require.Equal(b.T, could[i], slices.Contains(has, x), "%s %s", account, lines[i])
		}
	}
}

// A first password has to be changed before anything else, and is then the account's own.
func TestAFirstPasswordHasToBeChanged(t *testing.T) {
	g := targettest.Load(t, driftingOf(trials["network"]).policy())
	b := newBench(t, trials["network"])
	plan := b.Push(g)
	require.Equal(t, []string{"noor", "tomas"}, plan.First)
	first := b.First["noor"]
	assert.NotContains(t, targettest.Texts(plan)+plan.Script, first)
	reached, err := b.reach(t, "noor", first)
	require.NoError(t, err)
	c := reached.client.(*networkClient)
	_, err = c.say(t.Context(), "see devices at summit", nil)
	require.ErrorContains(t, err, "Choose your own password first")
	change := func(lines string) (string, error) {
		s, err := c.ssh.NewSession()
		require.NoError(t, err)
		s.Stdin = strings.NewReader(lines)
		out, err := s.Output("password")
		return string(out), err
	}
	said, err := change(first + "\n" + first + "\n")
	require.Error(t, err)
	assert.Contains(t, said, "another than the one that you were given")
	said, err = change("a new one for noor\nanother for noor\n")
	require.Error(t, err)
	assert.Contains(t, said, "not the same")
	_, err = change("a new one for noor\na new one for noor\n")
	require.NoError(t, err)
	_, err = c.say(t.Context(), "see devices at summit", nil)
	require.NoError(t, err)
	_, err = b.reach(t, "noor", first)
	require.Error(t, err)
	_, err = b.reach(t, "noor", "a new one for noor")
	require.NoError(t, err)
}

// What somebody else named as hgate would is theirs: it keeps its note and what it permits, and is told of.
func TestWhatOthersNamedSoIsTheirs(t *testing.T) {
	for name, of := range trials {
		t.Run(name, func(t *testing.T) {
			g := targettest.Load(t, driftingOf(of).policy())
			b := newBench(t, of)
			b.Push(g)
			snap, err := b.system.Read(t.Context())
			require.NoError(t, err)
			b.change(func(x *standin.Access) {
				require.NotEmpty(t, x.Teams)
				for _, team := range x.Teams {
					team.Note, team.Permits = "somebody's own", standin.Permits{}
				}
				for account := range x.Accounts { // who would have by it what the teams for grants do not give
					if !of.kind.alone {
						x.Teams[snap.(*snapshot).teamName("own:"+account)] = &standin.Team{Note: "somebody's own"}
					}
				}
			})
			snap, err = b.system.Read(t.Context())
			require.NoError(t, err)
			plan := snap.Plan(b.Arrange(g, snap, nil))
			require.NotEmpty(t, plan.Left)
			var next standin.Access
			require.NoError(t, json.Unmarshal([]byte(plan.Script), &next))
			for id, team := range snap.(*snapshot).access.Teams {
				assert.Equal(t, team.Note, next.Teams[id].Note, id)
				assert.Equal(t, team.Permits, next.Teams[id].Permits, id)
			}
		})
	}
}
