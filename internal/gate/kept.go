package gate

import (
	"errors"
	"maps"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/lookup"
	"hiddengate/internal/region"
)

// Kept is a gate as it can be kept beside its estate: what takes long to work out. Nothing in it speaks of elevations.
type Kept struct {
	Regions      []region.Kept
	Kinds, Types []string // of the classes
	Names        lookup.Names
	Holders      []unitrow.Holder
	Steps        []unitrow.Step
	Blocks       []uint32
	Extras       []unitrow.Extra
	Covers, Ends []uint32
	Units        []unitrow.Unit
	Words        int
	Sets         []uint64
	Lists        []uint32 // of lists of subjects, by class
	ListEnds     []uint32
	Class        []uint32
	To           []uint32 // of each grant and then each block, the list of subjects
	In           []uint32 // likewise, the region
	Places       placemap.Known
}

// Keep gives the gate as it can be kept. A gate with elevations can't be.
func (g *Gate) Keep() (*Kept, bool) {
	if len(g.lent) > 0 {
		return nil, false
	}
	k := &Kept{
		Regions: g.space.Keep(), Kinds: g.Classes.Kinds, Types: g.Classes.Types, Names: g.Names, Holders: g.Rows.RowOf,
		Steps: g.Rows.Steps, Blocks: g.Rows.Blocks,
		Extras: g.Rows.Extras, Covers: g.Rows.Joined, Ends: g.Rows.Ends, Units: g.Units.List, Words: g.Units.Words,
		Sets:  g.Units.Sets,
		Lists: g.lists.Items, ListEnds: g.lists.Ends,
		Class: g.ClassOf, To: make([]uint32, len(g.Grants)+len(g.blocks)), In: make([]uint32, len(g.Grants)+len(g.blocks)),
	}
	on := make([]int, len(k.To))
	for to, named := range g.named {
		for _, gr := range named.grants {
			k.To[gr.Number], k.In[gr.Number], on[gr.Number] = to, uint32(gr.Region), gr.List
		}
		for _, b := range named.blocks {
			n := len(g.Grants) + b.Number
			k.To[n], k.In[n], on[n] = to, uint32(b.Region), b.List
		}
	}
	k.Places = g.Places.Known(on)
	return k, true
}

var errForeign = errors.New("this was kept of another estate")

// Take gives the gate that was kept of an estate. everyone gives its people by id, and is asked last: they may still be
// being read.
func (k *Kept) Take(e *estate.Estate, everyone func() ([]*estate.Subject, error)) (*Gate, error) {
	g := newGate(e, Options{Facts: factspace.Gather(e)})
	if err := g.space.Take(k.Regions); err != nil {
		return nil, err
	}
	for i := range k.Kinds {
		if e.Kinds[k.Kinds[i]] == nil || g.Classes.Number(k.Kinds[i], k.Types[i]) != uint32(i) {
			return nil, errForeign
		}
	}
	grants, blocks := estate.Sorted(e.Grants), estate.Sorted(e.Blocks)
	if len(k.Holders) != len(k.Class) || len(k.Places.Spots) != e.Tree.Len() || len(k.To) != len(grants)+len(blocks) ||
		len(k.In) != len(k.To) {
		return nil, errForeign
	}
	g.Roster = &membership.Roster{Names: k.Names, Persons: len(k.Holders) - len(e.Services) - 1}
	g.Units = unitrow.Units{List: k.Units, Words: k.Words, Sets: k.Sets}
	g.Rows = unitrow.Rows{RowOf: k.Holders, Steps: k.Steps, Blocks: k.Blocks, Extras: k.Extras, Joined: k.Covers,
		Ends: k.Ends}
	g.lists, g.ClassOf = &lookup.Sequences{Items: k.Lists, Ends: k.ListEnds}, k.Class
	for _, id := range slices.Sorted(maps.Keys(e.Roles)) {
		if _, err := g.role(id); err != nil {
			return nil, err
		}
	}
	places, on, ok := placemap.Take(e, ListsOf(grants, blocks), g.Classes, k.Places)
	if !ok {
		return nil, errForeign
	}
	g.Places = places
	for i, gr := range grants {
		g.enterGrant(k.To[i], &CompiledGrant{Grant: gr, Number: i, List: on[i], Region: region.Region(k.In[i])})
	}
	for i, b := range blocks {
		n := len(grants) + i
		g.enterBlock(k.To[n], &CompiledBlock{Block: b, Number: i, List: on[n], Region: region.Region(k.In[n])})
	}
	people, err := everyone()
	if err != nil {
		return nil, err
	}
	if g.All = membership.Everybody(people, e); len(g.All) != len(k.Holders) {
		return nil, errForeign
	}
	g.Lists = membership.NewLists(e, g.All, g.NumberOf)
	g.complete = true
	return g, nil
}
