//go:build unix

package ldap

import (
	"encoding/base64"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/directory"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/servers"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

const base = "dc=ternhollow,dc=example"

// awkward names have to be escaped where they stand in a distinguished name, or in a path.
var awkward = []string{
	"plain",
	"Upper Case",
	"com,ma",
	"plus+sign",
	`quo"te`,
	`back\slash`,
	"per%cent",
	"sl/ash",
	"a=b",
	"#begins",
	"ünïcode",
	"<angle>",
}

// entryOf writes an entry as LDIF (RFC 2849), whatever stands in it.
func entryOf(dn string, attributes ...string) string {
	out := ""
	for _, line := range append([]string{"dn: " + dn}, attributes...) {
		name, value, _ := strings.Cut(line, ": ")
		out += name + ":: " + base64.StdEncoding.EncodeToString([]byte(value)) + "\n"
	}
	return out + "\n"
}

const stranger = "uid=stranger,ou=people," + base

// filled is a directory of people and of groups of all sorts; each has the stranger, or itself.
func filled() (ldif string, groups []string) {
	var b strings.Builder
	b.WriteString(entryOf(base, "objectClass: dcObject", "objectClass: organization", "dc: ternhollow", "o: Ternhollow"))
	for _, unit := range []string{"people", "groups", "posix"} {
		b.WriteString(entryOf("ou="+unit+","+base, "objectClass: organizationalUnit", "ou: "+unit))
	}
	person := func(uid string) {
		b.WriteString(entryOf("uid="+ldap.EscapeDN(uid)+",ou=people,"+base, "objectClass: inetOrgPerson", "uid: "+uid,
			"cn: Somebody", "sn: Somebody", "userPassword: known"))
	}
	person("stranger")
	for i := range targettest.Few {
		person(fmt.Sprintf("p%d", i))
	}
	for i := range targettest.Few / 2 {
		person(awkward[i] + " person")
	}
	for i, name := range awkward {
		own := "cn=" + ldap.EscapeDN(name) + ",ou=groups," + base
		first := []string{stranger, own}[i%2]
		switch i % 3 {
		case 0:
			b.WriteString(entryOf(own, "objectClass: groupOfNames", "cn: "+name, "member: "+first))
		case 1:
			b.WriteString(entryOf(own, "objectClass: groupOfUniqueNames", "cn: "+name, "uniqueMember: "+first))
		default:
			own = "cn=" + ldap.EscapeDN(name) + ",ou=posix," + base
			b.WriteString(entryOf(own, "objectClass: posixGroup", "cn: "+name, fmt.Sprintf("gidNumber: %d", i),
				"memberUid: stranger"))
		}
		path, _ := pathOf(own, base)
		groups = append(groups, path)
	}
	return b.String(), groups
}

// bench is a directory with policies for it.
type bench struct {
	*targettest.Bench
	system *system
	groups []string
	is     servers.LDAP
	at     string
}

func newBench(t testing.TB) *bench {
	ldif, groups := filled()
	b := &bench{groups: groups, is: servers.Directory(t, ldif)}
	b.at = b.is.Secure + "/" + base + "?user=" + b.is.User + "&ca=" + b.is.File
	reached := b.connect(t)
	b.system = reached.(*system)
	b.Bench = targettest.New(t, "dir", &Driver.Carries, reached)
	return b
}

func (b *bench) connect(t testing.TB) target.System {
	s, err := connect(t.Context(), target.Connection{System: "dir", At: b.at, Secret: b.is.Password})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// policy draws a policy for the directory, which lists all groups but the last.
func (b *bench) policy(d *rand.Rand) string {
	var out strings.Builder
	out.WriteString("hidden-gate: 1\nedition: 2\nsystems: {dir: {kind: directory, resources: {groups: {type: unit}, " +
		"posix: {type: unit}")
	where := []string{"dir", "dir:groups", "dir:posix", "everything"}
	for _, path := range b.groups[:len(b.groups)-1] {
		fmt.Fprintf(&out, ", %q: {type: group}", path)
		where = append(where, "dir:"+path)
	}
	for i := targettest.Few / 2; i < targettest.Few; i++ {
		fmt.Fprintf(&out, ", accounts/p%[1]d: {owner: p%[1]d}", i)
	}
	out.WriteString(targettest.Accounts(awkward))
	out.WriteString(targettest.Rules(d, []string{"membership.hold", "membership.hold", "membership.*", "group.*",
		"only use", "up to change", "*"}, []string{"group:g0", "group:g1", "group:g2", "p0", "p3", "p5", "p6", "everyone"},
		where, []string{"", "", "", ", when: {mfa: true}", ", ends: 2020-01-01"}))
	return out.String()
}

// members gives whom the directory itself says to belong to a group, by their uids, but for the group itself.
func (b *bench) members(group string) (out []string) {
	b.T.Helper()
	entries, err := b.system.live.Entries(b.system.conn)
	require.NoError(b.T, err)
	uids := map[string]string{}
	for _, e := range entries {
		if uid := e.Attributes["uid"]; len(uid) > 0 {
			uids[told(e.DN)] = uid[0]
		}
	}
	for _, e := range entries {
		if path, _ := pathOf(e.DN, base); path != group {
			continue
		}
		out = append(out, e.Attributes["memberuid"]...)
		for _, m := range slices.Concat(e.Attributes["member"], e.Attributes["uniquemember"]) {
			if told(m) != told(e.DN) {
				out = append(out, uids[told(m)])
			}
		}
	}
	slices.Sort(out)
	return out
}

// holdsEachTo sees that each group has whom the policy puts there, and of the others the stranger alone.
func (b *bench) holdsEachTo(g *gate.Gate) (some int) {
	snap, err := b.system.Read(b.T.Context())
	require.NoError(b.T, err)
	a := b.Arrange(g, snap, nil)
	for place, p := range snap.State().Places {
		if p.Type != "group" || !a.Listed(place) {
			continue
		}
		var want []string
		for _, h := range a.Holders {
			if outcome, _ := a.Outcome(h, "membership.hold", place); outcome == gate.Allow {
				want = append(want, h.Account)
			}
		}
		some += len(want)
		has := slices.DeleteFunc(b.members(p.Path), func(uid string) bool { return uid == "stranger" })
		slices.Sort(want)
		require.ElementsMatch(b.T, want, has, p.Path)
	}
	return some
}

const rounds = 40

// Whatever a policy says, the groups of the directory have after a push; whatever somebody changes by hand is found and
// undone; and whoever is in no care of the policy's stays where they are.
func TestTheDirectoryHasWhomThePolicyPutsThere(t *testing.T) {
	b := newBench(t)
	asked, members, found, drifts := 0, 0, 0, 0
	d := rand.New(rand.NewPCG(3, 1))
	last := b.groups[len(b.groups)-1] // in no inventory
	require.NoError(t, b.system.modify(change{DN: nameOf(last, base), Attribute: "memberUid",
		Add: []string{"p4", "p5", "p6"}}))
	kept := map[string]bool{}
	for _, path := range b.groups {
		kept[path] = slices.Contains(b.members(path), "stranger")
	}
	for range rounds {
		text := b.policy(d)
		g := targettest.Load(t, text)
		plan := b.Push(g)
		n, tried, wrong := b.Ask(g)
		require.Empty(t, wrong, "%s\n%s", text, targettest.Texts(plan))
		require.Equal(t, n, tried)
		asked += n
		members += b.holdsEachTo(g)
		snap, err := b.system.Read(t.Context())
		require.NoError(t, err)
		s := snap.(*snapshot)
		s.groups = slices.DeleteFunc(s.groups, func(g *group) bool { return s.state.Places[g.place].Path == last })
		one := s.groups[d.IntN(len(s.groups))]
		p := s.people[fmt.Sprintf("p%d", 4+d.IntN(4))] // who is their own account
		c := change{DN: one.dn, Attribute: one.attribute, Add: []string{one.listed(p)}}
		if _, has := one.has(p); has {
			c.Add, c.Remove = c.Remove, c.Add
			if len(one.members) == 1 {
				c.Add = []string{one.dn}
			}
		}
		if one.byUser && slices.Contains(c.Add, one.dn) {
			c.Add = nil
		}
		require.NoError(t, b.system.modify(c))
		drifts++
		if _, _, wrong := b.Ask(g); len(wrong) > 0 {
			found++
		}
		b.Push(g)
		_, _, wrong = b.Ask(g)
		require.Empty(t, wrong, text)
		require.Equal(t, []string{"p4", "p5", "p6", "stranger"}, b.members(last))
		for _, path := range b.groups {
			require.Equal(t, kept[path], slices.Contains(b.members(path), "stranger"), path)
		}
	}
	t.Logf("asked %d; %d memberships; %d of %d changes by hand found", asked, members, found, drifts)
	assert.Greater(t, members, rounds)
	assert.Greater(t, found, drifts/2)
	targettest.EachIsGiven(t, &Driver.Carries, b.Allowed)
}

// What is pulled from a directory, as a policy, is what it has.
func TestWhatIsPulledIsWhatTheDirectoryHas(t *testing.T) {
	b := newBench(t)
	d := rand.New(rand.NewPCG(5, 1))
	b.Push(targettest.Load(t, b.policy(d)))
	snap, err := b.system.Read(t.Context())
	require.NoError(t, err)
	owner := func(account string) (estate.Principal, bool) {
		return estate.Principal{ID: account}, len(account) == 2 // p0 and so on
	}
	text := "hidden-gate: 1\nedition: 2\nsystems: {dir: {kind: directory, resources: {accounts: {}"
	for _, p := range snap.State().Places[1:] {
		text += fmt.Sprintf(", %q: {type: %s}", p.Path, p.Type)
	}
	people := ""
	for i := range targettest.Few {
		text += fmt.Sprintf(", accounts/p%d: {owner: p%d}", i, i)
		people += fmt.Sprintf("p%d: {}, ", i)
	}
	adopted := target.Adopt("dir", &Driver.Carries, snap.State(), snap.Found(), owner)
	text += "}}}\npeople: {" + people + "}\n" + string(adopted.File("dir", snap.State()))
	g := targettest.Load(t, text)
	asked, _, wrong := b.Ask(g)
	require.Empty(t, wrong, text)
	assert.Greater(t, b.Allowed["membership.hold"], asked/20)
	assert.Empty(t, b.Push(g).Statements)
	require.Empty(t, snap.Found().Left)
	groups := snap.(*snapshot).groups
	one := groups[slices.IndexFunc(groups, func(g *group) bool { return strings.HasPrefix(g.dn, "cn=plain,") })]
	require.NoError(t, b.system.modify(change{DN: one.dn, Attribute: one.attribute,
		Add: []string{"cn=nobody," + base}}))
	snap, err = b.system.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"groups/plain lists \"cn=nobody," + base + "\", which is no account"}, snap.Found().Left)
	require.NoError(t, b.system.modify(change{DN: one.dn, Attribute: one.attribute,
		Add: []string{"CN=Upper Case, ou=groups," + base}}))
	snap, err = b.system.Read(t.Context())
	require.NoError(t, err)
	assert.Len(t, snap.Plan(b.Arrange(g, snap, nil)).Left, 1)
}

// A push that is refused on the way, or whose check fails, leaves the directory as it was. Of two at once, which no
// directory keeps apart, each is whole or says that somebody else was there.
func TestAPushIsWholeOrUndone(t *testing.T) {
	b := newBench(t)
	g := targettest.Load(t, b.policy(rand.New(rand.NewPCG(9, 1))))
	was, err := b.system.Read(t.Context())
	require.NoError(t, err)
	plan := was.Plan(b.Arrange(g, was, nil))
	no := errors.New("no")
	assert.Equal(t, no, b.system.Write(t.Context(), was, plan, func(target.Snapshot) error { return no }))
	broken := *plan
	broken.Script = strings.TrimSuffix(
		plan.Script,
		"]",
	) + `,{"dn":"cn=none,` + base + `","attribute":"member","add":["x"]}]`
	err = b.system.Write(t.Context(), was, &broken, func(target.Snapshot) error { return nil })
	assert.ErrorContains(t, err, "cn=none")
	assert.NotErrorIs(t, err, target.ErrPartly)
	is, err := b.system.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, was.(*snapshot).key, is.(*snapshot).key)
	var pushes []func() error
	for range 4 {
		s := b.connect(t)
		was, err := s.Read(t.Context())
		require.NoError(t, err)
		plan := was.Plan(b.Arrange(g, was, nil))
		require.NotEmpty(t, plan.Statements)
		pushes = append(pushes, func() error {
			return s.Write(t.Context(), was, plan, func(target.Snapshot) error { return nil })
		})
	}
	var wait sync.WaitGroup
	for _, push := range pushes {
		wait.Go(func() {
			err := push()
			assert.True(t, err == nil || errors.Is(err, target.ErrChanged), "%v", err)
		})
	}
	wait.Wait()
	b.Push(g)
	_, _, wrong := b.Ask(g)
	assert.Empty(t, wrong)
}

// Whoever makes an entry of another's name takes nobody's place: neither of them is named by it.
func TestNobodyTakesAnothersPlace(t *testing.T) {
	entry := func(dn string, attributes ...string) directory.Entry {
		out := directory.Entry{DN: dn, Attributes: map[string][]string{}}
		for _, a := range attributes {
			name, value, _ := strings.Cut(a, "=")
			out.Attributes[name] = append(out.Attributes[name], value)
		}
		return out
	}
	s := snapshotOf(directory.Live{Base: base, User: "cn=keeper," + base}, []directory.Entry{
		entry("uid=ana,ou=people,"+base, "objectclass=person", "uid=ana"),
		entry("uid=bo,ou=people,"+base, "objectclass=person", "uid=cai", "uid=bo"),
		entry("cn=x,ou=guests,"+base, "objectclass=person", "uid=ANA"),
		entry("cn=y,ou=guests,"+base, "objectclass=person", "uid=dee", "uid=cai"),
		entry("cn=crew,ou=groups,"+base, "objectclass=groupOfNames", "member=x"),
		entry("ou=Crew,ou=groups,"+base, "objectclass=organizationalUnit"),
		entry(base, "objectclass=organizationalUnit"),
	})
	assert.Equal(t, []target.Account{{Name: "bo"}}, s.state.Accounts)
	assert.Equal(t, []target.Place{{Type: "directory"}}, s.state.Places)
	assert.Len(t, s.state.Unnamed, 5)
}

// Whoever has access and no entry is told of, and nobody is made.
func TestWhoHasNoEntryIsToldOf(t *testing.T) {
	b := newBench(t)
	g := targettest.Load(t, "hidden-gate: 1\nedition: 2\nsystems: {dir: {kind: directory, resources: {'"+b.groups[0]+
		"': {type: group}, accounts/ana: {owner: ana}}}}\npeople: {ana: {}, bo: {}}\n"+
		"roles: {r: {allow: [membership.hold]}}\ngrants: {a: {to: [ana, bo], role: r, on: 'dir:"+b.groups[0]+"'}}\n")
	snap, err := b.system.Read(t.Context())
	require.NoError(t, err)
	plan := snap.Plan(b.Arrange(g, snap, nil))
	assert.Empty(t, plan.Statements)
	assert.Equal(t, []string{"ana has no entry in the directory: make one, which hgate does not",
		"bo has no entry in the directory: make one, which hgate does not"}, plan.Left)
}

// An address says where a directory is, and holds no password.
func TestAddresses(t *testing.T) {
	file := t.TempDir() + "/ca.pem"
	require.NoError(t, os.WriteFile(file, []byte("none"), 0o600))
	const host, user = "ldaps://dir.ternhollow.example", "?user=cn=keeper," + base
	for at, want := range map[string]string{
		host + "/" + base + user:                                   "",
		host + "/" + base + user + "&tls=off":                      "",
		"ldap://127.0.0.1:389/" + base + user + "&ca=" + file:      "",
		host + "/" + base:                                          errAddress.Error(),
		host + user:                                                errAddress.Error(),
		host + "/sky" + user:                                       errAddress.Error(),
		"ldaps://keeper:x@dir.ternhollow.example/" + base + user:   "holds a user or a password",
		"https://dir.ternhollow.example/" + base + user:            errAddress.Error(),
		host + "/" + base + user + "&tls=skip":                     `has "tls"`,
		host + "/" + base + user + "&ca=/none":                     "cannot be read",
		host + "/" + base + user + "&user=cn=other," + base:        errAddress.Error(),
		host + "/" + base + user + "&filter=(objectClass=*)":       `has "filter"`,
		"ldaps:///" + base + user:                                  errAddress.Error(),
		"ldaps://dir.ternhollow.example/" + base + user + "#there": errAddress.Error(),
	} {
		live, err := liveOf(at, "the secret")
		if want != "" {
			assert.ErrorContains(t, err, want, at)
			continue
		}
		require.NoError(t, err, at)
		assert.Equal(t, []string{base, "cn=keeper," + base, "the secret"}, []string{live.Base, live.User, live.Password})
		assert.Equal(t, strings.Contains(at, "tls=off"), live.Plain)
	}
}

// Whatever a directory says, what is read of it is whole: each place has one name that leads to it, and a plan can be
// made.
func FuzzEntries(f *testing.F) {
	for _, name := range awkward {
		f.Add(name, "p1", "cn="+ldap.EscapeDN(name)+",ou=groups,"+base)
	}
	f.Add("accounts", "p1", base)
	f.Add("x", "", "cn=a+sn=b,"+base)
	g := targettest.Load(f, "hidden-gate: 1\nsystems: {dir: {kind: directory, unlisted: judge, resources: {}}}\n"+
		"people: {p1: {}}\nroles: {r: {allow: [membership.hold]}}\ngrants: {a: {to: p1, role: r, on: dir}}\n")
	f.Fuzz(func(t *testing.T, name, uid, dn string) {
		s := snapshotOf(directory.Live{Base: base, User: "cn=keeper," + base}, []directory.Entry{
			{DN: dn, Attributes: map[string][]string{"objectclass": {"groupOfNames"}, "cn": {name}, "member": {dn, name}}},
			{
				DN:         "ou=" + ldap.EscapeDN(name) + "," + base,
				Attributes: map[string][]string{"objectclass": {"organizationalUnit"}},
			},
			{DN: "cn=" + ldap.EscapeDN(name) + "," + base, Attributes: map[string][]string{"objectclass": {"posixGroup"},
				"memberuid": {uid, name}}},
			{DN: "uid=" + ldap.EscapeDN(uid) + "," + base, Attributes: map[string][]string{"objectclass": {"person"},
				"uid": {uid}}},
		})
		seen := map[string]bool{}
		for _, p := range s.state.Places {
			assert.False(t, seen[p.Path], p.Path)
			seen[p.Path] = true
			canonical, err := estate.CanonicalPath(p.Path)
			assert.True(t, p.Path == "" || err == nil && canonical == p.Path, p.Path)
		}
		s.Found()
		w, err := target.Work(t.Context(), target.Task{Gate: g, System: "dir", At: targettest.At, Carries: &Driver.Carries,
			State: s.State(), Create: true})
		require.NoError(t, err)
		a, err := w.Arrange(t.Context())
		require.NoError(t, err)
		s.Plan(a)
	})
}

// What has to be told is worked out in time that grows with the people and with whom the groups list.
func BenchmarkPlan(b *testing.B) {
	for _, people := range []int{1000, 2000, 4000} {
		b.Run(fmt.Sprintf("%d-people", people), func(b *testing.B) {
			var text strings.Builder
			var entries []directory.Entry
			text.WriteString("hidden-gate: 1\nedition: 2\nsystems: {dir: {kind: directory, resources: {accounts: {}")
			for i := range 50 {
				fmt.Fprintf(&text, ", groups/g%d: {type: group}", i)
				group := directory.Entry{DN: fmt.Sprintf("cn=g%d,ou=groups,%s", i, base),
					Attributes: map[string][]string{"objectclass": {"groupOfNames"}}}
				for k := range people / 2 {
					group.Attributes["member"] = append(group.Attributes["member"], fmt.Sprintf("uid=p%d,%s", k, base))
				}
				entries = append(entries, group)
			}
			names := ""
			for i := range people {
				fmt.Fprintf(&text, ", accounts/p%d: {owner: p%d}", i, i)
				names += fmt.Sprintf("p%d: {}, ", i)
				entries = append(entries, directory.Entry{DN: fmt.Sprintf("uid=p%d,%s", i, base),
					Attributes: map[string][]string{"objectclass": {"person"}, "uid": {fmt.Sprintf("p%d", i)}}})
			}
			text.WriteString("}}}\npeople: {" + names + "}\nroles: {r: {allow: [membership.hold]}}\n" +
				"grants: {a: {to: everyone, role: r, on: dir}}\n")
			g := targettest.Load(b, text.String())
			s := snapshotOf(directory.Live{Base: base, User: "cn=keeper," + base}, entries)
			a := targettest.New(b, "dir", &Driver.Carries, nil).Arrange(g, s, nil)
			for b.Loop() {
				require.Len(b, s.Plan(a).Statements, 50*people/2/together)
			}
		})
	}
}
