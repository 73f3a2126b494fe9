package change

import (
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// maxCells is how many single cells are held against one another where an entry has got another id.
const maxCells = 2_000_000

// Renamed takes an entry by its old and its new id for the same: if all that the one loses the other gains, nothing changes.
func (e *Effect) Renamed(section, from, to string) {
	type cell struct {
		onRequest bool
		who       estate.Principal
		operation string
		address   string
	}
	cells := map[cell][2]gate.Cell{}
	for i := range e.Lines {
		l := &e.Lines[i]
		if l.Way != Gains && l.Way != Loses {
			return
		}
		for _, who := range l.Subjects {
			if section == "people" && who == (estate.Principal{ID: from}) || section == "services" && who == (estate.Principal{Kind: estate.IsService, ID: from}) {
				who.ID = to
			}
			for _, p := range l.Piles {
				for address := range p.Addresses() {
					rest, inside := strings.CutPrefix(address, from)
					if section == "systems" && inside && (rest == "" || rest[0] == ':') || section == "resources" && inside && (rest == "" || rest[0] == '/') {
						address = to + rest
					}
					for _, op := range l.Operations {
						if len(cells) > maxCells {
							return
						}
						key := cell{l.OnRequest, who, op, address}
						both := cells[key]
						if l.Way == Gains {
							both[1] = l.New
						} else {
							both[0] = l.Old
						}
						cells[key] = both
					}
				}
			}
		}
	}
	for _, both := range cells {
		if both[0] != both[1] {
			return
		}
	}
	e.Lines = nil
}

// SameButWhere says whether two lines say the same of the same subjects, about other operations or resources.
func (l *Line) SameButWhere(m *Line) bool {
	if l.Way != m.Way || l.OnRequest != m.OnRequest || len(l.Subjects) != len(m.Subjects) || l.Is() != m.Is() || l.Was() != m.Was() {
		return false
	}
	for i := range l.Subjects {
		if l.Subjects[i] != m.Subjects[i] {
			return false
		}
	}
	return true
}
