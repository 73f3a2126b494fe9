package gate_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/region"
	"hiddengate/internal/shape"
)

// heldAt is a subject with an operation and an address.
type heldAt struct {
	who           estate.Principal
	operation, at string
}

// What is told pile by pile is what is told subject by subject, and what is told again has not changed.
func TestWhatIsToldByPileIsWhatIsToldBySubject(t *testing.T) {
	told, partly, again, counted := 0, 0, 0, 0
	for seed := range uint64(scaled(120)) {
		d := newDraw(seed + 61e6)
		e := load(t, d.estate())
		since, err := e.Zone.ParseTime(d.one(drawnTimes[:3]...))
		require.NoError(t, err)
		scene := differing.Scene{Which: gate.Counting(d.IntN(3)), Roster: membership.New(e)}
		if d.chance(30) {
			scene.Only = map[estate.Principal]bool{{ID: "ana"}: true, {ID: "cai"}: true}
		}
		if d.chance(50) {
			scene.Base, err = gate.Compile(e, nil)
			require.NoError(t, err)
		}
		cells, err := differing.CompileCells(e, scene)
		require.NoError(t, err)
		some := d.Uint64()
		cells.Choose(func(o *estate.Operation) bool { return some>>(len(o.Name)%7)&1 == 1 }, nil)
		cells.Follow = differing.Follow(seed % 3)
		if d.chance(30) {
			cells.Within(cells.Space().Between(since, since+1e12))
		}
		want, got := map[heldAt]differing.Cell{}, map[heldAt]differing.Cell{}
		require.NoError(t, cells.Each(t.Context(), since, func(a differing.Access) bool {
			for pile := range a.Piles.All() {
				for address := range pile.Addresses() {
					for _, who := range a.Subjects {
						want[heldAt{who, a.Operation, address}] = a.Cell
					}
				}
			}
			return true
		}))
		active := cells.Activity()
		last := map[uint64]map[estate.Principal]differing.Cell{}
		err = cells.ByPile(t.Context(), since, func(pile *differing.Pile, on *differing.OnPile) error {
			for n, name := range cells.Names() {
				if some>>(len(name)%7)&1 == 0 || !pile.Valid(uint32(n)) {
					continue
				}
				bands, err := on.Of(uint32(n))
				require.NoError(t, err)
				now := map[estate.Principal]differing.Cell{}
				counted += requireCounted(t, cells, bands)
				for _, b := range bands.List {
					for class := range b.Classes.All() {
						cell := whileActive(t, cells, b.Cell, active.When(class))
						for _, who := range cells.Class(class) {
							require.NotContains(t, now, who, "seed %d: in two bands", seed)
							now[who] = b.Cell
							if cell.Sure != cell.Possible {
								partly++
							}
							for address := range pile.Addresses() {
								if cell.Possible != region.Empty {
									got[heldAt{who, name, address}] = cell
								}
							}
						}
					}
				}
				if was, known := last[bands.Serial]; known {
					require.Equal(t, was, now, "seed %d: %s", seed, name)
					again += len(now)
				}
				last[bands.Serial] = now
				twice, err := on.Of(uint32(n))
				require.NoError(t, err)
				require.Equal(t, bands, twice)
			}
			return nil
		})
		require.NoError(t, err)
		require.Equal(t, len(want), len(got), "seed %d", seed)
		for at, cell := range want {
			require.True(t, same(t, cells, cell.Sure, got[at].Sure) && same(t, cells, cell.Possible, got[at].Possible),
				"seed %d: %v", seed, at)
		}
		told += len(want)
	}
	require.Greater(t, told, 1000)
	require.Positive(t, partly)
	require.Positive(t, again)
	require.Positive(t, counted)
}

// requireCounted sees that people are counted right, where they are, and says how many.
func requireCounted(t *testing.T, cells *differing.Cells, bands *differing.Bands) (n int) {
	if bands.All == nil {
		return 0
	}
	weights, all := cells.Weights(estate.IsPerson), cells.NewClassSet()
	for _, b := range bands.List {
		require.Equal(t, weights.Sum(b.Classes), b.People)
		all.AddAll(b.Classes)
		n += b.People
	}
	require.Equal(t, all, bands.All)
	return n
}

// whileActive is a cell at the times at which somebody is active.
func whileActive(t *testing.T, cells *differing.Cells, c differing.Cell, when region.Region) (out differing.Cell) {
	var err error
	out.Sure, err = cells.Space().And(c.Sure, when)
	require.NoError(t, err)
	out.Possible, err = cells.Space().And(c.Possible, when)
	require.NoError(t, err)
	return out
}

// same says whether two regions are, however they were put together.
func same(t *testing.T, cells *differing.Cells, a, b region.Region) bool {
	if a == b {
		return true
	}
	over, err := cells.Space().Contains(a, b)
	require.NoError(t, err)
	under, err := cells.Space().Contains(b, a)
	require.NoError(t, err)
	return over && under
}

// uneven makes up a large estate of so many people.
func uneven(t *testing.T, people int) *estate.Estate {
	dir := t.TempDir()
	require.NoError(t, shape.Uneven(people).Write(dir))
	e, err := policyfile.Load(os.DirFS(dir))
	require.NoError(t, err)
	return e
}

// So it is where classes are many, and most of them hold little of what there is.
func TestManyClassesAreToldByPile(t *testing.T) {
	e := uneven(t, 2000)
	g := compiled(t, e)
	cells, err := differing.CompileCells(e, differing.Scene{Base: g})
	require.NoError(t, err)
	require.Greater(t, cells.Classes(), 300) // several words of a set
	cells.Choose(func(o *estate.Operation) bool { return o.Name == "table.drop" || o.Name == "index.change" }, nil)
	type held struct {
		class, pile int
		operation   string
	}
	of := map[estate.Principal]int{}
	for n := range cells.Classes() {
		of[cells.Class(uint32(n))[0]] = n
	}
	want, told := map[held]differing.Cell{}, 0
	require.NoError(t, cells.Each(t.Context(), clock.Beginning, func(a differing.Access) bool {
		for pile := range a.Piles.All() {
			want[held{of[a.Subjects[0]], pile.Number(), a.Operation}] = a.Cell
		}
		return true
	}))
	active := cells.Activity()
	for _, cells.Follow = range []differing.Follow{differing.WherePays, differing.Always} {
		told = 0
		err = cells.ByPile(t.Context(), clock.Beginning, func(pile *differing.Pile, on *differing.OnPile) error {
			for n, name := range cells.Names() {
				if !pile.Valid(uint32(n)) {
					continue
				}
				bands, err := on.Of(uint32(n))
				require.NoError(t, err)
				requireCounted(t, cells, bands)
				for _, b := range bands.List {
					for class := range b.Classes.All() {
						is := whileActive(t, cells, b.Cell, active.When(class))
						if is.Possible == region.Empty {
							continue
						}
						told++
						cell, ok := want[held{int(class), pile.Number(), name}]
						if !ok || !same(t, cells, cell.Possible, is.Possible) {
							require.Fail(t, "another cell", "%s of %v on %s", name, cells.Class(class)[0], pile.First())
						}
					}
				}
			}
			return nil
		})
		require.NoError(t, err)
		require.Equal(t, len(want), told)
		require.Greater(t, told, 10_000)
	}
}
