package counting

import (
	"hiddengate/internal/region"
)

// Headcount tells at which moments there are so many people, as they are added group by group.
type Headcount struct {
	space  *region.Space
	window region.Region
	levels []region.Region // where there is one at least, two, and so on
}

// NewHeadcount begins to count up to so many people, within a time.
func NewHeadcount(space *region.Space, most int, window region.Region) *Headcount {
	return &Headcount{space, window, make([]region.Region, most)}
}

// Add counts people who are there at the moments of a region. Its error says that the conditions are too complex.
func (h *Headcount) Add(people int, when region.Region) error {
	if people == 0 || h.Enough() {
		return nil
	}
	for k := len(h.levels) - 1; k >= 0; k-- {
		before := h.window
		if k >= people {
			before = h.levels[k-people]
		}
		more, err := h.space.And(when, before)
		if err == nil {
			h.levels[k], err = h.space.Or(h.levels[k], more)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Enough says that there are as many as it counts to, always.
func (h *Headcount) Enough() bool { return h.levels[len(h.levels)-1] == h.window }

// Short is the moments at which there are fewer.
func (h *Headcount) Short() (region.Region, error) {
	return h.space.Minus(h.window, h.levels[len(h.levels)-1])
}
