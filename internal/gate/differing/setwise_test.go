package differing_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/policyfile"
)

// drawPolicy draws grants and blocks on shelves of a store for eight people, and who these are.
func drawPolicy(t *rapid.T, name string) string {
	pick := func(of ...string) string { return rapid.SampledFrom(of).Draw(t, name) }
	some := func(most int, one func(i int) string) string {
		var b strings.Builder
		for i := range rapid.IntRange(0, most).Draw(t, name) {
			b.WriteString(one(i))
		}
		return b.String()
	}
	when := func() string {
		return pick("", "", "", ", when: {mfa: true}", ", when: {owner: true}", ", when: {same: team}",
			", when: {subject: {team: x}}", ", when: {resource: {env: prod}}", ", when: {hours: 08:00-17:00}",
			", starts: 2026-01-01, ends: 2026-06-01", ", ends: 2025-01-01")
	}
	to := func() string { return pick("g", "h", "k") }
	on := func() string {
		return pick("everything", "a", "a:s1", "[a, not a:s1]", "{tags: {env: prod}}", "{type: shelf}", "'a:s*'",
			"{tags: {team: x}}", "[a:s1, {tags: {env: prod}}]", "[a, {not: {tags: {env: prod}}}]", "b", "b:t1/x", "b:new")
	}
	role := func() string { return pick("see", "fill", "both") }
	return "groups: {g: {members: [p0, p1, p2, p3]}, h: {members: [p2, p3, p4, p5, p6]}, k: {members: [group:g, p7]}}\n" +
		"grants:\n  none: {to: p0, role: see, on: 'b:t1'" + when() + "}\n" +
		// which comes to the same
		"  late: {to: group:h, role: see, on: 'a:s3', when: {hours: 22:00-23:00}, starts: 2026-01-01T0" + pick("8", "9") +
		":00}\n  own: {to: group:h, role: fill, on: everything, when: {owner: true}}\n" +
		some(6, func(i int) string {
			return fmt.Sprintf("  g%d: {to: group:%s, role: %s, on: %s%s}\n", i, to(), role(), on(), when())
		}) +
		"blocks:\n  none: {to: p7, deny: [shelf.see], on: 'a:s2'}\n" +
		some(2, func(i int) string {
			return fmt.Sprintf("  b%d: {to: group:%s, deny: [%s], on: %s}\n", i, to(), pick("shelf.see", "shelf.fill"), on())
		})
}

const storeText = `hidden-gate: 1
catalogs:
  store: {types: [store, shelf], inside: {store: shelf, shelf: shelf}, operations: {
    shelf.see: {level: view, types: [shelf], about: See}, shelf.fill: {level: change, types: [shelf], about: Fill},
    store.shut: {level: change, types: [store], about: Shut}}}
roles: {see: {allow: [shelf.see]}, fill: {allow: [shelf.fill, store.shut]}, both: {include: [see, fill]}}
people:
  p0: {tags: {team: x}}
  p1: {tags: {team: y}}
  p2: {tags: {team: x}}
  p3: {ends: 2026-03-01}
  p4: {}
  p5: {tags: {team: y}}
  p6: {}
  p7: {tags: {team: x}}
`

func drawStores(t *rapid.T) string {
	shelf := func() string {
		return rapid.SampledFrom([]string{"{}", "{tags: {env: prod}}", "{tags: {env: prod, team: x}}", "{owner: p4}",
			"{owner: group:g}", "{tags: {team: y}, owner: p1}"}).Draw(t, "shelf")
	}
	judge := rapid.SampledFrom([]string{"", "unlisted: judge, "}).Draw(t, "judge")
	return fmt.Sprintf("systems:\n  a: {kind: store, resources: {s1: %s, s2: %s, s3: %s, s1/u: %s}}\n"+
		"  b: {kind: store, %sresources: {t1: %s, t1/x: %s, t2: %s}}\n", shelf(), shelf(), shelf(), shelf(), judge, shelf(),
		shelf(), shelf())
}

// What is told of all together is what is told of one class after another.
func TestDifferencesAreTheSameTogether(t *testing.T) {
	looked, differ := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		load := func(text string) *estate.Estate {
			e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(storeText + text)}})
			require.NoError(t, err, "%s", text)
			return e
		}
		stores := drawStores(t)
		others := stores
		if rapid.IntRange(0, 2).Draw(t, "others") == 0 {
			others = drawStores(t)
		}
		policy := drawPolicy(t, "before")
		before := load(stores + policy)
		if rapid.IntRange(0, 2).Draw(t, "again") > 0 {
			policy = drawPolicy(t, "after")
		}
		after := load(others + policy)
		var coming *differing.Coming
		if rapid.Bool().Draw(t, "coming") {
			coming = &differing.Coming{}
		}
		pair, err := differing.CompilePair(differing.Estates{Before: before, After: after, Coming: coming})
		require.NoError(t, err)
		type cell struct{ who, operation, resource string }
		told := func(cells map[cell][2]differing.Cell) func(differing.Difference) bool {
			return func(d differing.Difference) bool {
				for _, who := range d.Subjects {
					for pile := range d.Piles.All() {
						for address := range pile.Addresses() {
							at := cell{who.String(), d.Operation, fmt.Sprint(address, pile.May() != nil, pile.Number())}
							require.NotContains(t, cells, at)
							cells[at] = [2]differing.Cell{d.Old, d.New}
						}
					}
				}
				return true
			}
		}
		want, got := map[cell][2]differing.Cell{}, map[cell][2]differing.Cell{}
		require.NoError(t, pair.OneByOne(t.Context(), 0, told(want)))
		plain, err := pair.Together(t.Context(), 0, told(got))
		require.NoError(t, err)
		looked, differ = looked+plain, differ+len(want)
		for at, cells := range want {
			require.Contains(t, got, at)
			for k := range cells {
				require.Equal(t, pair.Space().Text(cells[k].Possible, 9), pair.Space().Text(got[at][k].Possible, 9), at)
				require.Equal(t, pair.Space().Text(cells[k].Sure, 9), pair.Space().Text(got[at][k].Sure, 9), at)
			}
		}
		require.Len(t, got, len(want))
	})
	require.Positive(t, looked)
	require.Positive(t, differ)
}
