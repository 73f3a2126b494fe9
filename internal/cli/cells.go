package cli

import (
	"bytes"
	"fmt"

	"hiddengate/internal/change"
	"hiddengate/internal/plainjson"
)

// cells tells an effect cell by cell as rows of JSON, of the lines that are told. row gives a row, which has a key
// "resource". Where an effect is about millions of cells, writing them is most of the work: those of a line, a subject
// and an operation are alike but for the resource, unless apart says otherwise, and are written once.
func cells(e *change.Effect, told, apart func(*change.Line) bool, row func(change.Row) any) elements {
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
			if done, err := alikeCells(l, yield, row); done || err != nil {
				return err
			}
		}
		return nil
	}
}

// alikeCells tells the cells of a line that are alike but for the resource. done says that no more is asked for.
func alikeCells(l *change.Line, yield func(any) bool, row func(change.Row) any) (done bool, err error) {
	var quoted []byte
	for _, who := range l.Subjects {
		forms := make([]form, len(l.Operations))
		for k, op := range l.Operations {
			if forms[k], err = formOf(row(change.Row{Line: l, Subject: who, Operation: op})); err != nil {
				return false, err
			}
		}
		for p := range l.Piles.All() {
			for address := range p.Addresses() {
				if quoted, err = quotedJSON(quoted[:0], address); err != nil {
					return false, err
				}
				for k := range forms {
					forms[k].fill(quoted)
					if !yield(&forms[k]) {
						return true, nil
					}
				}
			}
		}
	}
	return false, nil
}

// quotedJSON appends a text as JSON.
func quotedJSON(to []byte, text string) ([]byte, error) {
	to = append(append(append(to, '"'), text...), '"')
	if plainjson.Text(to, 0) == len(to) {
		return to, nil
	}
	return indented(text, "")
}

// form is a row of JSON with a gap for the resource, and the row once that is filled.
type form struct{ before, after, row []byte }

// noResource is how a row without a resource says so. No text in it can look like this: its quotes would be escaped.
const noResource = `"resource": ""`

func formOf(row any) (form, error) {
	text, err := indented(row, elementIndent)
	if err != nil {
		return form{}, err
	}
	at := bytes.Index(text, []byte(noResource))
	if at < 0 {
		return form{}, fmt.Errorf("a row has no resource: %s", text)
	}
	at += len(noResource) - len(`""`)
	return form{text[:at], text[at+len(`""`):], nil}, nil
}

func (f *form) fill(quoted []byte) {
	f.row = append(append(append(f.row[:0], f.before...), quoted...), f.after...)
}
