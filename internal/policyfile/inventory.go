package policyfile

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var groupsField = of("groups", groupsForm, "groups the person belongs to",
	func(s *estate.Subject) *[]estate.Ref { return &s.Groups })

var inventoryPersonFields = append([]field{
	of("id", scalarForm("id", pattern(idPattern),
		func(_ *reader, text string) (string, error) { return text, estate.CheckID(text) }), "the person's id",
		func(s *estate.Subject) *string { return &s.ID }).must(),
	groupsField,
}, append(slices.Clone(personFields), common...)...)

// listedResource is a line of an inventory of resources.
type listedResource struct {
	estate.Entry
	at estate.Address
}

var inventoryResourceFields = append([]field{
	of("at", scalarForm("address", pattern(`[\p{L}\p{Nd}][^\x00-\x1f]*`),
		func(_ *reader, text string) (estate.Address, error) { return estate.ParseAddress(text) }),
		"its address, system and all", func(e *listedResource) *estate.Address { return &e.at }).must(),
}, wrapEntry(resourceFields)...)

// wrapEntry lets the fields of a resource read into a line of an inventory.
func wrapEntry(table []field) []field {
	out := slices.Clone(table)
	for i, f := range out {
		read := f.read
		out[i].read = func(r *reader, into any, n *yaml.Node) { read(r, &into.(*listedResource).Entry, n) }
	}
	return out
}

// inventories is what has been read of inventories, before it joins the rest of the estate.
type inventories struct {
	*loader
	people    []person
	resources []resource
}

type person struct {
	*estate.Subject
	from *reader
}

type resource struct {
	*listedResource
	from *reader
}

// readInventories reads the inventories while the YAML files are read; join makes one of both.
func (l *loader) readInventories(files fs.FS) *inventories {
	all := &inventories{loader: &loader{estate: estate.New(), zone: l.zone, settings: l.settings}}
	all.read(files)
	return all
}

// join puts what inventories list into the estate.
func (l *loader) join(all *inventories) {
	l.incomplete = l.incomplete || len(all.errors) > 0
	l.errors = append(l.errors, all.errors...)
	l.estate.Listings = all.estate.Listings
	before := len(l.errors)
	for _, p := range all.people {
		p.from.loader = l
		people.enter(p.from, p.Subject, p.Source.Position)
		l.listedPeople = append(l.listedPeople, p.Subject)
	}
	for _, e := range all.resources {
		s := l.estate.Systems[e.at.System]
		if s == nil {
			l.fail(e.Source.Position, nearestHelp(e.at.System, heads(l.estate.Systems)), "there is no system %q", e.at.System)
			continue
		}
		e.Address = e.at
		if e.Address.Path == "" {
			l.fail(e.Source.Position, "describe the system under systems:", "%s is a system and can't be listed in it", e.at)
			continue
		}
		s.Resources = append(s.Resources, &e.Entry)
	}
	l.incomplete = l.incomplete || len(l.errors) > before
}

func (l *inventories) read(files fs.FS) {
	if all := l.settings.inventories; len(all) > MaxListed {
		l.fail(all[MaxListed].at, "put several into one file", "there are more than %d inventories", MaxListed)
		return
	}
	for _, inv := range l.settings.inventories {
		name := inv.people + inv.resources
		if name != path.Clean(name) || !fs.ValidPath(name) {
			l.fail(inv.at, "name a file inside the workspace, as people.csv or lists/people.csv",
				"%q is no file of the workspace", name)
			continue
		}
		f, err := openFile(files, name)
		if err != nil {
			l.fail(inv.at, "", "the inventory %s can't be read: %s", name, err)
			continue
		}
		r := &reader{loader: l.loader, file: name, bad: map[*yaml.Node]bool{}}
		limited := &io.LimitedReader{R: f, N: MaxInventory}
		in := &watched{Reader: limited, r: r, csv: path.Ext(name) == ".csv"}
		lines := l.peopleLines(r)
		if inv.resources != "" {
			lines = csvLines{fields: inventoryResourceFields, take: func(n *yaml.Node) { l.takeResource(r, n) }}
		}
		switch path.Ext(name) {
		case ".csv":
			l.readCSV(r, in, lines)
		case ".ndjson":
			if inv.resources != "" {
				r.readResources(in, lines.take)
			} else {
				r.readLines(in, lines.take)
			}
		default:
			l.fail(inv.at, "name it .csv or .ndjson", "the inventory %s is neither CSV nor NDJSON by its name", name)
		}
		if limited.N <= 0 {
			l.fail(diagnostic.Position{File: name}, "", "the inventory has more than %d bytes", int64(MaxInventory))
		}
		f.Close()
	}
}

func (l *inventories) takePerson(r *reader, n *yaml.Node) {
	s := &estate.Subject{}
	s.Source.Position = r.at(n)
	before := len(r.errors)
	if !r.fields(inventoryPersonFields, s, n, owner{"a person", r.at(n)}) || len(r.errors) > before {
		return
	}
	finishPerson(r, s, n)
	l.people = append(l.people, person{s, r})
}

func (l *inventories) takeResource(r *reader, n *yaml.Node) {
	e := &listedResource{}
	e.Source.Position = r.at(n)
	before := len(r.errors)
	if !r.fields(inventoryResourceFields, e, n, owner{"a resource", r.at(n)}) || len(r.errors) > before {
		return
	}
	l.resources = append(l.resources, resource{e, r})
}

// csvLines says what the lines of a CSV file are.
type csvLines struct {
	fields []field
	take   func(*yaml.Node)
	people bool // so that plain lines can be read without a table
}

func (l *inventories) peopleLines(r *reader) csvLines {
	return csvLines{fields: inventoryPersonFields, take: func(n *yaml.Node) { l.takePerson(r, n) }, people: true}
}

// readCSV turns each row into the mapping it stands for, with the keys of its fields. Cells left empty say nothing; a
// column tag.KEY is a tag.
func (l *inventories) readCSV(r *reader, in io.Reader, lines csvLines) {
	c := csv.NewReader(in)
	c.ReuseRecord = true
	header, err := c.Read()
	if err == io.EOF {
		return
	}
	columns := slices.Clone(header)
	if len(columns) > MaxColumns {
		r.fail(diagnostic.Position{File: r.file, Line: 1, Column: 1}, "leave out those that say nothing",
			"there are more than %d columns", MaxColumns)
		return
	}
	if err == nil {
		columns[0] = strings.TrimPrefix(columns[0], "\ufeff")
		for i, name := range columns {
			if slices.Index(columns, name) < i {
				line, column := c.FieldPos(i)
				r.fail(diagnostic.Position{File: r.file, Line: line, Column: column}, "keep one of them",
					"the column %q occurs twice", name)
				return
			}
		}
		if !r.knownColumns(c, columns, lines.fields) {
			return
		}
		c.FieldsPerRecord = len(columns)
	}
	quick := newPersonReader(r, columns)
	for err == nil && len(r.errors) < MaxErrors {
		var row []string
		if row, err = c.Read(); err != nil {
			break
		}
		line, _ := c.FieldPos(0)
		if lines.people {
			if s := quick.read(row, line, c.FieldPos); s != nil {
				l.people = append(l.people, person{s, r})
				continue
			}
		}
		n := &yaml.Node{Kind: yaml.MappingNode, Line: line, Column: 1}
		tags := &yaml.Node{Kind: yaml.MappingNode, Line: line, Column: 1}
		for i, cell := range row {
			if cell == "" {
				continue
			}
			at, column := c.FieldPos(i)
			text := func(value string) *yaml.Node {
				return &yaml.Node{Kind: yaml.ScalarNode, Value: value, Line: at, Column: column, Tag: cellTag(value)}
			}
			if !utf8.ValidString(cell) {
				r.fail(diagnostic.Position{File: r.file, Line: at, Column: column}, "save the file as UTF-8 text",
					"this is not UTF-8 text")
				continue
			}
			name := columns[i]
			if key, ok := strings.CutPrefix(name, "tag."); ok {
				tags.Content = append(tags.Content, text(key), text(cell))
				continue
			}
			value := text(cell)
			if strings.Contains(cell, ";") && name == "groups" {
				value = &yaml.Node{Kind: yaml.SequenceNode, Line: at, Column: column}
				for part := range strings.SplitSeq(cell, ";") {
					value.Content = append(value.Content, text(strings.TrimSpace(part)))
				}
			}
			n.Content = append(n.Content, text(name), value)
		}
		if len(tags.Content) > 0 {
			n.Content = append(n.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: "tags", Line: line, Column: 1}, tags)
		}
		lines.take(n)
	}
	var bad *csv.ParseError
	if errors.As(err, &bad) {
		help := "a cell with a comma, a quote or a line break stands in quotes, and a quote in it is doubled"
		if errors.Is(err, csv.ErrFieldCount) {
			help = fmt.Sprintf("the first line names %d columns", len(columns))
		}
		r.fail(diagnostic.Position{File: r.file, Line: bad.Line, Column: max(bad.Column, 1)}, help, "this is not CSV: %s",
			bad.Err)
	} else if err != nil && err != io.EOF && !errors.Is(err, errHidden) {
		r.fail(diagnostic.Position{File: r.file}, "", "the inventory can't be read: %s", reason(err))
	}
}

// cellTag types a cell as YAML would where a form asks for it.
func cellTag(value string) string {
	if value != "" && strings.Trim(value, "0123456789") == "" {
		return "!!int"
	}
	return "!!str"
}

// knownColumns reports the columns that there are not.
func (r *reader) knownColumns(c *csv.Reader, columns []string, table []field) bool {
	before := len(r.errors)
	for i, name := range columns {
		if !strings.HasPrefix(name, "tag.") && (name == "tags" || name == "accept" ||
			!slices.Contains(fieldNames(table), name)) {
			line, column := c.FieldPos(i)
			r.fail(diagnostic.Position{File: r.file, Line: line, Column: column},
				nearestHelp(name, append(fieldNames(table), "tag.KEY")), "there is no column %q", name)
		}
	}
	return len(r.errors) == before
}

// readLines turns each line of NDJSON into the mapping it stands for.
func (r *reader) readLines(in io.Reader, take func(*yaml.Node)) {
	lines := bufio.NewScanner(in)
	lines.Buffer(make([]byte, 64<<10), MaxLine)
	number := 0
	for lines.Scan() && len(r.errors) < MaxErrors {
		number++
		text := bytes.TrimSpace(lines.Bytes())
		if len(text) == 0 {
			continue
		}
		r.readLine(text, number, take)
	}
	if err := lines.Err(); err != nil && !errors.Is(err, errHidden) {
		help := ""
		if errors.Is(err, bufio.ErrTooLong) {
			help = fmt.Sprintf("a line has at most %d bytes", MaxLine)
		}
		r.fail(diagnostic.Position{File: r.file, Line: number + 1, Column: 1}, help, "the inventory can't be read: %s", err)
	}
}

func (r *reader) readLine(text []byte, number int, take func(*yaml.Node)) {
	before := len(r.errors)
	if number == 1 {
		text = bytes.TrimPrefix(text, []byte("\ufeff"))
	}
	n, err := r.jsonLine(bytes.TrimSpace(text), number)
	if err != nil {
		r.fail(diagnostic.Position{File: r.file, Line: number, Column: 1}, "one JSON object a line", "this is not JSON: %s",
			err)
	} else if len(r.errors) == before {
		take(n)
	}
}

func (r *reader) jsonLine(text []byte, line int) (*yaml.Node, error) {
	if !utf8.Valid(text) {
		return nil, errors.New("it is not UTF-8 text")
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	n, err := r.jsonNode(d, line, 0)
	if err != nil {
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			err = errors.New("it ends too soon")
		}
		return nil, err
	}
	if _, err := d.Token(); err != io.EOF {
		return nil, errors.New("something follows the object")
	}
	r.check(n, 0)
	return n, nil
}

func (r *reader) jsonNode(d *json.Decoder, line, depth int) (*yaml.Node, error) {
	token, err := d.Token()
	if err != nil {
		return nil, err
	}
	n := &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Line: line, Column: int(d.InputOffset())}
	switch t := token.(type) {
	case string:
		n.Value = t
		n.Column = max(1, n.Column-len(t)-1)
	case json.Number:
		n.Value, n.Tag = t.String(), "!!int"
		n.Column = max(1, n.Column-len(t)+1)
	case bool:
		n.Value, n.Tag = fmt.Sprint(t), "!!bool"
	case nil:
		n.Tag = "!!null"
	case json.Delim:
		n.Kind, n.Tag = yaml.SequenceNode, "!!seq"
		if t == '{' {
			n.Kind, n.Tag = yaml.MappingNode, "!!map"
		}
		if depth > MaxDepth {
			return nil, fmt.Errorf("it is nested deeper than %d levels", MaxDepth)
		}
		for d.More() {
			c, err := r.jsonNode(d, line, depth+1)
			if err != nil {
				return nil, err
			}
			n.Content = append(n.Content, c)
		}
		if _, err := d.Token(); err != nil {
			return nil, err
		}
	}
	return n, nil
}
