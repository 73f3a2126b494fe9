package policyfile

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"hiddengate/internal/estate"
)

// Reload gives what Load would, where all files but a few are those that an estate was read from. What stands in the
// others it shares with that estate; was has the files as they were then. A change of settings, catalogs or profiles
// is read as a whole, and so is one of systems themselves, of many resources, or with errors, for all that is wrong
// to come out.
func Reload(was, files fs.FS, before *estate.Estate, changed []string) (*estate.Estate, error) {
	if e := reload(was, files, before, changed); e != nil {
		return e, nil
	}
	return Load(files)
}

// whole are the sections that are read as a whole: much follows from them.
var whole = []*section{catalogs, profiles}

// reload is Reload where that can be done; nil elsewhere.
func reload(was, files fs.FS, before *estate.Estate, changed []string) *estate.Estate {
	var lists, trees []string
	for _, name := range changed {
		switch ext := path.Ext(name); {
		case name == SettingsFile || strings.HasPrefix(path.Base(name), "."):
			return nil
		case IsInventory(name) && slices.Contains(before.Inventories, name) && !slices.Contains(before.Tree.Files, name):
			lists = append(lists, name)
		case IsInventory(name) && slices.Contains(before.Inventories, name):
			trees = append(trees, name)
		case ext != ".yaml" && ext != ".yml":
			return nil
		}
	}
	stands := false
	for _, s := range whole {
		before.Each(s.name, func(o *estate.Object) { stands = stands || slices.Contains(changed, o.Source.File) })
	}
	if stands {
		return nil
	}
	l := &loader{zone: before.Zone, texts: map[string][]byte{}, lines: map[string][]string{},
		settings: settings{ignore: before.Ignore}}
	var documents []*document
	var edits []estate.Edit
	if len(lists) > 0 { // which add to them
		edits = append(edits, estate.Own("people"), estate.Own("groups"))
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
				name := root.Content[i].Value
				if !slices.Contains(sectionNames(), name) ||
					slices.ContainsFunc(whole, func(s *section) bool { return s.name == name }) {
					return nil
				}
				edits = append(edits, estate.Own(name))
			}
		}
		documents = append(documents, d)
	}
	isChanged := map[string]bool{}
	for _, name := range changed {
		isChanged[name] = !IsInventory(name)
	}
	for _, section := range estate.SectionNames {
		before.Each(section, func(o *estate.Object) {
			if isChanged[o.Source.File] {
				edits = append(edits, estate.Drop(section, o.ID))
			}
		})
	}
	e := before.With(edits...)
	l.estate = e
	again := relisted{gone: map[string]map[estate.Principal]bool{}}
	for _, name := range lists {
		if !again.read(l, was, files, name) {
			return nil
		}
	}
	again.join(l)
	for _, d := range documents {
		d.readSections()
	}
	if systems := !e.Shares(before, "systems"); systems || len(trees) > 0 {
		other := &otherResources{loader: l, was: was, files: files, lines: map[string]changedLines{}}
		if systems && !other.systems(e, before) {
			return nil
		}
		for _, name := range trees {
			if !other.inventory(e, name) {
				return nil
			}
		}
		if e = other.list(e); e == nil {
			return nil
		}
		l.estate = e
		if systems {
			l.resolveProfiles()
		}
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
	again.ownGroups(e, before)
	// What resources name has to be there still.
	for _, owner := range e.Tree.Owners {
		if owner != nil && (owner.Kind == estate.IsGroup && e.Groups[owner.ID] == nil || owner.Kind != estate.IsGroup &&
			e.Subject(*owner) == nil) {
			return nil
		}
	}
	if !slices.ContainsFunc(namedSections(), func(section string) bool { return e.Lacks(before, section) }) {
		l.fresh = map[string]bool{}
		for _, name := range changed {
			l.fresh[name] = true
		}
	}
	for _, section := range sectionNames() {
		l.resolveNames(section)
	}
	l.resolveListed()
	for _, section := range sectionNames() {
		if !e.Shares(before, section) {
			l.circles(section)
		}
	}
	if len(l.errors) > 0 || l.incomplete {
		return nil
	}
	for _, d := range documents {
		if !slices.Contains(e.Policies, d.file) {
			e.Policies = append(slices.Clip(e.Policies), d.file)
		}
	}
	return e
}

// IsInventory says whether a file is an inventory by its name.
func IsInventory(name string) bool { return path.Ext(name) == ".csv" || path.Ext(name) == ".ndjson" }
