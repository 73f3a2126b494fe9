//go:build unix

package linux

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/gate"
	"hiddengate/internal/servers"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// there is what the private servers of these tests have.
const there = `
useradd --system planner
printf 'weather.service enabled -\ndome@1.service enabled -\nnightly.timer enabled -\n' >/etc/units
for p in planner weather seeing; do printf '#!/bin/sh\necho %s\n' $p >/usr/local/bin/$p; done
chmod 755 /usr/local/bin/*
mkdir -p "/srv/frames/raw it's" /srv/notes /opt/plans/old
for f in "/srv/frames/raw it's/a" /srv/frames/b /srv/notes/c /opt/plans/old/d; do echo text >"$f"; chmod 666 "$f"; done
chmod 777 /srv/notes/
`

// listed is what the policies of these tests list of that.
const listed = `services/weather: {type: service}, dome@1: {type: service}, jobs/nightly: {type: job},
  planner: {type: application}, apps/weather: {type: application}, srv/frames: {type: area},
  "srv/frames/raw it's": {type: area}, "srv/frames/raw it's/a": {type: item}, srv/frames/b: {type: item},
  srv/notes: {type: area}, opt/plans: {type: area}, opt/plans/old/d: {type: item}, srv/missing: {type: area}`

// bench is a private server with policies for it.
type bench struct {
	*targettest.Bench
	root   *servers.Root
	system *system
	keys   map[string]string // private ones, by person
	public map[string]string
}

func newBench(t testing.TB) *bench {
	root := servers.Linux(t)
	root.Run(there)
	return benchOf(t, root, &system{name: "box", shell: local{root.Shell()}, self: "root"})
}

func benchOf(t testing.TB, root *servers.Root, s *system) *bench {
	b := &bench{Bench: targettest.New(t, "box", &Driver.Carries, s), root: root, system: s, keys: map[string]string{},
		public: map[string]string{}}
	for i := range people {
		id := fmt.Sprintf("p%d", i)
		b.keys[id], b.public[id] = servers.NewKey(t)
	}
	return b
}

// load reads a policy, and looks at what it lists from now on.
func (b *bench) load(text string) *gate.Gate {
	g := targettest.Load(b.T, text)
	b.system.listed = nil
	for r := range g.Estate().Tree.All() {
		if r.Address.System == "box" && !strings.HasPrefix(r.Address.Path, "accounts") {
			b.system.listed = append(b.system.listed, target.Place{Path: r.Address.Path, Type: r.Type})
		}
	}
	return g
}

// people of the random policies; those of the first have accounts with names of their own.
const people = 7

// policy draws a policy.
func (b *bench) policy(d *rand.Rand) string {
	var out strings.Builder
	fmt.Fprintf(&out, "hidden-gate: 1\nedition: 2\nsystems: {box: {kind: server, resources: {%s, accounts: {}", listed)
	for i := range people / 2 {
		fmt.Fprintf(&out, ", accounts/own.%d: {owner: p%d}", i, i)
	}
	out.WriteString("}}}\n" + targettest.People(b.public))
	operations := []string{"host.sign-in", "host.copy", "host.restart", "host.stop", "log.view", "log.export",
		"service.restart", "service.stop", "job.run", "application.open", "application.manage", "command.as-service",
		"file.view", "file.read", "file.write", "file.remove", "host.*", "application.*", "file.*", "only use", "*"}
	whom := []string{"group:g0", "group:g1", "group:g2", "p0", "p3", "p5", "everyone"}
	where := []string{"box", "box", "box", "everything", "box:planner", "box:apps/weather", "box:dome@1", "box:srv",
		"box:srv/frames", "box:srv/frames/raw it's", "box:srv/frames/b", "box:opt/plans", "box:opt/plans/old/d"}
	when := []string{"", "", "", "", "", ", when: {mfa: true}", ", ends: 2020-01-01"}
	out.WriteString(targettest.Rules(d, operations, whom, where, when))
	return out.String()
}

// Whatever a policy says, the server says after a push: every account is asked about everything, and each signs in, or
// is refused, with its own key.
func TestTheServerSaysWhatThePolicySays(t *testing.T) {
	asked, tried, signedIn := 0, 0, 0
	had := map[string]int{}
	for round := range rounds() {
		d := rand.New(rand.NewPCG(uint64(round), 7))
		b := newBench(t)
		for range 4 { // the later ones are edits
			text := b.policy(d)
			g := b.load(text)
			plan := b.Push(g)
			a, r, wrong := b.Ask(g)
			require.Empty(t, wrong, "round %d\n%s\n%s", round, text, targettest.Texts(plan))
			asked, tried = asked+a, tried+r
			signedIn += b.signIn(g, text)
		}
		for operation, n := range b.Allowed {
			had[operation] += n
		}
	}
	t.Logf("asked %d, of which %d were tried, and %d signed in", asked, tried, signedIn)
	assert.Greater(t, tried, asked/4)
	assert.Greater(t, signedIn, rounds())
	if !testing.Short() {
		targettest.EachIsGiven(t, &Driver.Carries, had)
	}
}

// signIn signs in as everybody with their own key, and does what the policy lets them do; it tells how many could.
func (b *bench) signIn(g *gate.Gate, text string) (could int) {
	snap, err := b.system.Read(b.T.Context())
	require.NoError(b.T, err)
	w := b.Arrange(g, snap, nil).Wanted
	for _, h := range w.Holders {
		may, opens := false, ""
		for place, p := range snap.State().Places {
			m := w.Mask(h, place)
			if may = may || m&(1<<signingIn) != 0; m&(1<<opening) != 0 {
				opens = p.Path[strings.LastIndex(p.Path, "/")+1:]
			}
		}
		out, err := b.root.As(h.Account, b.keys[h.Subject.ID], "id -un")
		switch {
		case may:
			require.NoError(b.T, err, "%s\n%s", h.Account, text)
			assert.Equal(b.T, h.Account+"\n", out)
			could++
		case opens != "":
			out, err = b.root.As(h.Account, b.keys[h.Subject.ID], opens)
			require.NoError(b.T, err, "%s %s\n%s", h.Account, out, text)
			assert.Equal(b.T, opens+"\n", out)
		default:
			assert.Error(b.T, err, "%s signs in: %s\n%s", h.Account, out, text)
		}
	}
	return could
}

func rounds() int {
	if testing.Short() {
		return 1
	}
	return 5
}

// What has no counterpart is told as it is, and each native stands for operations that servers have.
func TestEachNativeStandsForOperationsThatThereAre(t *testing.T) {
	g := targettest.Load(t, "hidden-gate: 1\nedition: 2\nsystems: {box: {kind: server}}\n")
	var known []string
	for _, o := range g.Estate().Kinds["server"].Operations {
		known = append(known, o.Name)
	}
	for _, n := range natives {
		for _, o := range n.Gives {
			assert.Contains(t, known, o)
		}
	}
	for _, n := range notes() {
		assert.Contains(t, known, n.Operation)
	}
	assert.False(t, slices.ContainsFunc(natives, func(n target.Native) bool { return len(n.Types) == 0 }))
}
