package gate_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/gate/differing"
	"hiddengate/internal/region"
)

// Each way in which an edit can change access is looked for on its own, so each has an edit that no other finds.
func TestADifferenceIsFoundWhereverItLies(t *testing.T) {
	const text = `
hidden-gate: 1
catalogs:
  store: {types: [store, shelf], operations: {
    shelf.see: {level: view, types: [shelf], about: See}, shelf.fill: {level: change, types: [shelf], about: Fill}}}
systems:
  a: {kind: store, resources: {s1: {tags: {env: prod}}, s2: {}, s3: {tags: {env: prod}, owner: ana}}}
people: {ana: {tags: {team: x}}, bo: {tags: {team: y}}}
groups: {g: {members: [ana, bo]}}
roles: {see: {allow: [shelf.see]}, fill: {allow: [shelf.fill]}}
grants:
  all-see: {to: group:g, role: see, on: everything, when: {mfa: true}}
  own: {to: group:g, role: fill, on: a, when: {owner: true, subject: {team: [x, y]}}}
`
	for _, x := range []struct{ what, old, new, want string }{
		{"nothing", "hidden-gate: 1", "hidden-gate: 1", ""},
		{"what an address selects", "on: everything", "on: [everything, not a:s2]", "ana shelf.see a:s2, bo shelf.see a:s2"},
		{"what tags select", "grants:", "grants:\n  more: {to: bo, role: fill, on: [{tags: {env: prod}}]}",
			"bo shelf.fill a:s1, bo shelf.fill a:s3"},
		{"what tags select no more", "on: everything", "on: [{tags: {env: prod}}]", "ana shelf.see a:s2, bo shelf.see a:s2"},
		{"a new resource", "s2: {}", "s2: {}, s4: {}", "ana shelf.see a:s4, bo shelf.see a:s4"},
		{"an owner", "s2: {}", "s2: {owner: ana}", "ana shelf.fill a:s2"},
		{"another owner", "owner: ana}", "owner: bo}", "ana shelf.fill a:s3, bo shelf.fill a:s3"},
		{"a person's tags", "ana: {tags: {team: x}}", "ana: {tags: {team: z}}", "ana shelf.fill a:s3"},
		{"a person's end", "ana: {tags: {team: x}}", "ana: {tags: {team: x}, ends: 2031-01-01}",
			"ana shelf.fill a:s3, ana shelf.see a:s1, ana shelf.see a:s2, ana shelf.see a:s3"},
		{"a separation", "grants:", "separations: {apart: {roles: [see, fill], at-most: 1, within: session}}\ngrants:",
			"ana shelf.fill a:s3?, ana shelf.see a:s1?, ana shelf.see a:s2?, ana shelf.see a:s3?, bo shelf.see a:s1?, bo " +
				"shelf.see a:s2?, bo shelf.see a:s3?"},
	} {
		t.Run(x.what, func(t *testing.T) {
			pair, err := differing.CompilePair(differing.Estates{Before: load(t, text),
				After: load(t, strings.Replace(text, x.old, x.new, 1))})
			require.NoError(t, err)
			got := []string{}
			require.NoError(t, pair.Differences(t.Context(), 0, func(d differing.Difference) bool {
				doubt := ""
				if d.New.Sure != d.New.Possible {
					require.Equal(t, region.Empty, d.New.Sure, "no session allows what the others do")
					doubt = "?"
				}
				for _, who := range d.Subjects {
					for pile := range d.Piles.All() {
						for address := range pile.Addresses() {
							got = append(got, who.String()+" "+d.Operation+" "+address+doubt)
						}
					}
				}
				return true
			}))
			slices.Sort(got)
			require.Equal(t, x.want, strings.Join(got, ", "))
		})
	}
}
