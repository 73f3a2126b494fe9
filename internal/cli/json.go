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

// jsonRows writes {"rows": …} as json does, and holds no more than one row at a time.
func (a *app) jsonRows(rows iter.Seq[any]) error {
	out := bufio.NewWriterSize(a.Out, 1<<16) // which remembers that something could not be written
	between := "{\n  \"rows\": [\n    "
	for row := range rows {
		text, err := indented(row, "    ")
		if err != nil {
			return err
		}
		out.WriteString(between)
		if _, err := out.Write(text); err != nil {
			return outside{err}
		}
		between = ",\n    "
	}
	if between[0] == '{' {
		return a.json(map[string]any{"rows": []any{}})
	}
	out.WriteString("\n  ]\n}\n")
	if err := out.Flush(); err != nil {
		return outside{err}
	}
	return nil
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
