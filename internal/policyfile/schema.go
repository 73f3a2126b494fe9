package policyfile

import (
	"encoding/json"
	"slices"

	"hiddengate/internal/verify"
)

// Schema gives the JSON Schema (2020-12) of one document of a workspace's files, the settings' among them.
func Schema() ([]byte, error) {
	defs := object{
		"selector":  tableSchema(selectorFields),
		"condition": nonEmpty(tableSchema(conditionFields)),
		"operation": tableSchema(operationFields),
		"resource":  tableSchema(resourceFields),
	}
	properties := object{}
	for _, f := range settingFields {
		properties[f.name] = withDoc(f.schema, f.doc)
	}
	for _, s := range sections {
		var entry any = tableSchema(s.table)
		switch s.name {
		case "grants":
			entry.(object)["oneOf"] = []any{object{"required": []any{"role"}}, object{"required": []any{"roles"}}}
		case "guarantees":
			var ways []any
			for _, kind := range verify.KindNames() {
				ways = append(ways, object{"required": []any{kind}})
			}
			entry.(object)["oneOf"] = ways
		}
		defs[s.one] = entry
		entry = object{"$ref": "#/$defs/" + s.one}
		if f := s.fieldNamed(s.bare); f != nil {
			entry = object{"anyOf": []any{entry, f.schema}}
		}
		properties[s.name] = object{
			"description": s.doc, "type": "object",
			"propertyNames":        object{"pattern": "^" + idPattern + "$"},
			"additionalProperties": entry,
		}
	}
	return json.MarshalIndent(object{
		"$schema":              "https://json-schema.org/draft/2020-12/schema",
		"title":                "A file of a Hidden Gate workspace",
		"type":                 "object",
		"additionalProperties": false,
		"properties":           properties,
		"$defs":                defs,
	}, "", "  ")
}

// tableSchema gives the schema of an entry with these fields.
func tableSchema(table []field) object {
	properties := object{}
	required := []any{}
	for _, f := range table {
		if f.schema == nil {
			continue
		}
		properties[f.name] = withDoc(f.schema, f.doc)
		if f.required {
			required = append(required, f.name)
		}
	}
	out := object{"type": "object", "properties": properties, "additionalProperties": false}
	if len(required) > 0 {
		out["required"] = required
	}
	return out
}

func nonEmpty(schema object) object {
	schema["minProperties"] = 1
	return schema
}

func withDoc(schema any, doc string) any {
	out := object{}
	for k, v := range schema.(object) {
		out[k] = v
	}
	out["description"] = doc
	return out
}

// A Page is a section of the reference page: its fields with how they are written.
type Page struct {
	Name, Doc string
	Fields    []PageField
}

// PageField is one line of a reference page.
type PageField struct {
	Name, Form, Doc string
	Required        bool
	Authority       Authority // "" where a key stands within another
	Names           []string  // what can be named under it: sections, and NamesOperation and the like
}

// Pages gives the table of fields as it is printed: the settings, every section, and the notations with keys.
func Pages() []Page {
	page := func(name, doc string, table []field) Page {
		p := Page{Name: name, Doc: doc}
		for _, f := range table {
			p.Fields = append(p.Fields, PageField{f.name, f.form, f.doc, f.required, f.authority, f.names})
		}
		return p
	}
	out := []Page{page("settings", "What "+SettingsFile+" says of the workspace itself.", settingFields)}
	own := func(table []field) []field {
		return slices.DeleteFunc(slices.Clone(table), func(f field) bool {
			return slices.ContainsFunc(common, func(c field) bool { return c.name == f.name && c.doc == f.doc })
		})
	}
	for _, s := range sections {
		out = append(out, page(s.name, s.doc, own(s.table)))
		switch s.name {
		case "catalogs":
			out = append(out, page("an operation", "Under `operations` of a catalog.", operationFields))
		case "systems":
			out = append(out, page("a resource",
				"Under `resources` of a system, and in inventories of resources beside `at`, its address.", own(resourceFields)))
		case "grants":
			out = append(out, page("on-request", "Under `on-request` of a grant.", requestFields))
		case "tests":
			out = append(out, page("given", "Under `given` of a test.", givenFields))
		}
	}
	return append(out,
		page("every entry", "What any entry may carry beside its own keys.", common),
		page("an acceptance", "Under `accept`.", acceptanceFields),
		page("a selector of resources", "An object in a list of resources; all its keys must hold.", selectorFields),
		page("a condition", "Under `when` and `requires`; all keys must hold.", conditionFields))
}
