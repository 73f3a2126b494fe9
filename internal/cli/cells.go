package cli

import (
	"bytes"
	"fmt"

	"hiddengate/internal/change"
	"hiddengate/internal/plainjson"
)

// cells tells an effect cell by cell as rows of JSON, of the lines that are told, as elements that begin with an
// indent. row gives a row, which has a key "resource". Where an effect is about millions of cells, writing them is most
// of the work: those of a line, a subject and an operation are alike but for the resource, unless apart says otherwise,
// and are written once.
func cells(e *change.Effect, indent string, told, apart func(*change.Line) bool,
	row func(change.Row) any) elements {
	return func(yield func(any) bool) error {
		for i := range e.Lines {
			l := &e.Lines[i]
			if !told(l) {
				continue
			}
			if apart(l) {
				if !e.RowsOf(l, func(r change.Row) bool { return yield(row(r)) }) {
					return nil
				}
				continue
			}
			if done, err := alikeCells(l, indent, yield, row); done || err != nil {
				return err
			}
		}
		return nil
	}
}

// alikeCells tells the cells of a line that are alike but for the resource. done says that no more is asked for.
func alikeCells(l *change.Line, indent string, yield func(any) bool, row func(change.Row) any) (done bool,
	err error) {
	for _, who := range l.Subjects {
		forms := make([]*form, len(l.Operations))
		for k, op := range l.Operations {
			if forms[k], err = formOf(row(change.Row{Line: l, Subject: who, Operation: op}), indent); err != nil {
				return false, err
			}
		}
		for p := range l.Piles.All() {
			for address := range p.Addresses() {
				for _, f := range forms {
					if err := f.fill(address); err != nil {
						return false, err
					}
					if !yield(f) {
						return true, nil
					}
				}
			}
		}
	}
	return false, nil
}

// form is a row of JSON with a gap for the resource, and the row once that is filled.
type form struct{ before, after, row []byte }

// cellIndent is the indent of cells that stand in a list of the outermost object.
const cellIndent = "    "

// noResource is how a row without a resource says so. No text in it can look like this: its quotes would be escaped.
const noResource = `"resource": ""`

func formOf(row any, indent string) (*form, error) {
	text, err := indented(row, indent)
	if err != nil {
		return nil, err
	}
	at := bytes.Index(text, []byte(noResource))
	if at < 0 {
		return nil, fmt.Errorf("a row has no resource: %s", text)
	}
	at += len(noResource) - len(`""`)
	return &form{before: text[:at], after: text[at+len(`""`):]}, nil
}

func (f *form) fill(resource string) error {
	f.row = append(append(append(append(f.row[:0], f.before...), '"'), resource...), '"')
	if plainjson.Text(f.row, len(f.before)) != len(f.row) {
		quoted, err := indented(resource, "")
		if err != nil {
			return err
		}
		f.row = append(f.row[:len(f.before)], quoted...)
	}
	f.row = append(f.row, f.after...)
	return nil
}
