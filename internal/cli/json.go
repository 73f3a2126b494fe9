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

// jsonObject writes an object as json does, and holds no more than one of the elements that a part tells one by one,
// however deep that stands in parts of parts. Where these fail at once, nothing is written.
func (a *app) jsonObject(parts ...jsonPart) error {
	out := bufio.NewWriterSize(a.Out, 1<<16) // which remembers that something could not be written
	if err := writeJSON(out, parts, ""); err != nil {
		return err
	}
	out.WriteByte('\n')
	if err := out.Flush(); err != nil {
		return outside{err}
	}
	return nil
}

// writeJSON writes a value whose lines but the first begin with an indent: parts as an object, elements one by one, a
// form as it is filled.
func writeJSON(out *bufio.Writer, value any, indent string) error {
	switch v := value.(type) {
	case []jsonPart:
		between := "{"
		for _, p := range v {
			out.WriteString(between + "\n" + indent + `  "` + p.name + `": `)
			between = ","
			if err := writeJSON(out, p.value, indent+"  "); err != nil {
				return err
			}
		}
		_, err := out.WriteString("\n" + indent + "}")
		return asOutside(err)
	case elements:
		return writeElements(out, v, indent)
	case *form:
		_, err := out.Write(v.row)
		return asOutside(err)
	}
	text, err := indented(value, indent)
	if err != nil {
		return err
	}
	_, err = out.Write(text)
	return asOutside(err)
}

func asOutside(err error) error {
	if err != nil {
		return outside{err}
	}
	return nil
}

func writeElements(out *bufio.Writer, tell elements, indent string) error {
	before, after := "[\n  "+indent, "]"
	var failed error
	err := tell(func(one any) bool {
		out.WriteString(before)
		before, after = ",\n  "+indent, "\n"+indent+"]"
		failed = writeJSON(out, one, indent+"  ")
		return failed == nil
	})
	if err := cmp.Or(failed, err); err != nil {
		return err
	}
	if after == "]" {
		out.WriteByte('[')
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
