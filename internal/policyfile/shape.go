package policyfile

import "slices"

// Shape is how the value of a key is built.
type Shape int

// The shapes. A list of one may be written bare.
const (
	OfText Shape = iota
	OfFlag
	OfNumber
	OfList
	OfKeys
)

// Field is a key that entries of a section may have.
type Field struct {
	Name     string
	Doc      string
	Form     string // how it is written, in words
	Shape    Shape
	Required bool
	Words    []string // all it can be, where that is a few words
	Names    []string // what it can name: sections, and NamesOperation and the like
}

// Section is one of the sections of files.
type Section struct {
	Name   string // as in files: people
	One    string // person
	Doc    string
	Fields []Field
}

// Sections lists the sections that hold entries with ids, and resources, which stand within systems.
func Sections() []Section {
	var out []Section
	for _, s := range sections {
		out = append(out, Section{s.name, s.one, s.doc, fieldsOf(s.table)})
		if s.name == systems.name {
			out = append(out, Section{"resources", "resource", "The things in a system.", fieldsOf(resourceFields)})
		}
	}
	return out
}

// Version is the setting that makes a file the workspace's own, and is not changed.
const Version = "hidden-gate"

// Settings is what the workspace says of itself, but for the format's version, as if it were an entry of a section.
func Settings() Section {
	fields := slices.DeleteFunc(fieldsOf(settingFields), func(f Field) bool { return f.Name == Version })
	return Section{"", "workspace", "What " + SettingsFile + " says of the workspace itself.", fields}
}

func fieldsOf(table []field) []Field {
	var out []Field
	for _, f := range table {
		one := Field{Name: f.name, Doc: f.doc, Form: f.form, Required: f.required, Names: f.names}
		one.Shape, one.Words = shapeOf(f.schema)
		out = append(out, one)
	}
	return out
}

// shapeOf tells how a value is built by its schema.
func shapeOf(schema any) (Shape, []string) {
	s, _ := schema.(object)
	if ways, ok := s["anyOf"].([]any); ok {
		for _, way := range ways {
			if w, ok := way.(object); ok && w["type"] == "array" {
				return OfList, nil
			}
		}
	}
	if words, ok := s["enum"].([]any); ok {
		var out []string
		for _, w := range words {
			out = append(out, w.(string))
		}
		return OfText, out
	}
	_, ref := s["$ref"]
	switch {
	case ref, s["type"] == "object":
		return OfKeys, nil
	case s["type"] == "boolean":
		return OfFlag, nil
	case s["type"] == "integer":
		return OfNumber, nil
	}
	return OfText, nil
}

// FieldNamed finds one of the section's fields.
func (s Section) FieldNamed(name string) (Field, bool) {
	i := slices.IndexFunc(s.Fields, func(f Field) bool { return f.Name == name })
	if i < 0 {
		return Field{}, false
	}
	return s.Fields[i], true
}
