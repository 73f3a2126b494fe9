package cli

import (
	"bytes"
	"fmt"

	"hiddengate/internal/change"
	"hiddengate/internal/plainjson"
)

// cells tells an effect cell by cell as rows of JSON, of the lines that are told, as elements that begin with an
// indent.
type cells struct {
	effect *change.Effect
	indent string
	told   func(*change.Line) bool
	behind bool // rows say what is behind them
	// row gives the row of a cell, which has a key "resource" that it leaves empty, with what is behind it.
	row func(r change.Row, by []change.Cause) any
}

// each tells them. Where an effect is about millions of cells, writing them is most of the work: those of a line, a
// subject and an operation that have the same behind them are alike but for the resource, and are written once.
func (c cells) each(yield func(any) bool) error {
	for i := range c.effect.Lines {
		if l := &c.effect.Lines[i]; c.told(l) {
			if done, err := c.line(l, yield); done || err != nil {
				return err
			}
		}
	}
	return nil
}

// line tells the cells of a line. done says that no more is asked for.
func (c cells) line(l *change.Line, yield func(any) bool) (done bool, err error) {
	var by *change.Behind
	if c.behind {
		by = c.effect.Behind(l)
	}
	type alike struct{ operation, behind int }
	now := make([]*form, len(l.Operations))
	for _, who := range l.Subjects {
		forms := map[alike]*form{}
		for p := range l.Piles.All() {
			for k, op := range l.Operations {
				which, causes := alike{operation: k}, []change.Cause(nil)
				if by != nil {
					which.behind = by.Of(p, who, op)
					causes = by.Causes(which.behind)
				}
				if forms[which] == nil {
					row := c.row(change.Row{Line: l, Subject: who, Operation: op}, causes)
					if forms[which], err = formOf(row, c.indent); err != nil {
						return false, err
					}
				}
				now[k] = forms[which]
			}
			for address := range p.Addresses() {
				for _, f := range now {
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
