package draft

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
	"hiddengate/internal/visible"
)

// sheet is an inventory that is being changed. Every line that is not concerned stays as it is.
type sheet interface {
	bytes() []byte
	// proved sees that the text says what was asked for, and of all else what it said.
	proved() error
	// add adds a line with these keys.
	add(body *yaml.Node) error
	// set gives a key of the entry with the id, or address, another value; nil takes it out.
	set(id, key string, value *yaml.Node) error
	remove(id string) error
	body(id string) (*yaml.Node, error)
	// each lets change see the keys and values of the lines whose text holds one of the words, and writes those that it
	// changes.
	each(word string, change func(key, value string) (string, bool)) error
	// drop takes out the lines whose text holds a word and of whose values something is so.
	drop(word string, gone func(key, value string) bool) error
}

func (d *Draft) sheet(name string) (sheet, error) {
	if s := d.sheets[name]; s != nil {
		return s, nil
	}
	text, err := fs.ReadFile(d.under, name)
	if err != nil {
		return nil, err
	}
	var s sheet = &jsonSheet{name: name, text: text, old: text, touched: map[string]bool{}}
	if path.Ext(name) == ".csv" {
		if s, err = newCSV(name, text); err != nil {
			return nil, err
		}
	}
	d.sheets[name], d.before[name] = s, text
	return s, nil
}

// csvSheet is a CSV file as records with the bytes of each.
type csvSheet struct {
	name    string
	columns []string
	lines   []csvLine // the first names the columns
	ending  string
	rows    map[string]int // lines by id, once someone asks
}

type csvLine struct {
	text  []byte // with the line break
	cells []string
}

func newCSV(name string, text []byte) (*csvSheet, error) {
	s := &csvSheet{name: name, ending: "\n"}
	if bytes.Contains(text, []byte("\r\n")) {
		s.ending = "\r\n"
	}
	r := csv.NewReader(bytes.NewReader(text))
	r.FieldsPerRecord = -1
	at := int64(0)
	for {
		cells, err := r.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		s.lines = append(s.lines, csvLine{text[at:r.InputOffset()], cells})
		at = r.InputOffset()
	}
	if len(s.lines) == 0 {
		return nil, refuse("write the names of the columns on its first line, as id,name,email", "%s is empty", name)
	}
	s.columns = slices.Clone(s.lines[0].cells)
	s.columns[0] = strings.TrimPrefix(s.columns[0], "\ufeff")
	return s, nil
}

func (s *csvSheet) bytes() []byte {
	n := 0
	for _, l := range s.lines {
		n += len(l.text)
	}
	out := make([]byte, 0, n)
	for _, l := range s.lines {
		out = append(out, l.text...)
	}
	return out
}

// proved reads the text again: each record has the cells that it was given.
func (s *csvSheet) proved() error {
	r := csv.NewReader(bytes.NewReader(s.bytes()))
	r.FieldsPerRecord = -1
	for _, l := range s.lines {
		if cells, err := r.Read(); err != nil || !slices.Equal(cells, l.cells) {
			return fmt.Errorf("%s: %w", s.name, splice.ErrFault)
		}
	}
	if _, err := r.Read(); err != io.EOF {
		return fmt.Errorf("%s: %w", s.name, splice.ErrFault)
	}
	return nil
}

// write writes a record as a line.
func (s *csvSheet) write(cells []string) csvLine {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.UseCRLF = s.ending == "\r\n"
	_ = w.Write(cells)
	w.Flush()
	return csvLine{b.Bytes(), cells}
}

func (s *csvSheet) key() string {
	if slices.Contains(s.columns, "at") {
		return "at"
	}
	return "id"
}

func (s *csvSheet) row(id string) (int, error) {
	if s.rows == nil {
		s.rows = map[string]int{}
		k := slices.Index(s.columns, s.key())
		for i, l := range s.lines[1:] {
			if k >= 0 && k < len(l.cells) {
				s.rows[l.cells[k]] = i + 1
			}
		}
	}
	i, ok := s.rows[id]
	if !ok {
		return 0, fmt.Errorf("%s has no line of %s", s.name, id)
	}
	return i, nil
}

// cellsOf turns a key and its value into cells by column.
func (s *csvSheet) cellsOf(key string, value *yaml.Node, into map[string]string) error {
	switch {
	case key == "tags" && value != nil && value.Kind == yaml.MappingNode:
		for i := 0; i+1 < len(value.Content); i += 2 {
			into["tag."+value.Content[i].Value] = value.Content[i+1].Value
		}
	case value == nil:
		into[key] = ""
	case value.Kind == yaml.SequenceNode && key == "groups":
		var all []string
		for _, c := range value.Content {
			all = append(all, c.Value)
		}
		into[key] = strings.Join(all, ";")
	case value.Kind == yaml.ScalarNode:
		into[key] = value.Value
	default:
		return refuse("put the entry into a YAML file", "%s can't hold %s: a cell is one text", s.name, key)
	}
	for _, column := range slices.Sorted(maps.Keys(into)) {
		if !slices.Contains(s.columns, column) && into[column] != "" {
			s.addColumn(column)
		}
	}
	return nil
}

// addColumn adds a column behind the others, empty in every line: the only change of an inventory that touches lines of
// others.
func (s *csvSheet) addColumn(name string) {
	s.columns = append(s.columns, name)
	for i := range s.lines {
		cell := ""
		if i == 0 {
			cell = name
		}
		body := bytes.TrimRight(s.lines[i].text, "\r\n")
		s.lines[i].text = slices.Concat(body, []byte(","+cell), s.lines[i].text[len(body):])
		s.lines[i].cells = append(slices.Clone(s.lines[i].cells), cell)
	}
}

func (s *csvSheet) add(body *yaml.Node) error {
	cells := map[string]string{}
	for i := 0; i+1 < len(body.Content); i += 2 {
		if err := s.cellsOf(body.Content[i].Value, body.Content[i+1], cells); err != nil {
			return err
		}
	}
	row := make([]string, len(s.columns))
	for i, column := range s.columns {
		row[i] = cells[column]
	}
	if last := &s.lines[len(s.lines)-1]; !bytes.HasSuffix(last.text, []byte("\n")) {
		last.text = append(slices.Clone(last.text), s.ending...)
	}
	s.lines = append(s.lines, s.write(row))
	s.rows = nil
	return nil
}

func (s *csvSheet) set(id, key string, value *yaml.Node) error {
	i, err := s.row(id)
	if err != nil {
		return err
	}
	cells := map[string]string{}
	if key == "tags" { // those that are not named any more are cleared
		for _, column := range s.columns {
			if strings.HasPrefix(column, "tag.") {
				cells[column] = ""
			}
		}
	}
	if err := s.cellsOf(key, value, cells); err != nil {
		return err
	}
	row := slices.Clone(s.lines[i].cells)
	for k, column := range s.columns {
		if cell, ok := cells[column]; ok {
			row[k] = cell
		}
	}
	s.replace(i, row)
	if key == s.key() {
		s.rows = nil
	}
	return nil
}

func (s *csvSheet) replace(i int, row []string) {
	if slices.Equal(row, s.lines[i].cells) {
		return
	}
	line := s.write(row)
	if !bytes.HasSuffix(s.lines[i].text, []byte("\n")) {
		line.text = bytes.TrimRight(line.text, "\r\n")
	}
	s.lines[i] = line
}

func (s *csvSheet) remove(id string) error {
	i, err := s.row(id)
	if err != nil {
		return err
	}
	s.lines = slices.Delete(s.lines, i, i+1)
	s.rows = nil
	return nil
}

func (s *csvSheet) body(id string) (*yaml.Node, error) {
	i, err := s.row(id)
	if err != nil {
		return nil, err
	}
	out, tags := splice.Map(), splice.Map()
	for k, cell := range s.lines[i].cells {
		column := s.columns[k]
		tag, isTag := strings.CutPrefix(column, "tag.")
		switch {
		case cell == "" || column == s.key():
		case isTag:
			tags.Content = append(tags.Content, splice.Scalar(tag), splice.Scalar(cell))
		case column == "groups":
			list := splice.List()
			for part := range strings.SplitSeq(cell, ";") {
				list.Content = append(list.Content, splice.Scalar(strings.TrimSpace(part)))
			}
			out.Content = append(out.Content, splice.Scalar(column), list)
		default:
			out.Content = append(out.Content, splice.Scalar(column), splice.Scalar(cell))
		}
	}
	if len(tags.Content) > 0 {
		out.Content = append(out.Content, splice.Scalar("tags"), tags)
	}
	return out, nil
}

func (s *csvSheet) each(word string, change func(key, value string) (string, bool)) error {
	for i, l := range s.lines[1:] {
		if !bytes.Contains(l.text, []byte(word)) {
			continue
		}
		row := slices.Clone(l.cells)
		for k, cell := range row {
			if s.columns[k] != "groups" {
				if text, changed := change(s.columns[k], cell); changed {
					row[k] = text
				}
				continue
			}
			var left []string
			for part := range strings.SplitSeq(cell, ";") {
				text, changed := change("groups", strings.TrimSpace(part))
				switch {
				case !changed:
					left = append(left, part)
				case text != "":
					left = append(left, text)
				}
			}
			row[k] = strings.Join(left, ";")
		}
		s.replace(i+1, row)
	}
	s.rows = nil
	return nil
}

func (s *csvSheet) drop(word string, gone func(key, value string) bool) error {
	left := s.lines[:1]
	for _, l := range s.lines[1:] {
		out := bytes.Contains(l.text, []byte(word))
		if out {
			out = slices.ContainsFunc(s.columns, func(column string) bool {
				k := slices.Index(s.columns, column)
				return k < len(l.cells) && gone(column, l.cells[k])
			})
		}
		if !out {
			left = append(left, l)
		}
	}
	s.lines, s.rows = left, nil
	return nil
}

// jsonSheet is an NDJSON file.
type jsonSheet struct {
	name    string
	text    []byte
	old     []byte            // as it was
	touched map[string]bool   // the ids of lines that are concerned
	rows    map[string][2]int // the bytes of lines by id, once someone asks for many
	asked   int               // how many were asked for since the text was changed
}

// proved sees that each line is JSON still, and that those which are not concerned are as they were, in their order.
func (s *jsonSheet) proved() error {
	var kept [2][][]byte
	head, tail := policyfile.AlikeLines(s.old, s.text, false)
	for k, text := range [][]byte{s.old[head : len(s.old)-tail], s.text[head : len(s.text)-tail]} {
		one := &jsonSheet{text: text}
		sound := true
		one.eachLine(func(start, end int) bool {
			line := text[start:end]
			var name struct{ ID, At string }
			if len(bytes.TrimSpace(line)) > 0 {
				sound = sound && (k == 0 || json.Valid(line))
				_ = json.Unmarshal(line, &name)
			}
			if !s.touched[name.ID+name.At] {
				kept[k] = append(kept[k], line)
			}
			return sound
		})
		if !sound {
			return fmt.Errorf("%s: %w", s.name, splice.ErrFault)
		}
	}
	if !slices.EqualFunc(kept[0], kept[1], bytes.Equal) {
		return fmt.Errorf("%s: %w", s.name, splice.ErrFault)
	}
	return nil
}

// touch notes that a line is concerned.
func (s *jsonSheet) touch(line []byte) {
	var name struct{ ID, At string }
	_ = json.Unmarshal(line, &name)
	s.touched[name.ID+name.At] = true
}

func (s *jsonSheet) bytes() []byte { return s.text }

// part is one key of a JSON object, with the bytes of the value.
type part struct {
	key        string
	start, end int // of the value
	from       int // of the key
}

// parts takes a line apart.
func parts(line []byte) ([]part, error) {
	d := json.NewDecoder(bytes.NewReader(line))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil, fmt.Errorf("this is no JSON object")
	}
	var out []part
	for d.More() {
		before := int(d.InputOffset())
		t, err := d.Token()
		if err != nil {
			return nil, err
		}
		from := before + bytes.IndexByte(line[before:], '"')
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return nil, err
		}
		end := int(d.InputOffset())
		out = append(out, part{t.(string), end - len(raw), end, from})
	}
	return out, nil
}

// eachLine gives the bytes of every line.
func (s *jsonSheet) eachLine(do func(start, end int) bool) {
	for at := 0; at < len(s.text); {
		end := at + bytes.IndexByte(s.text[at:], '\n')
		if end < at {
			end = len(s.text)
		}
		if !do(at, end) {
			return
		}
		at = end + 1
	}
}

// eachWith gives the lines that hold a word.
func (s *jsonSheet) eachWith(word string, do func(start, end int) bool) {
	for at := 0; at < len(s.text); {
		found := bytes.Index(s.text[at:], []byte(word))
		if found < 0 {
			return
		}
		start, end := at+bytes.LastIndexByte(s.text[at:at+found], '\n')+1, len(s.text)
		if next := bytes.IndexByte(s.text[at+found:], '\n'); next >= 0 {
			end = at + found + next
		}
		if !do(start, end) {
			return
		}
		at = end + 1
	}
}

// mostSought is how many lines are sought one by one before all are looked through.
const mostSought = 8

// seek finds the line of an id where that is written without escapes; ok is false if there is none.
func (s *jsonSheet) seek(id string) (start, end int, ok bool) {
	for at := 0; ; at = end {
		found := bytes.Index(s.text[at:], []byte(id))
		if found < 0 || id == "" {
			return 0, 0, false
		}
		from := bytes.LastIndexByte(s.text[:at+found], '\n') + 1
		to := len(s.text)
		if next := bytes.IndexByte(s.text[at+found:], '\n'); next >= 0 {
			to = at + found + next
		}
		var name struct{ ID, At string }
		if end = to; json.Unmarshal(s.text[from:to], &name) == nil && name.ID+name.At == id {
			return from, to, true
		}
	}
}

func (s *jsonSheet) line(id string) (start, end int, err error) {
	if s.asked++; s.rows == nil && s.asked <= mostSought {
		if start, end, ok := s.seek(id); ok {
			return start, end, nil
		}
	}
	if s.rows == nil {
		s.rows = map[string][2]int{}
		s.eachLine(func(start, end int) bool {
			var name struct{ ID, At string }
			if json.Unmarshal(s.text[start:end], &name) == nil {
				s.rows[name.ID+name.At] = [2]int{start, end}
			}
			return true
		})
	}
	at, ok := s.rows[id]
	if !ok {
		return 0, 0, fmt.Errorf("%s has no line of %s", s.name, id)
	}
	return at[0], at[1], nil
}

func (s *jsonSheet) splice(start, end int, text []byte) {
	s.text = slices.Concat(s.text[:start], text, s.text[end:])
	s.rows, s.asked = nil, 0
}

func (s *jsonSheet) add(body *yaml.Node) error {
	line := append(jsonOf(body, ""), '\n')
	if len(s.text) > 0 && s.text[len(s.text)-1] != '\n' {
		line = append([]byte{'\n'}, line...)
	}
	s.touch(line)
	s.splice(len(s.text), len(s.text), line)
	return nil
}

func (s *jsonSheet) set(id, key string, value *yaml.Node) error {
	start, end, err := s.line(id)
	if err != nil {
		return err
	}
	all, err := parts(s.text[start:end])
	if err != nil {
		return err
	}
	s.touch(s.text[start:end])
	if key == "id" || key == "at" {
		s.touched[value.Value] = true // another id
	}
	k := slices.IndexFunc(all, func(p part) bool { return p.key == key })
	switch {
	case k < 0 && value == nil:
	case k < 0:
		last := start + all[len(all)-1].end
		s.splice(last, last, []byte(", "+quoteJSON(key)+": "+string(jsonOf(value, key))))
	case value == nil && k > 0:
		s.splice(start+all[k-1].end, start+all[k].end, nil)
	case value == nil && len(all) > 1:
		s.splice(start+all[0].from, start+all[1].from, nil)
	case value != nil:
		s.splice(start+all[k].start, start+all[k].end, jsonOf(value, key))
	}
	return nil
}

func (s *jsonSheet) remove(id string) error {
	start, end, err := s.line(id)
	if err == nil {
		s.touch(s.text[start:end])
		s.splice(start, min(end+1, len(s.text)), nil)
	}
	return err
}

func (s *jsonSheet) body(id string) (*yaml.Node, error) {
	start, end, err := s.line(id)
	if err != nil {
		return nil, err
	}
	n, err := splice.Value(string(s.text[start:end])) // JSON is YAML
	if err != nil {
		return nil, err
	}
	out := splice.Map()
	for i := 0; i+1 < len(n.Content); i += 2 {
		if key := n.Content[i].Value; key != "id" && key != "at" {
			out.Content = append(out.Content, n.Content[i], n.Content[i+1])
		}
	}
	return out, nil
}

// cutter puts a text in the place of what a sheet says from one place until another.
type cutter func(from, to int, text []byte)

// rewrite gives the lines that hold a word, by where each begins, with their parts, and cuts them.
func (s *jsonSheet) rewrite(word string, line func(start int, text []byte, all []part, cut cutter)) error {
	var out []byte
	var wrong error
	at := 0
	s.eachWith(word, func(start, end int) bool {
		all, err := parts(s.text[start:end])
		if err != nil {
			wrong = err
			return false
		}
		line(start, s.text[start:end], all, func(from, to int, text []byte) {
			out = append(append(out, s.text[at:max(at, from)]...), text...)
			at = to
		})
		return true
	})
	if wrong != nil || at == 0 {
		return wrong
	}
	s.text = append(out, s.text[at:]...)
	s.rows, s.asked = nil, 0
	return nil
}

func (s *jsonSheet) each(word string, change func(key, value string) (string, bool)) error {
	return s.rewrite(word, func(start int, line []byte, all []part, cut cutter) {
		s.touch(line)
		for k, p := range all {
			text, changed := changedValue(line[p.start:p.end], p.key, change)
			switch {
			case !changed:
				continue
			case text != nil:
				var name string
				if json.Unmarshal(text, &name) == nil && (p.key == "id" || p.key == "at") {
					s.touched[name] = true // another id
				}
				cut(start+p.start, start+p.end, text)
			case k > 0: // nothing is left of it: the key goes, with the comma before it
				cut(start+all[k-1].end, start+p.end, nil)
			default:
				end := p.end
				if len(all) > 1 {
					end = all[1].from
				}
				cut(start+p.from, start+end, nil)
			}
		}
	})
}

func (s *jsonSheet) drop(word string, gone func(key, value string) bool) error {
	return s.rewrite(word, func(start int, line []byte, all []part, cut cutter) {
		found := false
		for _, p := range all {
			changedValue(line[p.start:p.end], p.key, func(key, value string) (string, bool) {
				found = found || gone(key, value)
				return "", false
			})
		}
		if found {
			s.touch(line)
			cut(start, min(start+len(line)+1, len(s.text)), nil)
		}
	})
}

// changedValue changes a text, or the items of a list; it gives nil where nothing is left of it.
func changedValue(raw []byte, key string, change func(key, value string) (string, bool)) ([]byte, bool) {
	var value string
	if json.Unmarshal(raw, &value) == nil {
		text, changed := change(key, value)
		if text == "" {
			return nil, changed
		}
		return []byte(quoteJSON(text)), changed
	}
	var several []string
	if json.Unmarshal(raw, &several) != nil {
		return nil, false
	}
	left, some := splice.List(), false
	for _, v := range several {
		text, changed := change(key, v)
		some = some || changed
		if !changed {
			text = v
		}
		if text != "" {
			left.Content = append(left.Content, splice.Scalar(text))
		}
	}
	if len(left.Content) == 0 {
		return nil, some
	}
	return jsonOf(left, key), some
}

// jsonOf writes a value as JSON. true and false are truth values where a key takes them.
func jsonOf(n *yaml.Node, key string) []byte {
	var b bytes.Buffer
	switch n.Kind {
	case yaml.MappingNode:
		b.WriteByte('{')
		for i := 0; i+1 < len(n.Content); i += 2 {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(quoteJSON(n.Content[i].Value) + ": ")
			b.Write(jsonOf(n.Content[i+1], n.Content[i].Value))
		}
		b.WriteByte('}')
	case yaml.SequenceNode:
		b.WriteByte('[')
		for i, c := range n.Content {
			if i > 0 {
				b.WriteString(", ")
			}
			b.Write(jsonOf(c, ""))
		}
		b.WriteByte(']')
	default:
		if (key == "reserve" || key == "protected") && (n.Value == "true" || n.Value == "false") {
			return []byte(n.Value)
		}
		return []byte(quoteJSON(n.Value))
	}
	return b.Bytes()
}

func quoteJSON(text string) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	_ = e.Encode(text)
	return strings.TrimSuffix(string(visible.JSON(b.Bytes())), "\n")
}
