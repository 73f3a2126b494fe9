package change

import (
	"slices"
	"strings"

	"hiddengate/internal/estate"
)

// Row is one cell of a line.
type Row struct {
	Line      *Line
	Subject   estate.Principal
	Operation string
	Resource  string
}

// Rows tells the effect cell by cell.
func (e *Effect) Rows(each func(Row)) {
	for i := range e.Lines {
		l := &e.Lines[i]
		for _, who := range l.Subjects {
			for p := range l.Piles.All() {
				for address := range p.Addresses() {
					for _, op := range l.Operations {
						each(Row{l, who, op, address})
					}
				}
			}
		}
	}
}

// ByPlaceAndWhen brings lines of the same subjects together that are about the same places at the same times.
func (e *Effect) ByPlaceAndWhen(lines []Line) []Line {
	var out []Line
	var keys []string
	for i := range lines {
		l := lines[i]
		key := strings.Join(e.Places(&l), "\n") + "\x00" + l.Was() + "\x00" + l.Is()
		k := slices.Index(keys, key)
		if k < 0 {
			keys = append(keys, key)
			l.where = e.Places(&lines[i])
			out = append(out, l)
			continue
		}
		out[k].Operations = slices.Sorted(slices.Values(slices.Concat(out[k].Operations, l.Operations)))
		out[k].Piles = out[k].Piles.With(l.Piles)
	}
	return out
}
