package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"iter"

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

// jsonPart is a member of a JSON object. Of a sequence the elements are written one by one.
type jsonPart struct {
	name  string
	value any
}

// jsonObject writes an object as json does, and holds no more than one element of a sequence at a time.
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
	elements, many := p.value.(iter.Seq[any])
	if !many {
		text, err := indented(p.value, "  ")
		out.Write(text)
		return err
	}
	before, after := "[", "]"
	for one := range elements {
		text, err := indented(one, "    ")
		if err != nil {
			return err
		}
		out.WriteString(before + "\n    ")
		if _, err := out.Write(text); err != nil {
			return outside{err}
		}
		before, after = ",", "\n  ]"
	}
	if before == "[" {
		out.WriteString(before)
	}
	out.WriteString(after)
	return nil
}

// jsonRows writes {"rows": …}.
func (a *app) jsonRows(rows iter.Seq[any]) error { return a.jsonObject(jsonPart{"rows", rows}) }

// eachAs gives the elements of a list, as they are to be written.
func eachAs[T, R any](list []T, as func(T) R) iter.Seq[any] {
	return func(yield func(any) bool) {
		for _, one := range list {
			if !yield(as(one)) {
				return
			}
		}
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
