package cli

import (
	"fmt"
	"slices"

	"hiddengate/internal/change"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/view"
)

// beyond is how what was copied differs from what it was copied from.
type beyond struct {
	write func(p *view.Page)
	value func() any // the same for JSON
}

func (b *beyond) text(p *view.Page) {
	if b != nil {
		b.write(p)
	}
}

func (b *beyond) json() any {
	if b == nil {
		return nil
	}
	return b.value()
}

// beyondRow is an operation on a resource that one of two has, or has otherwise.
type beyondRow struct {
	Operation string `json:"operation"`
	Resource  string `json:"resource"`
	Was       string `json:"was,omitempty"`  // when the original may
	When      string `json:"when,omitempty"` // when the copy may
}

// beyondOriginal compares the access of who was made like another with the other's.
func (a *app) beyondOriginal(original, made estate.Principal) func(*estate.Estate, *gate.Gate) (*beyond, error) {
	return func(after *estate.Estate, base *gate.Gate) (*beyond, error) {
		now, err := a.day(after.Zone)
		if err != nil {
			return nil, err
		}
		effect, err := change.Between(a.ctx, after, original, made, now, base)
		if err != nil {
			return nil, err
		}
		value := func() any {
			return []jsonPart{{"original", original.String()}, {"copy", made.String()},
				{"more", beyondRows(effect, change.Way.More)}, {"less", beyondRows(effect, hasLess)}}
		}
		return &beyond{value: value, write: func(p *view.Page) {
			told := beyondPart(p, effect, fmt.Sprintf("Beyond %s, %s gets", original, made), change.Way.More)
			if beyondPart(p, effect, fmt.Sprintf("What %s has, %s does not get", original, made), hasLess) || told {
				return
			}
			p.Line("\n%s", p.Paint(view.Faint, fmt.Sprintf("%s has the same access as %s.", made, original)))
		}}, nil
	}
}

func hasLess(w change.Way) bool { return w == change.Loses || w == change.Narrows }

// beyondRows tells what is so of some ways.
func beyondRows(effect *change.Effect, is func(change.Way) bool) elements {
	all := cells{effect, "      ", func(l *change.Line) bool { return is(l.Way) }, false,
		func(r change.Row, _ []change.Cause) any {
			one := beyondRow{Operation: r.Operation}
			if r.Line.Way != change.Gains {
				one.Was = r.Line.Was()
			}
			if r.Line.Way != change.Loses {
				one.When = r.Line.Is()
			}
			return one
		}}
	return all.each
}

// beyondPart writes the lines of some ways, and says whether there are any.
func beyondPart(p *view.Page, e *change.Effect, title string, is func(change.Way) bool) bool {
	lines := slices.DeleteFunc(slices.Clone(e.Lines), func(l change.Line) bool { return !is(l.Way) })
	var rows [][]view.Cell
	for _, l := range e.ByPlaceAndWhen(lines) {
		rows = append(rows, []view.Cell{{Text: e.Where(&l)}, {Text: p.Operations(e.What(&l))},
			{Text: whenOf(&l), Style: view.Faint}})
	}
	if len(rows) == 0 {
		return false
	}
	p.Line("\n%s", p.Paint(view.Heading, title))
	p.Table(2, nil, rows)
	return true
}
