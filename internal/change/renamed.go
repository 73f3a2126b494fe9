package change

import (
	"fmt"
	"iter"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
)

// maxCells is how many single cells are held against one another where an entry has got another id.
const maxCells = 2_000_000

// renamed takes an entry by its old and its new id for the same: if all that was so of the one is so of the other,
// nothing changes.
func (e *Effect) renamed(r Renaming) {
	if r.cancels(e.Lines) {
		e.Lines = nil
	}
	if r.cancels(e.Coming) {
		e.Coming = nil
	}
}

// cancels says that lines tell the same of both ids, what was so of the one being so of the other now, and the other
// way round.
func (r Renaming) cancels(lines []Line) bool {
	if r.Section != "systems" && r.Section != "resources" { // addresses are as they were, and mostly whole piles
		whole := func(p *differing.Pile) iter.Seq[string] { return slices.Values([]string{p.Key()}) }
		if r.cancelsAt(lines, whole) {
			return true
		}
	}
	return r.cancelsAt(lines, (*differing.Pile).Addresses)
}

// cancelsAt says it of lines whose piles are told by some texts.
func (r Renaming) cancelsAt(lines []Line, places func(*differing.Pile) iter.Seq[string]) bool {
	type cell struct {
		onRequest bool
		who       estate.Principal
		operation string
		resource  string
	}
	cells, others := map[cell][2]differing.Cell{}, map[cell]cell{}
	for i := range lines {
		l := &lines[i]
		for _, who := range l.Subjects {
			for p := range l.Piles.All() {
				for address := range places(p) {
					about, other := "", ""
					if p.May() != nil {
						about, other = described(p, func(o estate.Principal) estate.Principal { return o }), described(p, r.principal)
					}
					for _, op := range l.Operations {
						if len(cells) > maxCells {
							return false
						}
						key := cell{l.OnRequest, who, op, address + about}
						cells[key] = [2]differing.Cell{l.Old, l.New}
						others[key] = cell{l.OnRequest, r.principal(who), op, r.address(address) + other}
					}
				}
			}
		}
	}
	for key, both := range cells {
		if other, ok := cells[others[key]]; !ok || both[0] != other[1] || both[1] != other[0] {
			return false
		}
	}
	return true
}

// principal gives the other id of who is renamed.
func (r Renaming) principal(p estate.Principal) estate.Principal {
	switch {
	case p.Kind.Section() != r.Section:
	case p.ID == r.From:
		p.ID = r.To
	case p.ID == r.To:
		p.ID = r.From
	}
	return p
}

// address gives the other address of what is renamed, or stands in it.
func (r Renaming) address(address string) string {
	for _, ids := range [][2]string{{r.From, r.To}, {r.To, r.From}} {
		rest, inside := strings.CutPrefix(address, ids[0])
		if r.Section == "systems" && inside && (rest == "" || rest[0] == ':') || r.Section == "resources" && inside &&
			(rest == "" || rest[0] == '/') {
			return ids[1] + rest
		}
	}
	return address
}

// described is what is said of what may come, apart from its address.
func described(p *differing.Pile, name func(estate.Principal) estate.Principal) string {
	m := *p.May()
	owner := ""
	if m.Owner != nil {
		owner = name(*m.Owner).String()
	}
	return fmt.Sprintf("\x00%q %q %q %t %q", m.Type, m.Tags, m.Others, m.Inherit, owner)
}

// SameButWhere says whether two lines say the same of the same subjects, about other operations or resources.
func (l *Line) SameButWhere(m *Line) bool {
	if l.Way != m.Way || l.OnRequest != m.OnRequest || len(l.Subjects) != len(m.Subjects) || l.Is() != m.Is() ||
		l.Was() != m.Was() {
		return false
	}
	for i := range l.Subjects {
		if l.Subjects[i] != m.Subjects[i] {
			return false
		}
	}
	return true
}
