package gate

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/placemap"
)

// Carried makes the gate of an estate as Compile does, without elevations, and takes over what a gate of the estate
// before an edit knows of places and people, as far as the edit leaves it.
func Carried(e *estate.Estate, known *Gate) (*Gate, error) {
	if g := known.Relisted(e); g != nil {
		return g, nil
	}
	o := Options{Facts: factspace.Gather(e)}
	if known != nil {
		o.Roster = known.Roster.For(e)
		if places := known.PlacesOf(e); places != nil {
			lists := ListsOf(estate.Sorted(e.Grants), estate.Sorted(e.Blocks))
			o.Places, _ = places.For(e, lists, nil)
		}
	}
	return CompileWith(e, nil, o)
}

// PlacesOf gives the gate's places as those of an estate that lists the same resources, or others in a few places; nil
// where that is in many, or scopes or kinds say something else.
func (g *Gate) PlacesOf(e *estate.Estate) *placemap.Map {
	if e.PlacesAs(g.estate) {
		return g.Places
	}
	return g.Places.Relisted(e)
}

// Relisted gives the gate as that of an estate that lists other resources in a few places, and says nothing otherwise
// but in tests and guarantees; nil where more is otherwise, or the gate is not that of a whole estate, or there is
// none.
func (g *Gate) Relisted(e *estate.Estate) *Gate {
	if g == nil || !g.complete || e.Tree == g.estate.Tree || e.Zone != g.estate.Zone || e.Edition != g.estate.Edition {
		return nil
	}
	for _, section := range estate.SectionNames {
		if section != "tests" && section != "guarantees" && section != "systems" && !e.Shares(g.estate, section) {
			return nil
		}
	}
	places := g.Places.Relisted(e)
	if places == nil {
		return nil
	}
	f := g.Fork()
	f.estate, f.Places, f.Classes, f.anywhere = e, places, places.Classes, nil
	return f
}

// Restated gives the gate as that of an estate in which nothing but tests and guarantees is said otherwise: a gate
// makes nothing of those. It is nil where more is, or there is no gate.
func (g *Gate) Restated(e *estate.Estate) *Gate {
	if g == nil || e.Tree != g.estate.Tree || e.Zone != g.estate.Zone || e.Edition != g.estate.Edition {
		return nil
	}
	for _, section := range estate.SectionNames {
		if section != "tests" && section != "guarantees" && !e.Shares(g.estate, section) {
			return nil
		}
	}
	return g.Retold(e)
}

// Retold gives the gate as that of an estate that says nothing otherwise that a gate asks about, which whoever calls
// knows. It serves to be kept: what it names are the entries of the estate before.
func (g *Gate) Retold(e *estate.Estate) *Gate {
	f := *g
	f.estate = e
	return &f
}

// CarriedFor is Carried with elevations, for a gate that is asked about some subjects alone. Places may be told apart
// by more lists than the estate has.
func CarriedFor(e *estate.Estate, known *Gate, elevations []estate.Elevation,
	only map[estate.Principal]bool) (*Gate, error) {
	o := Options{Facts: factspace.Gather(e), Only: only}
	if known == nil {
		return CompileWith(e, elevations, o)
	}
	o.Roster = known.Roster.For(e)
	o.Entries = EntriesFor(e, o.Roster, only)
	if e.PlacesAs(known.estate) {
		o.Places = known.Places.Knowing(ListsOf(o.Entries.Grants, o.Entries.Blocks), marksOf(e, elevations))
	}
	return CompileWith(e, elevations, o)
}
