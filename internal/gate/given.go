package gate

import (
	"encoding/binary"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/region"
	"slices"
)

// OperationOutcomes is what a subject may do on a resource.
type OperationOutcomes struct {
	Operations []*estate.Operation // those valid on it, by name
	Outcomes   []Outcome           // of each
}

// Asker answers about one subject in one context on one resource after another. Where no rule tells two resources
// apart, or the answers are the same, it gives the same Given: a million resources have a few dozen.
type Asker struct {
	gate    *Gate
	subject int
	context *Context
	several *question // where there can be several sessions
	known   map[lookOfAsker]*OperationOutcomes
	same    map[string]*OperationOutcomes
	byUnits map[string]*OperationOutcomes // by what is in force, whatever lists cover the resource
	units   []uint32
	key     []byte
	last    lookOfAsker
	answer  *OperationOutcomes
}

// lookOfAsker is all that an answer can hang on: what is in force, what can be done there, and the facts of the
// resource.
type lookOfAsker struct {
	cover, mark, trait, class uint32
	tags                      uint32
	owns                      bool
}

// Asker gives an asker for a subject in a context.
func (g *Gate) Asker(p estate.Principal, c *Context) (*Asker, error) {
	n := g.NumberOf(p)
	if n < 0 {
		return nil, g.Subject(p)
	}
	a := &Asker{gate: g, subject: n, context: c, known: map[lookOfAsker]*OperationOutcomes{},
		same: map[string]*OperationOutcomes{}, byUnits: map[string]*OperationOutcomes{}}
	if len(c.Roles) > 0 || g.Rows.RowOf[n].Flags&unitrow.Separated != 0 {
		a.several = &question{subject: g.Numbered(n), context: c}
		return a, a.several.open(g)
	}
	return a, nil
}

// On tells what the subject may do on the listed resource of a row.
func (a *Asker) On(row int) (*OperationOutcomes, error) {
	return a.on(row, a.gate.Places.Spots[row], nil)
}

// OnAs is On where it is known what concerns the subject on the resource.
func (a *Asker) OnAs(row int, how Concern) (*OperationOutcomes, error) {
	at := a.gate.Places.Spots[row]
	if how < ByTraits && a.several == nil {
		at.Trait = 0 // which tells the resource from no other
	}
	return a.on(row, at, nil)
}

// OnUnlisted tells what the subject may do on a resource that no inventory lists, of a system that judges such.
func (a *Asker) OnUnlisted(address estate.Address) (*OperationOutcomes, error) {
	at, row := a.gate.Places.Unlisted(a.gate.estate.Canonical(address).String())
	return a.on(row, at, a.gate.estate.Unlisted(address))
}

// on answers about a resource at a spot, of which a row has the facts: the one of that row, or one that is not listed.
func (a *Asker) on(row int, at placemap.Spot, unlisted *estate.Resource) (*OperationOutcomes, error) {
	g := a.gate
	r := &g.estate.Tree.Rows[row]
	look := lookOfAsker{trait: at.Trait, class: at.Class}
	if a.several != nil || len(g.lent) > 0 {
		look.mark = at.Mark
	} else {
		look.cover = g.Rows.At(&g.Rows.RowOf[a.subject], at.Mark)
	}
	if g.Facts.Fixed > 1 {
		look.tags = r.Tags
	}
	if g.Facts.Owner {
		look.owns = g.Owns(a.subject, g.estate.Tree.Owners[r.Owner])
	}
	if a.answer != nil && look == a.last {
		return a.answer, nil
	}
	answer := a.known[look]
	if answer == nil {
		var err error
		if answer, err = a.inForce(row, at, unlisted, look); err != nil {
			return nil, err
		}
		a.known[look] = answer
	}
	a.last, a.answer = look, answer
	return answer, nil
}

// unitsAt gathers the units in force for the subject at a spot, whatever operations they have.
func (a *Asker) unitsAt(q *Query) []uint32 {
	g := a.gate
	h := &g.Rows.RowOf[a.subject]
	var one [1]uint32
	out := append(a.units[:0], g.Rows.Cover(g.Rows.At(h, q.At.Mark), &one)...)
	if q.At.Trait > 0 {
		for _, e := range g.Rows.Extras[h.Extra : h.Extra+h.Extras] {
			if g.Places.Traits.Has(q.At.Trait, int(e.Trait)) {
				out = append(out, e.Unit)
			}
		}
	}
	for _, l := range g.lentUnits(q) {
		out = append(out, l.unit)
	}
	a.units = out
	return out
}

// inForce answers once for what is in force, and what else answers hang on.
func (a *Asker) inForce(row int, at placemap.Spot, unlisted *estate.Resource,
	look lookOfAsker) (*OperationOutcomes, error) {
	if a.several != nil || a.gate.Rows.RowOf[a.subject].Active == int32(region.Empty) {
		return a.work(row, at, unlisted, nil)
	}
	units := a.unitsAt(&Query{Subject: a.subject, Context: a.context.region, At: at, Row: row})
	slices.Sort(units)
	key := binary.LittleEndian.AppendUint32(a.key[:0], at.Class)
	key = binary.LittleEndian.AppendUint32(key, look.tags)
	if key = append(key, 0); look.owns {
		key[len(key)-1] = 1
	}
	for _, u := range units {
		key = binary.LittleEndian.AppendUint32(key, u)
	}
	a.key = key
	answer := a.byUnits[string(key)]
	if answer == nil {
		var err error
		if answer, err = a.work(row, at, unlisted, units); err != nil {
			return nil, err
		}
		a.byUnits[string(key)] = answer
	}
	return answer, nil
}

// weighThose decides a query about those of some units that have its operation, by a subject that is active in a
// region.
func (g *Gate) weighThose(q *Query, units []uint32, active region.Region) (Outcome, error) {
	if active == region.Empty {
		return Deny, nil
	}
	g.matched = g.matched[:0]
	for _, u := range units {
		if g.Units.Has(u, q.Operation) {
			g.matched = append(g.matched, u)
		}
	}
	return g.Weigh(q, g.matched, active)
}

// work answers about some units, or about sessions where there can be several.
func (a *Asker) work(row int, at placemap.Spot, unlisted *estate.Resource, units []uint32) (*OperationOutcomes, error) {
	g := a.gate
	resource := unlisted
	if resource == nil && a.several != nil {
		resource = g.estate.Tree.At(row)
	}
	out := &OperationOutcomes{Operations: g.estate.Offer(g.Classes.Kinds[at.Class]).On(g.Classes.Types[at.Class])}
	q := Query{Subject: a.subject, Context: a.context.region, At: at, Row: row}
	active := region.Region(g.Rows.RowOf[a.subject].Active)
	key := []byte{byte(at.Class), byte(at.Class >> 8), byte(at.Class >> 16), byte(at.Class >> 24)}
	for _, o := range out.Operations {
		var outcome Outcome
		var err error
		if a.several != nil {
			a.several.operation, a.several.resource = o.Name, resource
			outcome, err = g.outcome(a.several)
		} else {
			q.Operation = g.Classes.Ops.Number[o.Name]
			outcome, err = g.weighThose(&q, units, active)
		}
		if err != nil {
			return nil, err
		}
		out.Outcomes = append(out.Outcomes, outcome)
		key = append(key, byte(outcome))
	}
	if same := a.same[string(key)]; same != nil {
		return same, nil
	}
	a.same[string(key)] = out
	return out, nil
}
