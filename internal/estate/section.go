package estate

import (
	"maps"
	"slices"
	"strings"
)

// Head is what every section's entries have in common.
type Head interface{ Head() *Object }

// section is one of the sections whose entries have ids.
type section struct {
	name, one string
	each      func(*Estate, func(*Object))
	entry     func(*Estate, string) Head
	differing func(before, after *Estate, same func(was, is Head) bool) []string
	put       func(*Estate, Head)
	drop      func(*Estate, string)
	own       func(e *Estate, empty bool)
	lacks     func(e, before *Estate) bool
	shared    func(a, b *Estate) bool
}

// sectionAt makes the section whose entries stand where place says.
func sectionAt[T any, P interface {
	*T
	Head
}](name, one string, place func(*Estate) *map[string]P) section {
	return section{
		name: name, one: one,
		each: func(e *Estate, visit func(*Object)) {
			for _, entry := range *place(e) {
				visit(entry.Head())
			}
		},
		entry: func(e *Estate, id string) Head {
			if entry := (*place(e))[id]; entry != nil {
				return entry
			}
			return nil // of no type
		},
		differing: func(before, after *Estate, same func(was, is Head) bool) []string {
			return differing(*place(before), *place(after), func(was, is P) bool { return same(was, is) })
		},
		put:  func(e *Estate, entry Head) { (*place(e))[entry.Head().ID] = entry.(P) },
		drop: func(e *Estate, id string) { delete(*place(e), id) },
		own: func(e *Estate, empty bool) {
			if empty {
				*place(e) = map[string]P{}
			} else {
				*place(e) = maps.Clone(*place(e))
			}
		},
		lacks:  func(e, before *Estate) bool { return lacks(*place(e), *place(before)) },
		shared: func(a, b *Estate) bool { return SameMap(*place(a), *place(b)) },
	}
}

// sections come in the order in which people work.
var sections = []section{
	sectionAt("catalogs", "kind", func(e *Estate) *map[string]*Kind { return &e.Kinds }),
	sectionAt("systems", "system", func(e *Estate) *map[string]*System { return &e.Systems }),
	sectionAt("profiles", "profile", func(e *Estate) *map[string]*Profile { return &e.Profiles }),
	sectionAt("people", "person", func(e *Estate) *map[string]*Subject { return &e.People }),
	sectionAt("services", "service", func(e *Estate) *map[string]*Subject { return &e.Services }),
	sectionAt("groups", "group", func(e *Estate) *map[string]*Group { return &e.Groups }),
	sectionAt("roles", "role", func(e *Estate) *map[string]*Role { return &e.Roles }),
	sectionAt("scopes", "scope", func(e *Estate) *map[string]*Scope { return &e.Scopes }),
	sectionAt("grants", "grant", func(e *Estate) *map[string]*Grant { return &e.Grants }),
	sectionAt("blocks", "block", func(e *Estate) *map[string]*Block { return &e.Blocks }),
	sectionAt("separations", "separation", func(e *Estate) *map[string]*Separation { return &e.Separations }),
	sectionAt("delegations", "delegation", func(e *Estate) *map[string]*Delegation { return &e.Delegations }),
	sectionAt("tests", "test", func(e *Estate) *map[string]*Test { return &e.Tests }),
	sectionAt("guarantees", "guarantee", func(e *Estate) *map[string]*Guarantee { return &e.Guarantees }),
}

// SectionNames lists the sections whose entries have ids, in the order in which people work.
var SectionNames = func() (names []string) {
	for _, s := range sections {
		names = append(names, s.name)
	}
	return names
}()

func sectionNamed(name string) *section {
	for i := range sections {
		if sections[i].name == name {
			return &sections[i]
		}
	}
	return nil
}

// Singular names one entry of a section.
func Singular(name string) string {
	if s := sectionNamed(name); s != nil {
		return s.one
	}
	return strings.TrimSuffix(name, "s")
}

// Section gives a section's entries by id; of catalogs, the workspace's own.
func (e *Estate) Section(name string) []*Object {
	var out []*Object
	e.Each(name, func(o *Object) { out = append(out, o) })
	slices.SortFunc(out, func(a, b *Object) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// EachHead visits what every entry with an id has in common, in no order.
func (e *Estate) EachHead(visit func(*Object)) {
	for _, name := range SectionNames {
		e.Each(name, visit)
	}
}

// Each visits what a section's entries have in common, in no order; of catalogs, the workspace's own.
func (e *Estate) Each(section string, visit func(*Object)) {
	s := sectionNamed(section)
	if s == nil {
		return
	}
	s.each(e, func(o *Object) {
		if section != "catalogs" || !e.Kinds[o.ID].BuiltIn {
			visit(o)
		}
	})
}

// Entry finds an entry of a section; nil, of no type, if there is none of the id. A resource's id is its address.
func (e *Estate) Entry(section, id string) Head {
	if section == "resources" {
		if a, err := ParseAddress(id); err == nil {
			if entry := e.ListedEntry(a); entry != nil {
				return entry
			}
		}
		return nil
	}
	if s := sectionNamed(section); s != nil {
		return s.entry(e, id)
	}
	return nil
}

// Head finds what an entry has in common with all others; nil if there is none of the id.
func (e *Estate) Head(section, id string) *Object {
	if h := e.Entry(section, id); h != nil {
		return h.Head()
	}
	return nil
}

// Differing lists, by section, the ids of the entries that are new, gone, or not the same any more.
func Differing(before, after *Estate, same func(was, is Head) bool) map[string][]string {
	out := map[string][]string{}
	for _, s := range sections {
		if ids := s.differing(before, after, same); len(ids) > 0 {
			out[s.name] = ids
		}
	}
	return out
}

func differing[P comparable](before, after map[string]P, same func(was, is P) bool) (out []string) {
	if SameMap(before, after) {
		return nil
	}
	gone := 0
	for id, was := range before {
		is, there := after[id]
		if !there {
			gone++
		}
		if is != was && (!there || !same(was, is)) {
			out = append(out, id)
		}
	}
	if len(after) == len(before)-gone {
		return out
	}
	for id := range after {
		if _, there := before[id]; !there {
			out = append(out, id)
		}
	}
	return out
}

// Shares says whether a section is the same in another estate, entries and all, because they share it.
func (e *Estate) Shares(other *Estate, section string) bool {
	s := sectionNamed(section)
	return s != nil && s.shared(e, other)
}

// Lacks says whether a section lacks an entry that it had in another estate.
func (e *Estate) Lacks(before *Estate, section string) bool {
	s := sectionNamed(section)
	return s != nil && s.lacks(e, before)
}

func lacks[T any](section, before map[string]T) bool {
	if SameMap(section, before) {
		return false
	}
	for id := range before {
		if _, ok := section[id]; !ok {
			return true
		}
	}
	return false
}
