// Package gate is the engine: an estate compiled so that it answers whether a subject may do an operation on a
// resource, as a region of contexts. The clock and the elevations are arguments; it does no I/O.
package gate

import (
	"errors"
	"maps"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/lookup"
	"hiddengate/internal/region"
)

// Gate answers for one estate and one set of elevations. It is not safe for concurrent use.
type Gate struct {
	Normal
	estate *estate.Estate
	space  *region.Space
	*membership.Roster
	blocks   []*CompiledBlock
	sessions []*estate.Separation // those within a session
	named    map[uint32]*entries  // of each list of subjects, what names it
	lists    *lookup.Sequences    // of each class of subjects, the lists that have it
	complete bool                 // see Complete
	lent     map[uint32][]lending // of a subject, by number
	lentFor  map[lentKey][]lentFor
	subjects map[int]*CompiledSubject // those that have been looked at closely
	inRoles  map[decisionKey]region.Region
	roleSets *lookup.Sequences    // of sessions, the roles by number
	coverAny map[string]bool      // of lists that are no grant's or block's
	learned  *placemap.Map        // which tells places apart by more of those; nil: none
	anywhere []placemap.Spot      // see beyond, once somebody asks
	validIn  map[int]opset.Set    // of lists, by number, what is valid on what they cover, once somebody asks
	used     map[string]opset.Set // of roles, the operations that apply where they are granted
	scratch  *region.Context
	matched  []uint32
	given    []region.Region // of what is matched
	taken    []region.Region
}

// Complete says that all of the estate's grants and blocks count in the gate, for everybody, and no elevation does.
func (g *Gate) Complete() bool { return g.complete }

// CompiledBlocks lists the blocks that count in the gate, by number.
func (g *Gate) CompiledBlocks() []*CompiledBlock { return g.blocks }

// enterGrant and enterBlock add an entry that names a list of subjects; they come by number.
func (g *Gate) enterGrant(to uint32, gr *CompiledGrant) {
	g.Grants = append(g.Grants, gr)
	e := g.entriesOf(to)
	e.grants = append(e.grants, gr)
}

func (g *Gate) enterBlock(to uint32, b *CompiledBlock) {
	g.blocks = append(g.blocks, b)
	e := g.entriesOf(to)
	e.blocks = append(e.blocks, b)
}

func (g *Gate) entriesOf(list uint32) *entries {
	if g.named[list] == nil {
		g.named[list] = &entries{}
	}
	return g.named[list]
}

// entries is the grants and blocks that name one list of subjects.
type entries struct {
	grants []*CompiledGrant
	blocks []*CompiledBlock
}

// decisionKey names an answer in a session. It holds numbers alone, so that nothing of a request, whose texts
// may stand in a buffer that is written over, is ever kept.
type decisionKey struct {
	subject   int
	operation uint32
	at        placemap.Spot
	session   uint32 // a set of roles in Gate.roleSets
	all       bool   // the session has all roles
	owns      bool
}

// Estate gives what the gate was made of.
func (g *Gate) Estate() *estate.Estate { return g.estate }

// Space gives the space of the gate's regions.
func (g *Gate) Space() *region.Space { return g.space }

// EntryRegion is the region of a grant's or block's own condition and dates. Its error says that they are too complex.
func (g *Gate) EntryRegion(when *estate.Condition, starts, ends *estate.Moment) (region.Region, error) {
	during, err := g.during(starts, ends)
	if err != nil || when == nil {
		return during, err
	}
	r, err := g.condition(when)
	if err != nil {
		return region.Empty, err
	}
	return g.space.And(during, r)
}

// during is the time from starts through ends; either may be nil.
func (g *Gate) during(starts, ends *estate.Moment) (region.Region, error) {
	r := region.Full
	var err error
	if starts != nil {
		if starts.IsDate {
			r, err = g.space.Not(g.space.Until(starts.Date.Before()))
		} else {
			r = g.space.Between(starts.Instant, clock.End)
		}
	}
	if ends != nil && err == nil {
		until := g.space.Until(ends.Date)
		if !ends.IsDate {
			until = g.space.Between(clock.Beginning, ends.Instant)
		}
		r, err = g.space.And(r, until)
	}
	return r, err
}

// role compiles a role and those it includes.
func (g *Gate) role(id string) (*CompiledRole, error) {
	if r := g.Roles[id]; r != nil {
		return r, nil
	}
	source := g.estate.Roles[id]
	r := &CompiledRole{Role: source, Operations: map[string]region.Region{}, Includes: map[string]bool{id: true}}
	for _, ref := range source.Include {
		included, err := g.role(ref.ID)
		if err != nil {
			return nil, err
		}
		maps.Copy(r.Includes, included.Includes)
		for name, when := range included.Operations {
			if r.Operations[name], err = g.space.Or(r.Operations[name], when); err != nil {
				return nil, err
			}
		}
	}
	during, err := g.during(source.Starts, source.Ends)
	if err == nil && source.SignedIn != nil {
		during, err = g.space.And(during, g.space.OneOf("signed-in-within", source.SignedIn...))
	}
	if err != nil {
		return nil, err
	}
	for _, name := range g.concerned(source.Allow, r.Operations) {
		o := g.estate.Operations[name]
		in, out := false, false
		for _, t := range source.Allow {
			if t.Fits(o, g.estate.Edition) {
				in, out = in || !t.Not, out || t.Not
			}
		}
		switch {
		case out:
			delete(r.Operations, name)
		case in:
			r.Operations[name] = region.Full
		}
		if when, ok := r.Operations[name]; ok {
			if r.Operations[name], err = g.space.And(when, during); err != nil {
				return nil, err
			}
		}
	}
	r.number = uint32(len(g.Roles))
	g.Roles[id] = r
	return r, nil
}

// concerned lists the operations that an allow list can select, and those held already: all of them only where a term
// may select any.
func (g *Gate) concerned(allow estate.Operations, held map[string]region.Region) []string {
	names := slices.Collect(maps.Keys(held))
	for _, t := range allow {
		if t.Kind != estate.ByName {
			return slices.Collect(maps.Keys(g.estate.Operations))
		}
		if g.estate.Operations[t.Name] != nil {
			names = append(names, t.Name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// ErrInvalid says that a question can't be asked: of things that exist, but do not go together.
var ErrInvalid = errors.New("invalid")
