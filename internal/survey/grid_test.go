package survey_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/survey"
)

const shelves = `hidden-gate: 1
catalogs:
  store: {types: [store, shelf, box], operations: {
    store.see: {level: view, types: [store], about: See}, shelf.see: {level: view, types: [shelf], about: See},
      box.see: {level: view, types: [box], about: See},
    shelf.fill: {level: change, types: [shelf], about: Fill}, shelf.hand: {level: govern, types: [shelf],
      about: Hand over}}}
systems: {s: {kind: store, resources: {a: {}, a/x: {}, a/y: {}, b: {}, c: {}}}, t: {kind: store, resources: {a: {},
      a/x: {}}}}
people: {ana: {}, bo: {}, cai: {status: invited}}
groups: {crew: {members: [ana, bo, cai]}}
roles: {see: {allow: [only view]}, fill: {allow: [shelf.fill]}, hand: {allow: [shelf.hand]}}
grants:
  crew-sees: {to: group:crew, role: see, on: [s, t]}
  bo-fills: {to: bo, role: fill, on: ['s:a', t]}
  ana-sees: {to: ana, role: see, on: s}
  crew-hands: {to: group:crew, role: hand, on: 's:c', on-request: {longest: 1h}}
  crew-fills: {to: group:crew, role: fill, on: 's:b', when: {mfa: true}}
blocks: {no: {to: bo, deny: all, on: ['s:a/y', 't:a/x']}}
`

// written writes a cell as the tests below do.
func written(r survey.Reached) string {
	out := "-"
	if r.Any {
		out = r.Level.String()
	}
	if r.Partly {
		out += "~"
	}
	if r.Direct {
		out += "!"
	}
	if r.Depends != nil {
		out += "?" + r.Depends.Level.String()
	}
	if r.OnRequest != nil {
		out += "+" + r.OnRequest.Level.String()
	}
	return out
}

func TestTheCellsAndRowsOfAGrid(t *testing.T) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(shelves)}})
	require.NoError(t, err)
	columns := []survey.Column{
		{Name: "ana", Subject: estate.Principal{ID: "ana"}}, {Name: "bo", Subject: estate.Principal{ID: "bo"}},
		{Name: "cai", Subject: estate.Principal{ID: "cai"}, Invited: true},
		{Name: "group:crew", Subject: estate.Principal{Kind: estate.IsGroup, ID: "crew"}}, {Name: "role:fill", Role: "fill"},
	}
	grid, err := survey.NewGrid(t.Context(), e, survey.Question{Columns: columns,
		Ask: func(g *gate.Gate) (*gate.Context, error) { return g.NewContext(), nil }})
	require.NoError(t, err)
	var got []string
	for _, r := range grid.Rows(survey.Folding{Depth: 9}) {
		row := fmt.Sprint(r.Depth, " ", r.Place.Address)
		for _, c := range r.Cells {
			row += " " + written(c)
		}
		got = append(got, row)
	}
	require.Equal(t, []string{
		"0 s view?change+govern change~!+govern - view?change+govern change~",
		"1 s:a view change~! - view change~", // bo fills it, and does not see all that is in it
		"2 s:a/x view view - view -",         // a box can't be filled; whoever may only fill does not even see it
		"2 s:a/y view - - view -",            // nor does bo this one
		"1 s:b view?change view?change - view?change change",
		"1 s:c view+govern view+govern - view+govern change",
		"0 t view change~! - view change~",
		"1 t:a view change~! - view change~", // it says what is said above, and is there for what stands in it
		"2 t:a/x view - - view -",
	}, got)

	ops, cells, err := grid.Operations()
	require.NoError(t, err)
	var lines []string
	for i, o := range ops {
		line := o.Name
		for _, c := range cells[i] {
			line += fmt.Sprintf(" %v", c.Outcome)
			if c.Partly {
				line += "~"
			}
			if c.Direct {
				line += "!"
			}
			if c.OnRequest {
				line += "+"
			}
		}
		lines = append(lines, line)
	}
	require.Equal(t, strings.TrimSpace(`
box.see allow allow~ deny allow deny
shelf.fill depends~ allow~! deny depends~ allow
shelf.hand deny+ deny+ deny deny+ deny
shelf.see allow allow deny allow deny
store.see allow allow deny allow deny`), strings.Join(lines, "\n"))
}

// A level that is sure in one place and depends in another is partly there, as where it is denied in the other.
func TestALevelThatDependsSomewhereIsPartlyThere(t *testing.T) {
	for text, want := range map[string]string{
		"grants: {g: {to: ana, role: fill, on: s}}":                                                         "change!",
		"grants: {g: {to: ana, role: fill, on: s:a}, h: {to: ana, role: fill, on: s:b, when: {mfa: true}}}": "change~!",
		"grants: {g: {to: ana, role: fill, on: s:a}}":                                                       "change~!",
	} {
		e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(`hidden-gate: 1
catalogs: {rack: {types: [rack, unit], operations: {rack.fill: {level: change, types: [unit]}}}}
systems: {s: {kind: rack, resources: {a: {}, b: {}}}}
people: {ana: {}}
roles: {fill: {allow: rack.fill}}
` + text + "\n")}})
		require.NoError(t, err)
		columns := []survey.Column{{Name: "ana", Subject: estate.Principal{ID: "ana"}}}
		grid, err := survey.NewGrid(t.Context(), e, survey.Question{Columns: columns,
			Ask: func(g *gate.Gate) (*gate.Context, error) { return g.NewContext(), nil }})
		require.NoError(t, err)
		rows := grid.Rows(survey.Folding{Depth: 1})
		require.Equal(t, want, written(rows[0].Cells[0]), text)
	}
}

// An operation of several kinds of system is one: it is partly there where one of them allows it and another does not.
func TestAnOperationOfTwoKindsHasOneRow(t *testing.T) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(`hidden-gate: 1
catalogs:
  rack: {types: [rack], operations: {paper.read: {level: view}}}
  desk: {types: [desk], operations: {paper.read: {level: view}, paper.sign: {level: change}}}
systems: {s: {kind: rack}, t: {kind: desk}}
people: {ana: {}, bo: {}}
roles: {read: {allow: paper.read}}
grants: {g: {to: ana, role: read, on: everything}, h: {to: bo, role: read, on: t}}
`)}})
	require.NoError(t, err)
	grid, err := survey.NewGrid(t.Context(), e, survey.Question{Columns: []survey.Column{
		{Name: "ana", Subject: estate.Principal{ID: "ana"}}, {Name: "bo", Subject: estate.Principal{ID: "bo"}}},
		Ask: func(g *gate.Gate) (*gate.Context, error) { return g.NewContext(), nil }})
	require.NoError(t, err)
	ops, cells, err := grid.Operations()
	require.NoError(t, err)
	require.Len(t, ops, 2)
	require.Equal(t, []survey.Answer{{Outcome: gate.Allow, Direct: true},
		{Outcome: gate.Allow, Direct: true, Partly: true}}, cells[0])
}

// Where a condition asks who owns, or what the tags are, places that nothing else tells apart are asked about apart.
func TestAGridTellsOwnersAndTagsApart(t *testing.T) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(`hidden-gate: 1
catalogs: {rack: {types: [rack, unit], operations: {rack.fill: {level: change, types: [unit]}}}}
systems: {s: {kind: rack, resources: {a: {owner: ana}, b: {owner: bo}, c: {tags: {env: x}}, d: {}}}}
people: {ana: {}, bo: {}}
roles: {fill: {allow: rack.fill}}
grants: {g: {to: everyone, role: fill, on: s, when: {any: [{owner: true}, {resource: {env: x}}]}}}
`)}})
	require.NoError(t, err)
	grid, err := survey.NewGrid(t.Context(), e, survey.Question{Columns: []survey.Column{
		{Name: "ana", Subject: estate.Principal{ID: "ana"}}, {Name: "bo", Subject: estate.Principal{ID: "bo"}}},
		Ask: func(g *gate.Gate) (*gate.Context, error) { return g.NewContext(), nil }})
	require.NoError(t, err)
	for place, want := range map[string][2]bool{
		"s:a": {true, false}, "s:b": {false, true}, "s:c": {true, true}, "s:d": {},
	} {
		row := grid.Find(place)
		require.Equal(t, want, [2]bool{grid.At(0, row).Any, grid.At(1, row).Any}, place)
	}
}
