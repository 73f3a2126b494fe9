package policyfile

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

// personReader reads rows of an inventory of people without making nodes of them. Cells mostly repeat: what one comes
// to is asked of the ordinary reader once. A row with anything else in it, or anything wrong, is left to the ordinary
// reader.
type personReader struct {
	probe   *reader
	file    string
	columns []string
	moments map[string]*estate.Moment
	tags    map[string]estate.Tags // by the cells of all tag columns
	slab    []estate.Subject
	key     []byte
}

func newPersonReader(r *reader, columns []string) *personReader {
	return &personReader{probe: r.scratch(), file: r.file, columns: columns, moments: map[string]*estate.Moment{},
		tags: map[string]estate.Tags{}}
}

// maxMemory bounds how many cells a reader remembers.
const maxMemory = 1 << 14

// read reads a row; at gives the line and column of a cell. nil if it is none for it.
func (p *personReader) read(row []string, line int, at func(cell int) (line, column int)) *estate.Subject {
	if len(p.slab) == 0 {
		p.slab = make([]estate.Subject, 256)
	}
	s := &p.slab[0]
	*s = estate.Subject{Status: estate.Statuses[0]}
	p.key = p.key[:0]
	for i, cell := range row {
		if cell == "" {
			continue
		}
		ok := true
		switch name := p.columns[i]; name {
		case "id":
			s.ID, ok = cell, estate.CheckID(cell) == nil
		case "name":
			s.Name, ok = cell, printable(cell)
		case "email":
			s.Email, ok = cell, printable(cell)
		case "status":
			s.Status, ok = cell, slices.Contains(estate.Statuses, cell)
		case "starts":
			s.Starts, ok = p.moment(cell)
		case "ends":
			s.Ends, ok = p.moment(cell)
		case "last-seen":
			s.LastSeen, ok = p.moment(cell)
		case "groups":
			s.Groups, ok = p.groups(cell, i, at)
		default:
			if ok = strings.HasPrefix(name, "tag."); ok {
				p.key = append(append(append(append(p.key, name...), 0), cell...), 0)
			}
		}
		if !ok {
			return nil
		}
	}
	if s.ID == "" {
		return nil
	}
	if len(p.key) > 0 {
		var ok bool
		if s.Tags, ok = p.tagsOf(row); !ok {
			return nil
		}
	}
	s.Source.Position = diagnostic.Position{File: p.file, Line: line, Column: 1}
	p.slab = p.slab[1:]
	return s
}

// printable says that a text is plain enough to be taken as it is.
func printable(text string) bool {
	for i := range len(text) {
		if text[i] < ' ' || text[i] > '~' {
			return false
		}
	}
	return true
}

func (p *personReader) moment(cell string) (*estate.Moment, bool) {
	if m, ok := p.moments[cell]; ok {
		return m, m != nil
	}
	m, ok := momentForm.read(p.probe, &yaml.Node{Kind: yaml.ScalarNode, Value: cell, Tag: cellTag(cell)})
	if !ok {
		m = nil
	}
	if len(p.moments) < maxMemory {
		p.moments[cell] = m
	}
	return m, ok
}

func (p *personReader) groups(cell string, i int, at func(int) (int, int)) ([]estate.Ref, bool) {
	line, column := at(i)
	refs := make([]estate.Ref, 0, strings.Count(cell, ";")+1)
	for part := range strings.SplitSeq(cell, ";") {
		part = strings.TrimSpace(part)
		if estate.CheckID(part) != nil {
			return nil, false
		}
		refs = append(refs, estate.Ref{ID: part, Position: diagnostic.Position{File: p.file, Line: line, Column: column}})
	}
	return refs, true
}

// tagsOf gives the tags of a row, whose cells are the key.
func (p *personReader) tagsOf(row []string) (estate.Tags, bool) {
	if t, ok := p.tags[string(p.key)]; ok {
		return t, t != nil
	}
	n := &yaml.Node{Kind: yaml.MappingNode}
	for i, cell := range row {
		if key, is := strings.CutPrefix(p.columns[i], "tag."); is && cell != "" {
			n.Content = append(n.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key, Tag: "!!str"},
				&yaml.Node{Kind: yaml.ScalarNode, Value: cell, Tag: cellTag(cell)})
		}
	}
	p.probe.errors = p.probe.errors[:0]
	t, ok := tagsForm.read(p.probe, n)
	ok = ok && len(p.probe.errors) == 0
	if !ok {
		t = nil
	}
	if len(p.tags) < maxMemory {
		p.tags[string(p.key)] = t
	}
	return t, ok
}
