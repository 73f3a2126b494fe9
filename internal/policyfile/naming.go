package policyfile

import (
	"slices"
	"strings"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

// A Naming is what the value of one key names or selects, read.
type Naming struct {
	Key string // under which it stands, the innermost
	// Entries are named by id alone; Section says of which section all of them are.
	Section    string
	Entries    []estate.Ref
	Subjects   estate.Subjects
	Operations estate.Operations
	Resources  estate.Resources
	// IsList says that a `not` takes away from what stands beside it; Beside, that another key of the entry may gather
	// too.
	IsList, Beside bool
	nests          bool
}

// A Name is one thing that an entry names. Section says what it is: a section of files, or one of the words below.
type Name struct {
	Section string
	estate.Ref
	// Unchecked says that there may be no such thing: a finding tells of operations that no kind offers.
	Unchecked bool
}

// What can be named beside entries.
const (
	NamesOperation = "operations"
	NamesType      = "types"
	NamesFinding   = "findings"
)

// EachNaming visits what the keys of an entry name; a key that names nothing, or is not written, is left out.
func EachNaming(section string, entry estate.Head, visit func(Naming)) {
	tableNamings(tableOf(section), entry, visit)
}

// EachName visits every name in an entry, with the key under which it stands.
func EachName(section string, entry estate.Head, visit func(key string, n Name)) {
	EachNaming(section, entry, func(n Naming) {
		key := n.Key
		n.Each(func(one Name) { visit(key, one) })
	})
}

func tableNamings(table []field, entry any, visit func(Naming)) {
	var f *field
	named := func(n Naming) { // made once, since there are many entries
		if len(n.Entries)+len(n.Subjects)+len(n.Operations)+len(n.Resources) == 0 {
			return
		}
		if n.Key == "" {
			n.Key = f.name
		}
		n.nests = n.nests || f.nesting
		visit(n)
	}
	for i := range table {
		if f = &table[i]; f.namings != nil {
			f.namings(entry, named)
		}
	}
}

// EachNested visits the entries of the same section that an entry is made of: the roles a role includes, the groups in
// a group.
func EachNested(section string, entry estate.Head, visit func(estate.Ref)) {
	EachNaming(section, entry, func(n Naming) {
		if n.nests {
			n.Each(func(one Name) {
				if one.Section == section {
					visit(one.Ref)
				}
			})
		}
	})
}

// Each visits the names in a naming.
func (n Naming) Each(visit func(Name)) {
	for _, ref := range n.Entries {
		visit(Name{Section: n.Section, Ref: ref})
	}
	for _, t := range n.Subjects {
		eachPrincipal(t.Principal, t.Position, visit)
	}
	for _, t := range n.Operations {
		if t.Kind == estate.ByName {
			visit(Name{NamesOperation, estate.Ref{ID: t.Name, Position: t.Position}, true})
		}
	}
	for _, t := range n.Resources {
		named := func(section, id string) { visit(Name{Section: section, Ref: estate.Ref{ID: id, Position: t.Position}}) }
		if t.Scope != "" {
			named("scopes", t.Scope)
		}
		if t.In != nil && !strings.Contains(t.In.System, "*") {
			named("systems", t.In.System)
		}
		for _, kind := range t.Kinds {
			named("catalogs", kind)
		}
		for _, typ := range t.Types {
			named(NamesType, typ)
		}
		for _, o := range t.Owners {
			eachPrincipal(o, t.Position, visit)
		}
	}
}

func eachPrincipal(p estate.Principal, at diagnostic.Position, visit func(Name)) {
	if section := p.Kind.Section(); section != "" {
		visit(Name{Section: section, Ref: estate.Ref{ID: p.ID, Position: at}})
	}
}

// nests says whether entries of a section are made of others of it.
func nests(section string) bool {
	return slices.ContainsFunc(tableOf(section), func(f field) bool { return f.nesting })
}

// namedSections lists what some key of some entry names.
func namedSections() (out []string) {
	for _, s := range sections {
		for _, f := range s.table {
			out = append(out, f.names...)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Reference is a place at which one entry names another.
type Reference struct {
	Section  string // of the entry that names
	ID       string // a resource's is its address
	Key      string // under which it names
	Position diagnostic.Position
}

// References lists where entries name the one of a section, or an operation, with the id, section by section.
func References(e *estate.Estate, section, id string) (out []Reference) {
	for _, in := range estate.SectionNames {
		for _, o := range e.Section(in) {
			EachName(in, e.Entry(in, o.ID), func(key string, n Name) {
				if n.Section == section && n.ID == id {
					out = append(out, Reference{in, o.ID, key, positionOr(n.Position, o)})
				}
			})
		}
		if in == "systems" {
			out = append(out, resourcesOwnedBy(e, section, id)...)
		}
	}
	return out
}

// Selections lists where entries select an operation without its name, by a pattern or a level, with what is written
// there behind the key.
func Selections(e *estate.Estate, o *estate.Operation) (out []Reference) {
	for _, in := range estate.SectionNames {
		for _, head := range e.Section(in) {
			EachNaming(in, e.Entry(in, head.ID), func(n Naming) {
				for _, t := range n.Operations {
					if t.Kind != estate.ByName && t.Fits(o, e.Edition) {
						out = append(out, Reference{in, head.ID, n.Key + " (" + t.String() + ")", positionOr(t.Position, head)})
					}
				}
			})
		}
	}
	return out
}

// resourcesOwnedBy finds resources by their owner, the one thing that they name: there can be millions.
func resourcesOwnedBy(e *estate.Estate, section, id string) (out []Reference) {
	for i := range e.Tree.Rows {
		o := e.Tree.Owners[e.Tree.Rows[i].Owner]
		if o == nil || o.ID != id || o.Kind.Section() != section {
			continue
		}
		if entry := e.Tree.Entry(i); entry != nil && entry.Owner != nil {
			out = append(out, Reference{"resources", e.Tree.Address(i), "owner", entry.Source.Position})
		}
	}
	return out
}

// positionOr gives where a name stands, or where its entry does if that is all that is known.
func positionOr(at diagnostic.Position, o *estate.Object) diagnostic.Position {
	if at.File == "" {
		return o.Source.Position
	}
	return at
}
