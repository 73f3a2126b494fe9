package cli

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"

	"hiddengate/internal/visible"
)

// json writes a value as indented JSON.
func (a *app) json(v any) error {
	text, err := indented(v, "")
	if err != nil {
		return err
	}
	if _, err := a.Out.Write(append(text, '\n')); err != nil {
		return outside{err}
	}
	return nil
}

// jsonPart is a member of a JSON object.
type jsonPart struct {
	name  string
	value any
}

// elements tells the elements of a list one by one. Its error says that it could not.
type elements func(yield func(any) bool) error

// elementIndent is what the lines of such an element begin with.
const elementIndent = "    "

// jsonObject writes an object as json does, and holds no more than one of the elements that a part tells one by one.
// Where these fail at once, nothing is written.
func (a *app) jsonObject(parts ...jsonPart) error {
	out := bufio.NewWriterSize(a.Out, 1<<16) // which remembers that something could not be written
	between := "{\n  "
	for _, p := range parts {
		out.WriteString(between + `"` + p.name + `": `)
		between = ",\n  "
		if err := p.write(out); err != nil {
			return err
		}
	}
	out.WriteString("\n}\n")
	if err := out.Flush(); err != nil {
		return outside{err}
	}
	return nil
}

func (p jsonPart) write(out *bufio.Writer) error {
	tell, many := p.value.(elements)
	if !many {
		text, err := indented(p.value, "  ")
		out.Write(text)
		return err
	}
	before, after := "[", "]"
	var failed error
	err := tell(func(one any) bool {
		var text []byte
		if f, filled := one.(*form); filled {
			text = f.row
		} else if text, failed = indented(one, elementIndent); failed != nil {
			return false
		}
		out.WriteString(before + "\n" + elementIndent)
		if _, err := out.Write(text); err != nil {
			failed = outside{err}
		}
		before, after = ",", "\n  ]"
		return failed == nil
	})
	if err := cmp.Or(failed, err); err != nil {
		return err
	}
	if before == "[" {
		out.WriteString(before)
	}
	out.WriteString(after)
	return nil
}

// jsonRows writes {"rows": …}.
func (a *app) jsonRows(rows elements) error { return a.jsonObject(jsonPart{"rows", rows}) }

// eachAs gives the elements of a list, as they are to be written.
func eachAs[T, R any](list []T, as func(T) R) elements {
	return func(yield func(any) bool) error {
		for _, one := range list {
			if !yield(as(one)) {
				return nil
			}
		}
		return nil
	}
}

// indented gives a value as JSON, whose lines but the first begin with a prefix.
func indented(v any, prefix string) ([]byte, error) {
	var text bytes.Buffer
	e := json.NewEncoder(&text)
	e.SetIndent(prefix, "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return nil, outside{err}
	}
	return visible.JSON(bytes.TrimSuffix(text.Bytes(), []byte("\n"))), nil
}
