package policyfile

import (
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"hiddengate/internal/estate"
)

// Reload gives what Load would, where all files but a few are those that an estate was read from. What stands in the others it shares with
// that estate; was has the files as they were then. A change of settings, catalogs, systems, resources or inventories of those is read as a whole, and so is one
// with errors, for all that is wrong to come out.
func Reload(was, files fs.FS, before *estate.Estate, changed []string) (*estate.Estate, error) {
	if e := reload(was, files, before, changed); e != nil {
		return e, nil
	}
	return Load(files)
}

// sharable are the sections of which entries can be read anew by themselves.
var sharable = []string{"people", "services", "groups", "roles", "scopes", "grants", "blocks", "separations", "delegations", "tests", "guarantees"}

// reload is Reload where that can be done; nil elsewhere.
func reload(was, files fs.FS, before *estate.Estate, changed []string) *estate.Estate {
	var lists []string
	for _, name := range changed {
		switch ext := path.Ext(name); {
		case name == SettingsFile || strings.HasPrefix(path.Base(name), "."):
			return nil
		case IsInventory(name) && slices.Contains(before.Inventories, name) && !slices.Contains(before.Tree.Files, name):
			lists = append(lists, name)
		case ext != ".yaml" && ext != ".yml":
			return nil
		}
	}
	for _, s := range before.Systems {
		if slices.Contains(changed, s.Source.File) {
			return nil
		}
	}
	for _, k := range before.Kinds {
		if slices.Contains(changed, k.Source.File) {
			return nil
		}
	}
	e := *before
	l := &loader{estate: &e, zone: before.Zone, texts: map[string][]byte{}, lines: map[string][]string{}, settings: settings{ignore: before.Ignore}}
	var documents []*document
	named := map[string]bool{} // sections that the files have, or to which inventories add
	if len(lists) > 0 {
		named["people"], named["groups"] = true, true
	}
	for _, name := range changed {
		if IsInventory(name) {
			continue
		}
		if l.settings.ignores(name) {
			return nil
		}
		d := l.open(files, name)
		if d == nil {
			return nil
		}
		for _, root := range d.roots {
			for i := 0; i < len(root.Content); i += 2 {
				if !slices.Contains(sharable, root.Content[i].Value) {
					return nil
				}
				named[root.Content[i].Value] = true
			}
		}
		documents = append(documents, d)
	}
	yamls := slices.DeleteFunc(slices.Clone(changed), IsInventory)
	e.People, e.Services = left(before.People, yamls, named["people"]), left(before.Services, yamls, named["services"])
	e.Groups, e.Roles = left(before.Groups, yamls, named["groups"]), left(before.Roles, yamls, named["roles"])
	e.Scopes, e.Grants = left(before.Scopes, yamls, named["scopes"]), left(before.Grants, yamls, named["grants"])
	e.Blocks, e.Separations = left(before.Blocks, yamls, named["blocks"]), left(before.Separations, yamls, named["separations"])
	e.Delegations, e.Tests = left(before.Delegations, yamls, named["delegations"]), left(before.Tests, yamls, named["tests"])
	e.Guarantees = left(before.Guarantees, yamls, named["guarantees"])
	again := relisted{gone: map[string]map[estate.Principal]bool{}}
	for _, name := range lists {
		if !again.read(l, was, files, name) {
			return nil
		}
	}
	again.join(l)
	for _, d := range documents {
		d.readSections(false)
	}
	// Inventories name groups, which stand in files: those that were read anew have their members too.
	for id, was := range before.Groups {
		is := e.Groups[id]
		if is == was {
			continue
		}
		for _, t := range was.Members {
			if IsInventory(t.Position.File) && !again.left(t) {
				if is == nil {
					return nil
				}
				is.Members = append(is.Members, t)
			}
		}
	}
	again.ownGroups(&e, before)
	// What resources name has to be there still.
	for _, owner := range e.Tree.Owners {
		if owner != nil && (owner.Kind == estate.IsGroup && e.Groups[owner.ID] == nil || owner.Kind != estate.IsGroup && e.Subject(*owner) == nil) {
			return nil
		}
	}
	if !lacks(e.People, before.People) && !lacks(e.Services, before.Services) && !lacks(e.Groups, before.Groups) && !lacks(e.Roles, before.Roles) && !lacks(e.Scopes, before.Scopes) {
		l.fresh = map[string]bool{}
		for _, name := range changed {
			l.fresh[name] = true
		}
	}
	l.resolveSubjects()
	l.resolvePolicy()
	l.resolveHeads()
	if !estate.SameMap(e.Groups, before.Groups) {
		l.circles("group", heads(e.Groups), func(id string) []estate.Ref { return groupRefs(e.Groups[id].Members) })
	}
	l.circles("role", heads(e.Roles), func(id string) []estate.Ref { return e.Roles[id].Include })
	l.circles("scope", heads(e.Scopes), func(id string) []estate.Ref { return scopeRefs(e.Scopes[id]) })
	if len(l.errors) > 0 || l.incomplete {
		return nil
	}
	return &e
}

// IsInventory says whether a file is an inventory by its name.
func IsInventory(name string) bool { return path.Ext(name) == ".csv" || path.Ext(name) == ".ndjson" }

// left gives a section without the entries of some files, as a map of its own if there are any, or if others will come.
func left[T any, P interface {
	*T
	estate.Head
}](section map[string]P, changed []string, others bool) map[string]P {
	isChanged := map[string]bool{}
	for _, name := range changed {
		isChanged[name] = true
	}
	var gone []string
	for id, entry := range section {
		if isChanged[entry.Head().Source.File] {
			gone = append(gone, id)
		}
	}
	if len(gone) == 0 && !others {
		return section
	}
	out := maps.Clone(section)
	for _, id := range gone {
		delete(out, id)
	}
	return out
}

// lacks says whether a section lacks an entry that it had before.
func lacks[T any](section, before map[string]T) bool {
	if estate.SameMap(section, before) {
		return false
	}
	for id := range before {
		if _, ok := section[id]; !ok {
			return true
		}
	}
	return false
}
