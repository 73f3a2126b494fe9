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
	_, err = a.Out.Write(append(text, '\n'))
	return asOutside(err)
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
	w := &jsonWriter{Writer: bufio.NewWriterSize(a.Out, 1<<16)} // which remembers that something could not be written
	w.encoder = encoderTo(&w.text)
	if err := w.value(parts, ""); err != nil {
		return err
	}
	w.WriteByte('\n')
	return asOutside(w.Flush())
}

// jsonWriter writes values, and uses again for each what it needed for those before.
type jsonWriter struct {
	*bufio.Writer
	text    bytes.Buffer
	encoder *json.Encoder
}

// value writes a value whose lines but the first begin with an indent: parts as an object, elements one by one, a form
// as it is filled.
func (w *jsonWriter) value(value any, indent string) error {
	switch v := value.(type) {
	case []jsonPart:
		between := "{"
		for _, p := range v {
			w.WriteString(between + "\n" + indent + `  "` + p.name + `": `)
			between = ","
			if err := w.value(p.value, indent+"  "); err != nil {
				return err
			}
		}
		_, err := w.WriteString("\n" + indent + "}")
		return asOutside(err)
	case elements:
		return w.elements(v, indent)
	case *form:
		_, err := w.Write(v.row)
		return asOutside(err)
	}
	w.text.Reset()
	text, err := encoded(w.encoder, &w.text, value, indent)
	if err != nil {
		return err
	}
	_, err = w.Write(text)
	return asOutside(err)
}

func asOutside(err error) error {
	if err != nil {
		return outside{err}
	}
	return nil
}

func (w *jsonWriter) elements(tell elements, indent string) error {
	before, after := "[\n  "+indent, "]"
	var failed error
	err := tell(func(one any) bool {
		w.WriteString(before)
		before, after = ",\n  "+indent, "\n"+indent+"]"
		failed = w.value(one, indent+"  ")
		return failed == nil
	})
	if err := cmp.Or(failed, err); err != nil {
		return err
	}
	if after == "]" {
		w.WriteByte('[')
	}
	w.WriteString(after)
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

// indented gives a value as JSON, whose lines but the first begin with an indent.
func indented(v any, indent string) ([]byte, error) {
	var text bytes.Buffer
	return encoded(encoderTo(&text), &text, v, indent)
}

func encoderTo(text *bytes.Buffer) *json.Encoder {
	e := json.NewEncoder(text)
	e.SetEscapeHTML(false)
	return e
}

// encoded is indented by an encoder to a text, of which what it gives is a part.
func encoded(e *json.Encoder, text *bytes.Buffer, v any, indent string) ([]byte, error) {
	e.SetIndent(indent, "  ")
	if err := e.Encode(v); err != nil {
		return nil, outside{err}
	}
	return visible.JSON(bytes.TrimSuffix(text.Bytes(), []byte("\n"))), nil
}
