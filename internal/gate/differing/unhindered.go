package differing

import (
	"slices"

	"hiddengate/internal/region"
)

// Unhindered gives sets of classes who may an operation on the pile at hand at all times, each because of one thing
// that they are given, until one of them is enough; it says whether one was. There may be others who may it. A set
// stands until the next one. It takes a few sets of classes, where Of takes many.
func (t *OnPile) Unhindered(operation uint32, enough func(ClassSet) bool) bool {
	t.scratch.Free()
	hindered, classes := t.scratch.Empty(), t.scratch.Any()
	o := &t.ops[operation]
	for n, held := range o.by {
		if len(t.said[n].taken) > 0 {
			hindered.AddAll(held.classes)
		}
	}
	for _, held := range t.beside[operation] {
		if t.list[held.unit].block {
			held.addTo(hindered)
		}
	}
	for n, held := range o.by {
		if slices.Contains(t.said[n].given, region.Full) && classes.SetBut(held.classes, hindered) && enough(classes) {
			return true
		}
	}
	for _, held := range t.beside[operation] {
		if one := &t.list[held.unit]; one.region != region.Full { // those of blocks are all hindered
			continue
		}
		clear(classes)
		if held.addTo(classes); classes.SetBut(classes, hindered) && enough(classes) {
			return true
		}
	}
	return false
}

// addTo adds the classes that have the unit to a set.
func (u *heldUnit) addTo(set ClassSet) {
	if u.many != nil {
		set.AddAll(u.many)
	}
	for _, class := range u.few {
		set.Add(class)
	}
}
