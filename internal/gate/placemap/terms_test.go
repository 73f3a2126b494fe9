package placemap_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/policyfile"
)

const archive = `hidden-gate: 1
people: {ana: {}, bo: {}}
scopes:
  raw: {resources: ["db:*/raw", "not db:dust/raw/one"]}
  north: {resources: [{tags: {site: north, env: [prod, test]}}]}
  less: {resources: ["scope:raw", "not scope:north", {tags: {site: south}}]}
  more: {resources: ["scope:less", "scope:north"]}
roles: {r: {allow: all}}
grants:
  g01: {to: ana, role: r, on: "scope:raw"}
  g02: {to: ana, role: r, on: "scope:north"}
  g03: {to: ana, role: r, on: ["scope:less", "not db:sky/raw/one"]}
  g04: {to: ana, role: r, on: ["scope:more", "not scope:less"]}
  g05: {to: ana, role: r, on: {in: "*:sky", exactly: true}}
  g06: {to: ana, role: r, on: {in: "*:*", kind: database, tags: {env: prod}}}
  g07: {to: ana, role: r, on: {owner: person:ana, kind: server}}
  g08: {to: ana, role: r, on: [{owner: [person:ana, person:bo]}, "not *:*/raw"]}
  g09: {to: ana, role: r, on: [{type: table}, {type: area, tags: {site: south}}]}
  g10: {to: ana, role: r, on: [everything, "not scope:more", {not: {owner: person:bo}}]}
  g11: {to: ana, role: r, on: {tags: {env: prod, site: south}}}
`

const shelves = `systems:
  db:
    kind: database
    resources:
      sky: {tags: {env: prod, site: north}, owner: person:ana}
      sky/raw: {tags: {env: test}}
      sky/raw/one: {owner: person:bo}
      dust: {tags: {env: prod}}
      dust/raw: {tags: {site: north}}
      dust/raw/one: {}
  disk:
    kind: server
    resources:
      sky: {tags: {env: prod, site: north}, owner: person:ana}
      sky/raw: {tags: {site: south}}
`

func filesOf(shelves string) fstest.MapFS {
	return fstest.MapFS{"hidden-gate.yaml": {Data: []byte(archive)}, "systems.yaml": {Data: []byte(shelves)}}
}

// load gives the estate of files, and the lists of its grants.
func load(t *testing.T, files fstest.MapFS) (e *estate.Estate, lists []estate.Resources) {
	e, err := policyfile.Load(files)
	require.NoError(t, err)
	for _, g := range estate.Sorted(e.Grants) {
		lists = append(lists, g.On)
	}
	return e, lists
}

// Which lists cover a resource is told by what their terms ask for as it is told of each list by itself, also of
// resources that no inventory has.
func TestListsCoverWhatTheirTermsAskFor(t *testing.T) {
	e, lists := load(t, filesOf(shelves))
	p, which := placemap.New(e, lists, nil, opset.New(e))
	covered := 0
	look := func(r *estate.Resource, at placemap.Spot) {
		for i, l := range lists {
			covers := placemap.Covers(e, l, r)
			require.Equal(t, covers, p.Covers(which[i], at), "%s on %s", r.Address, l)
			if covers {
				covered++
			}
		}
	}
	for row := range e.Tree.Len() {
		look(e.Tree.At(row), p.Spots[row])
	}
	for _, text := range []string{"db:sky/raw/two", "db:dust/new", "disk:sky/raw/two", "disk:new/raw"} {
		a, err := estate.ParseAddress(text)
		require.NoError(t, err)
		at, _ := p.Unlisted(text)
		look(e.Unlisted(a), at)
	}
	require.Positive(t, covered)
}

// Where other resources are listed, lists cover them by what they are now.
func TestListsCoverWhatIsListedOtherwise(t *testing.T) {
	e, lists := load(t, filesOf(shelves))
	known, which := placemap.New(e, lists, nil, opset.New(e))
	edited := strings.NewReplacer("dust: {tags: {env: prod}}",
		"dust: {tags: {env: test}, owner: person:bo}", "dust/raw: {tags: {site: north}}",
		"dust/raw: {tags: {site: south, env: prod}}\n      dust/two: {tags: {site: north}}\n"+
			"      dust/three: {tags: {env: prod}}\n      dust/two/raw: {owner: person:ana}",
		"dust/raw/one: {}", "dust/raw/one: {}\n      dust/raw/two: {tags: {env: test}}").Replace(shelves)
	after, err := policyfile.Reload(filesOf(shelves), filesOf(edited), e, []string{"systems.yaml"})
	require.NoError(t, err)
	p := known.Relisted(after)
	require.NotNil(t, p)
	for row := range after.Tree.Len() {
		for i, l := range lists {
			r := after.Tree.At(row)
			require.Equal(t, placemap.Covers(after, l, r), p.Covers(which[i], p.Spots[row]), "%s on %s", r.Address, l)
		}
	}
}
