package differing

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

// Attendance counts the people of classes by when they are there, within a time.
type Attendance struct {
	Counts  []PeopleWhile // since it was begun, in no order
	Present ClassSet      // who is there at some time, people or not
	People  Weights
	cells   *Cells
	numbers []int // of people, of each class
	active  Activity
	window  region.Region
	missing ClassSet      // the classes that are not active throughout the window
	while   []peopleWhile // of each activity, who is there of the classes at hand
	whiles  []int         // the activities of whom anybody is
	some    ClassSet
	both    map[[2]region.Region]region.Region
}

// PeopleWhile is how many people are there at some times.
type PeopleWhile struct {
	When   region.Region
	People int
}

// peopleWhile is people of one activity, if it is known when they are there.
type peopleWhile struct {
	PeopleWhile
	known bool
}

// NewAttendance makes one that counts within a time.
func (c *Cells) NewAttendance(window region.Region) *Attendance {
	a := &Attendance{cells: c, numbers: numbersOf(c.classes, estate.IsPerson), active: c.Activity(), window: window,
		Present: c.NewClassSet(), missing: c.NewClassSet(), some: c.NewClassSet(),
		both: map[[2]region.Region]region.Region{}}
	a.while, a.People = make([]peopleWhile, len(a.active.Times)), newWeights(a.numbers, len(a.some))
	for class := range a.active.Partly.All() {
		if throughout, err := a.and(window, a.active.Times[a.active.Of[class]]); err != nil || throughout != window {
			a.missing.Add(class)
		}
	}
	return a
}

// Weights tells how many subjects of a kind there are in each class.
func (c *Cells) Weights(kind estate.PrincipalKind) Weights {
	return newWeights(numbersOf(c.classes, kind), len(c.NewClassSet()))
}

// numbersOf counts the subjects of a kind in each class.
func numbersOf(classes [][]who, kind estate.PrincipalKind) []int {
	out := make([]int, len(classes))
	for n, class := range classes {
		for _, w := range class {
			if w.principal.Kind == kind {
				out[n]++
			}
		}
	}
	return out
}

// Begin begins anew.
func (a *Attendance) Begin() {
	clear(a.Present)
	a.Counts = a.Counts[:0]
}

// Add counts classes who are there at some times, while they are active. Its error says that conditions are
// too complex.
func (a *Attendance) Add(when region.Region, classes ClassSet) error {
	within, err := a.and(when, a.window)
	if err != nil {
		return err
	}
	partly := a.missing
	if within == region.Empty { // whether anybody is there at another time hangs on when they are active
		partly = a.active.Partly
	}
	if a.some.SetBut(classes, partly) {
		a.Present.AddAll(a.some)
		if err := a.count(within, a.People.Sum(a.some)); err != nil {
			return err
		}
	}
	if !a.some.SetTo(classes, partly) {
		return nil
	}
	a.whiles = a.whiles[:0]
	for class := range a.some.All() {
		n := a.active.Of[class]
		one := &a.while[n]
		if !one.known {
			when, err := a.and(when, a.active.Times[n])
			if err != nil {
				return err
			}
			*one = peopleWhile{PeopleWhile{When: when}, true}
			a.whiles = append(a.whiles, n)
		}
		if one.When != region.Empty {
			a.Present.Add(class)
			one.People += a.numbers[class]
		}
	}
	for _, n := range a.whiles {
		one := a.while[n]
		a.while[n].known = false
		if err := a.count(one.When, one.People); err != nil {
			return err
		}
	}
	return nil
}

// AddTold counts all who can do an operation, by when they can, if that can be read off what is told; times gives the
// times of a region. Its error says that conditions are too complex.
func (a *Attendance) AddTold(told *Bands, times func(region.Region) (region.Region, error)) (bool, error) {
	if told.All == nil || told.All.Meets(a.missing) {
		return false, nil
	}
	for _, band := range told.List {
		when, err := times(band.Possible)
		if err == nil {
			when, err = a.and(when, a.window)
		}
		if err != nil {
			return false, err
		}
		if when == region.Empty { // whether anybody is there at another time hangs on when they are active
			a.Begin()
			return false, nil
		}
		if err := a.count(when, band.People); err != nil {
			return false, err
		}
	}
	a.Present.AddAll(told.All)
	return true, nil
}

// Throughout counts the people of some classes who are active at all times within.
func (a *Attendance) Throughout(classes ClassSet) int {
	a.some.SetBut(classes, a.missing)
	return a.People.Sum(a.some)
}

// count counts people who are there at some times.
func (a *Attendance) count(when region.Region, people int) error {
	when, err := a.and(when, a.window)
	if err != nil || when == region.Empty || people == 0 {
		return err
	}
	for i := range a.Counts {
		if a.Counts[i].When == when {
			a.Counts[i].People += people
			return nil
		}
	}
	a.Counts = append(a.Counts, PeopleWhile{when, people})
	return nil
}

// mostRemembered bounds what is remembered of two regions: some tens of megabytes.
const mostRemembered = 1 << 20

func (a *Attendance) and(one, other region.Region) (region.Region, error) {
	key := [2]region.Region{one, other}
	out, ok := a.both[key]
	if !ok {
		var err error
		if out, err = a.cells.Space().And(one, other); err != nil {
			return out, err
		}
		if len(a.both) >= mostRemembered {
			clear(a.both)
		}
		a.both[key] = out
	}
	return out, nil
}
