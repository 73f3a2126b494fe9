package differing

import "hiddengate/internal/region"

// Activity is when the subjects of each class are active.
type Activity struct {
	Partly ClassSet        // the classes that are so at some times alone
	Of     []int           // of each of those, by class, the number of the times
	Times  []region.Region // by number
}

// Activity tells when the subjects of each class are active.
func (c *Cells) Activity() Activity {
	a := Activity{Partly: c.NewClassSet(), Of: make([]int, len(c.classes))}
	known := map[region.Region]int{}
	for n, class := range c.classes {
		active := region.Region(c.Rows.RowOf[class[0].numbers[New]].Active)
		if active == region.Full {
			continue
		}
		i, ok := known[active]
		if !ok {
			i = len(a.Times)
			known[active] = i
			a.Times = append(a.Times, active)
		}
		a.Partly.Add(uint32(n))
		a.Of[n] = i
	}
	return a
}

// When is when the subjects of a class are.
func (a *Activity) When(class uint32) region.Region {
	if !a.Partly.Has(class) {
		return region.Full
	}
	return a.Times[a.Of[class]]
}
