package change_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/view"
)

const small = `hidden-gate: 1
systems:
  db: {kind: database, resources: {sky: {}, sky/a: {}, sky/b: {}, sky/c: {}, sky/d: {}}}
  web: {kind: server}
people: {ana: {}, bo: {}, cai: {}, dee: {}, eve: {}}
groups: {crew: {members: [ana, bo, cai, dee]}, others: {members: [eve]}}
roles: {reader: {allow: [table.read, table.view]}, dropper: {allow: [table.drop]}}
grants:
  crew-reads: {to: group:crew, role: reader, on: "db:sky/a", when: {network: 10.0.0.0/8}}
  lend: {to: group:others, role: dropper, on: db, on-request: {longest: 1h}}
`

var noon = clock.Of(time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC))

func estateOf(t *testing.T, text string) *estate.Estate {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
	require.NoError(t, err, text)
	return e
}

var page = &view.Page{Width: 100}

// told gives the lines of an effect as sentences.
func told(t *testing.T, edits ...string) ([]string, *change.Effect) { return toldOf(t, nil, edits...) }

// editedText gives the small estate with other text in some places.
func editedText(t *testing.T, edits ...string) string {
	text := small
	for i := 0; i+1 < len(edits); i += 2 {
		require.Equal(t, 1, strings.Count(text, edits[i]), edits[i])
		text = strings.Replace(text, edits[i], edits[i+1], 1)
	}
	return text
}

// toldOf is told of an edit that gives an entry another id.
func toldOf(t *testing.T, renamed *change.Renaming, edits ...string) ([]string, *change.Effect) {
	e, err := change.Of(t.Context(), estateOf(t, small), estateOf(t, editedText(t, edits...)),
		change.How{Since: noon, Renamed: renamed})
	require.NoError(t, err)
	var out []string
	for i := range e.Lines {
		l := &e.Lines[i]
		asked := ""
		if l.OnRequest {
			asked = "on request: "
		}
		out = append(out, fmt.Sprintf("%s %d %s%s on %s; was %s; is %s; %d directly", e.Who(l), l.Way, asked,
			page.Operations(e.What(l)), e.Where(l), l.Was(), l.Is(), e.Direct(l)))
	}
	return out, e
}

func TestEffectsAreToldAsAPersonWould(t *testing.T) {
	for name, c := range map[string]struct {
		edits []string
		want  []string
	}{
		"nothing": {nil, nil},
		"a group gains": {[]string{"grants:\n", "grants:\n  more: {to: group:crew, role: reader, on: db:sky/b}\n"},
			[]string{"all 4 people of group:crew 0 table.read and table.view on db:sky/b; was never; is always; 0 directly"}},
		"some of a group, one directly": {[]string{"crew: {members: [ana, bo, cai, dee]}",
			"crew: {members: [ana, bo, cai, dee, eve]}", "grants:\n",
			"grants:\n  more: {to: eve, role: reader, on: db:sky/b}\n"},
			[]string{"eve 0 table.read and table.view on db:sky/a; was never; is from 10.0.0.0/8; 0 directly",
				"eve 0 table.read and table.view on db:sky/b; was never; is always; 1 directly"}},
		"more conditions": {[]string{"network: 10.0.0.0/8", "network: 10.0.0.0/8, mfa: true"},
			[]string{"all 4 people of group:crew 3 table.read and table.view on db:sky/a; was from 10.0.0.0/8; is with a " +
				"second factor, from 10.0.0.0/8; 0 directly"}},
		"fewer": {[]string{"network: 10.0.0.0/8", "network: [10.0.0.0/8, 192.168.0.0/16]"},
			[]string{"all 4 people of group:crew 1 table.read and table.view on db:sky/a; was from 10.0.0.0/8; is from " +
				"10.0.0.0/8 or 192.168.0.0/16; 0 directly"}},
		"others": {[]string{"network: 10.0.0.0/8", "network: 192.168.0.0/16"},
			[]string{"all 4 people of group:crew 2 table.read and table.view on db:sky/a; was from 10.0.0.0/8; is from " +
				"192.168.0.0/16; 0 directly"}},
		"lost": {[]string{"  crew-reads: {to: group:crew, role: reader, on: \"db:sky/a\", when: {network: 10.0.0.0/8}}\n",
			""},
			[]string{"all 4 people of group:crew 4 table.read and table.view on db:sky/a; was from 10.0.0.0/8; is never; 0 " +
				"directly"}},
		"what can be lent": {[]string{"lend: {to: group:others", "lend: {to: [group:others, ana]"},
			[]string{"ana 0 on request: table.drop (high-risk) on db:sky; was never; is always; 1 directly"}},
		"all but one": {[]string{"grants:\n", "grants:\n  more: {to: eve, role: reader, on: [db, not db:sky/c]}\n"},
			[]string{"eve 0 table.read and table.view on db (but not db:sky/c); was never; is always; 1 directly"}},
		"everyone": {[]string{"grants:\n", "grants:\n  more: {to: everyone, role: dropper, on: db:sky/b}\n"},
			[]string{"everyone 0 table.drop (high-risk) on db:sky/b; was never; is always; 0 directly"}},
	} {
		got, _ := told(t, c.edits...)
		assert.Equal(t, c.want, got, name)
	}
}

// What may come may have a tag with the value of any subject, also where those are too many to look at each.
func TestWhatMayComeHasAnySubjectsValue(t *testing.T) {
	var people strings.Builder
	const many = 300
	for i := range many {
		fmt.Fprintf(&people, "  p%03d: {tags: {team: t%03d}}\n", i, i)
	}
	text := strings.Replace(small, "people: {ana: {}, bo: {}, cai: {}, dee: {}, eve: {}}\n",
		"people:\n  ana: {}\n  bo: {}\n  cai: {}\n  dee: {}\n  eve: {}\n"+people.String(), 1)
	own := strings.Replace(text, "grants:\n",
		"grants:\n  own: {to: everyone, role: dropper, on: db, when: {same: [team]}}\n", 1)
	e, err := change.Of(t.Context(), estateOf(t, text), estateOf(t, own), change.How{Since: noon})
	require.NoError(t, err)
	require.Empty(t, e.Lines)
	gain := map[estate.Principal]bool{}
	for _, l := range e.Coming {
		for _, who := range l.Subjects {
			gain[who] = gain[who] || l.Way == change.Gains
		}
	}
	assert.Len(t, gain, many)
}

func TestWhatIsHandedOutIsNamedOnce(t *testing.T) {
	_, e := told(t, "grants:\n", "grants:\n  more: {to: [eve, ana], role: dropper, on: [db:sky/b, db:sky/c]}\n")
	grave, noticed := e.Handed()
	require.Len(t, grave, 1)
	assert.Equal(t, "table.drop", grave[0].Name)
	assert.Empty(t, noticed)
	_, e = told(t, "crew: {members: [ana, bo, cai, dee]}", "crew: {members: [ana, bo, cai]}")
	grave, _ = e.Handed()
	assert.Empty(t, grave, "what is lost is not handed out")
}

func TestAnotherIdIsNoChange(t *testing.T) {
	r := change.Renaming{Section: "people", From: "ana", To: "anna"}
	_, e := told(t, "ana: {}", "anna: {}", "members: [ana,", "members: [anna,")
	require.NotEmpty(t, e.Lines)
	e.TakeForTheSame(r)
	assert.Empty(t, e.Lines)
	_, e = told(t, "ana: {}", "anna: {}", "members: [ana,", "members: [anna, eve,")
	e.TakeForTheSame(r)
	assert.NotEmpty(t, e.Lines, "somebody else gains too")
}

func TestCausesAreTheEntriesThatDiffer(t *testing.T) {
	for name, c := range map[string]struct {
		edits []string
		want  string
	}{
		"a group": {[]string{"crew: {members: [ana, bo, cai, dee]}", "crew: {members: [ana, bo, cai, dee, eve]}"},
			"group crew"},
		"a role": {[]string{"reader: {allow: [table.read, table.view]}",
			"reader: {allow: [table.read, table.view, table.insert]}"}, "role reader"},
		"a grant":  {[]string{"network: 10.0.0.0/8", "mfa: true"}, "grant crew-reads"},
		"a block":  {[]string{"grants:\n", "blocks: {stop: {deny: all, on: db}}\ngrants:\n"}, "block stop"},
		"a person": {[]string{"bo: {}", "bo: {status: left}"}, "person bo"},
	} {
		_, e := told(t, c.edits...)
		require.NotEmpty(t, e.Lines, name)
		causes := e.Causes(&e.Lines[0])
		require.Len(t, causes, 1, name)
		assert.Equal(t, c.want, causes[0].What)
	}
}

// A group in a group, a scope in a scope, and a role that another includes are behind what a grant of the outer ones
// gives.
func TestWhatIsNestedIsBehindAChange(t *testing.T) {
	const nested = `hidden-gate: 1
systems: {db: {kind: database, resources: {a: {}, b: {}}}}
people: {ana: {}, bo: {}}
groups: {inner: {members: [ana]}, outer: {members: [group:inner]}}
scopes: {narrow: [db:a], wide: [scope:narrow]}
roles: {look: {allow: [table.view]}, more: {include: look, allow: [table.read]}}
grants: {g: {to: group:outer, role: more, on: scope:wide}}
`
	for _, c := range []struct{ old, new, want string }{
		{"inner: {members: [ana]}", "inner: {members: [ana, bo]}", "group inner"},
		{"narrow: [db:a]", "narrow: [db:a, db:b]", "scope narrow"},
		{"look: {allow: [table.view]}", "look: {allow: [table.view, table.insert]}", "role look"},
	} {
		e, err := change.Of(t.Context(), estateOf(t, nested), estateOf(t, strings.Replace(nested, c.old, c.new, 1)),
			change.How{Since: noon})
		require.NoError(t, err)
		require.NotEmpty(t, e.Lines)
		for i := range e.Lines {
			causes := e.Causes(&e.Lines[i])
			require.Len(t, causes, 1)
			require.Equal(t, c.want, causes[0].What)
		}
	}
}

// Where a session limits roles, a grant of one role has a part in what another gives.
func TestAGrantIsBehindWhatASessionLeavesOfAnother(t *testing.T) {
	const apart = `hidden-gate: 1
systems: {db: {kind: database, resources: {a: {}, b: {}}}}
people: {ana: {}, bo: {}}
roles: {look: {allow: [table.view]}, drop: {allow: [table.drop]}}
grants: {looks: {to: ana, role: look, on: "db:a"}, drops: {to: ana, role: drop, on: "db:b"}}
separations: {one: {roles: [look, drop], within: session}}
`
	e, err := change.Of(t.Context(), estateOf(t, apart),
		estateOf(t, strings.Replace(apart, "drops: {to: ana", "drops: {to: bo", 1)), change.How{Since: noon})
	require.NoError(t, err)
	views := 0
	for i := range e.Lines {
		if l := &e.Lines[i]; l.Operations[0] == "table.view" {
			views++
			require.Equal(t, []estate.Principal{{ID: "ana"}}, l.Subjects)
			causes := e.Causes(l)
			require.Len(t, causes, 1)
			require.Equal(t, "grant drops", causes[0].What)
		}
	}
	require.Positive(t, views)
}

// A condition that is written otherwise and comes to the same is no change.
func TestAnotherStartBeforeTheFirstHourIsNoChange(t *testing.T) {
	starting := func(at string) *estate.Estate {
		return estateOf(t, strings.Replace(small, "when: {network: 10.0.0.0/8}",
			"when: {hours: '22:00-23:00'}, starts: "+at, 1))
	}
	e, err := change.Of(t.Context(), starting("2027-03-28"), starting("2027-03-28T12:00Z"), change.How{Since: noon})
	require.NoError(t, err)
	require.Empty(t, e.Lines)
}

// Who is refused by a separation within a session loses what it keeps apart; by one within a person nobody is.
func TestASeparationWithinAPersonIsNoChange(t *testing.T) {
	const apart = `hidden-gate: 1
systems: {db: {kind: database, resources: {a: {}, b: {}}}}
people: {ana: {}}
roles: {look: {allow: [table.view]}, drop: {allow: [table.drop]}}
grants:
  looks: {to: ana, role: look, on: "db:a"}
  drops: {to: ana, role: drop, on: "db:b"}
`
	before := estateOf(t, apart)
	g, err := gate.Compile(before, nil)
	require.NoError(t, err)
	for within, lines := range map[string]int{"person": 0, "session": 2} {
		after := estateOf(t, apart+"separations: {one: {roles: [look, drop], within: "+within+"}}\n").SharingPlaces(before)
		e, err := change.Of(t.Context(), before, after, change.How{Since: noon, Gate: g, Few: -1})
		require.NoError(t, err)
		require.Len(t, e.Lines, lines, within)
		c, err := e.Consequences(t.Context(), noon)
		require.NoError(t, err)
		require.Equal(t, lines == 0, len(c.Found) > 0, within)
	}
}

// Who joins a group gains what goes to it, and what is given of whatever it owns; both are told where places are those
// of a gate that is at hand.
func TestWhoJoinsAGroupGainsWhatItHasAndOwns(t *testing.T) {
	const owning = `hidden-gate: 1
systems: {db: {kind: database, resources: {a: {owner: group:crew}, b: {}}}}
people: {ana: {}, bo: {}}
groups: {crew: {members: [ana]}}
roles: {look: {allow: [table.view]}, drop: {allow: [table.drop]}}
grants:
  looks: {to: group:crew, role: look, on: "db:b"}
`
	for _, c := range []struct{ more, want string }{{"", "[table.view] db:b"},
		{"  own: {to: everyone, role: drop, on: \"db\", when: {owner: true}}\n", "[table.drop] db:a [table.view] db:b"}} {
		before := estateOf(t, owning+c.more)
		after := estateOf(t, strings.Replace(owning+c.more, "members: [ana]", "members: [ana, bo]", 1)).SharingPlaces(before)
		g, err := gate.Compile(before, nil)
		require.NoError(t, err)
		for _, how := range []change.How{{Since: noon}, {Since: noon, Gate: g}, {Since: noon, Gate: g, Few: -1}} {
			e, err := change.Of(t.Context(), before, after, how)
			require.NoError(t, err)
			var got []string
			for _, l := range e.Lines {
				got = append(got, fmt.Sprint(l.Operations, " ", l.Piles.First().First()))
			}
			require.Equal(t, c.want, strings.Join(got, " "))
		}
	}
}

// What is found about a grant to nobody is neither new nor resolved once it gets a title: both gates know as much of
// it.
func TestWhatIsFoundAboutAGrantToNobodyStays(t *testing.T) {
	text := strings.Replace(small, "groups: {", "groups: {none: {match: {team: x}}, ", 1) +
		"  risky: {to: group:none, role: dropper, on: db}\n"
	before := estateOf(t, text)
	after := estateOf(t, strings.Replace(text, "risky: {", "risky: {title: Again, ", 1)).SharingPlaces(before)
	g, err := gate.Compile(before, nil)
	require.NoError(t, err)
	for _, how := range []change.How{{}, {Few: -1}, {Gate: g}, {Few: -1, Gate: g}} {
		how.Since = noon
		e, err := change.Of(t.Context(), before, after, how)
		require.NoError(t, err)
		c, err := e.Consequences(t.Context(), noon)
		require.NoError(t, err)
		require.Empty(t, c.Found)
		require.Empty(t, c.Gone)
	}
}
