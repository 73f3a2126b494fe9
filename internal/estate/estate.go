package estate

import (
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
)

// Estate is all that one workspace describes. Its references are resolved: what names an entry finds one.
type Estate struct {
	Title      string
	Edition    int
	Zone       *clock.Zone
	Severities map[string]diagnostic.Severity // of findings, as the workspace sets them
	// Temporary are the tags of subjects who do not stay; DormantAfter is when one who was not seen is dormant.
	Temporary    []Match
	DormantAfter time.Duration
	// Owner is whose the workspace is, nil where it does not say; LossesDelegated says that taking access away needs a
	// delegation too.
	Owner           *Principal
	LossesDelegated bool
	// Passwords are what passwords have to be like.
	Passwords Passwords
	// Actors are who acts by which user of the operating system; SigningRequired says that asking, approving, refusing
	// and ending need a signature.
	Actors          map[string]Principal
	SigningRequired bool
	// Ignore and Inventories are what the settings say of the files, and Policies the others that it was read from.
	Ignore      []string
	Inventories []string
	Policies    []string

	Kinds       map[string]*Kind
	Systems     map[string]*System
	People      map[string]*Subject `snapshot:"-"` // which are kept apart
	Services    map[string]*Subject
	Groups      map[string]*Group
	Roles       map[string]*Role
	Scopes      map[string]*Scope
	Grants      map[string]*Grant
	Blocks      map[string]*Block
	Separations map[string]*Separation
	Delegations map[string]*Delegation
	Profiles    map[string]*Profile
	Tests       map[string]*Test
	Guarantees  map[string]*Guarantee

	// What follows from the entries.
	Operations map[string]*Operation `snapshot:"-"` // of every kind, by name
	Listings   []*Listing            `snapshot:"-"` // of inventories, until the tree is planted
	Tree       *Tree                 `snapshot:"-"` // the listed resources
	folding    bool                  `snapshot:"-"` // some system's addresses ignore case
	offers     map[string]*Offer     `snapshot:"-"`
}

// New makes an estate without entries.
func New() *Estate {
	return &Estate{
		Edition: 1, Zone: clock.UTC, Passwords: DefaultPasswords, Severities: map[string]diagnostic.Severity{},
		Kinds: map[string]*Kind{}, Systems: map[string]*System{}, People: map[string]*Subject{},
		Services: map[string]*Subject{}, Groups: map[string]*Group{}, Roles: map[string]*Role{},
		Scopes: map[string]*Scope{}, Grants: map[string]*Grant{}, Blocks: map[string]*Block{},
		Separations: map[string]*Separation{}, Delegations: map[string]*Delegation{}, Profiles: map[string]*Profile{},
		Tests: map[string]*Test{}, Guarantees: map[string]*Guarantee{},
	}
}

// Sorted gives a section's entries by id.
func Sorted[T any](section map[string]T) []T {
	out := make([]T, 0, len(section))
	for _, id := range slices.Sorted(maps.Keys(section)) {
		out = append(out, section[id])
	}
	return out
}

// SameMap says whether two sections are one map: what is shared needs no comparing.
func SameMap[T any](a, b map[string]T) bool {
	return reflect.ValueOf(a).Pointer() == reflect.ValueOf(b).Pointer()
}

// Subject finds a person, a service, or anonymous; nil where there is none.
func (e *Estate) Subject(p Principal) *Subject {
	switch p.Kind {
	case IsPerson:
		return e.People[p.ID]
	case IsService:
		return e.Services[p.ID]
	case IsAnonymous:
		return AnonymousSubject
	}
	return nil
}

// Offer is what a kind offers with all it is based on.
type Offer struct {
	Kind       *Kind
	Types      []string // by depth
	AllTypes   []string // by depth first, then those that only operations or entries name
	Operations []*Operation
	named      map[string]string // types by first-level name, folded where the kind folds
	inside     map[string]string // types by the type of what something stands in
	byType     map[string]map[string]*Operation
	sorted     map[string][]*Operation // of a type, by name
	lineage    []string
}

// Valid finds the operation if it is valid on a resource of the type.
func (o *Offer) Valid(name, resourceType string) *Operation { return o.byType[resourceType][name] }

// Has says whether an operation is valid on any type.
func (o *Offer) Has(name string) bool {
	for _, of := range o.byType {
		if of[name] != nil {
			return true
		}
	}
	return false
}

// On gives the operations that are valid on a resource of the type, by name.
func (o *Offer) On(resourceType string) []*Operation { return o.sorted[resourceType] }

// Is says whether the kind is, or is based on, the other.
func (o *Offer) Is(kind string) bool { return slices.Contains(o.lineage, kind) }

// PlacesFrom is the edition of the built-in catalogs from which on they tell types by name and by what something stands
// in.
const PlacesFrom = 2

// TypeOf gives the type of a resource that says none, by its depth, its name and the type of what it stands in.
func (o *Offer) TypeOf(depth int, name, above string) string {
	if t, ok := o.named[name]; ok && depth == 1 {
		return t
	}
	if t, ok := o.inside[above]; ok && depth > 0 {
		return t
	}
	return o.Types[min(depth, len(o.Types)-1)]
}

// Placed lists the types that TypeOf can give.
func (o *Offer) Placed() []string {
	out := slices.Concat(o.Types, slices.Sorted(maps.Values(o.named)), slices.Sorted(maps.Values(o.inside)))
	slices.Sort(out)
	return slices.Compact(out)
}

// Names lists the first-level names that tell a type.
func (o *Offer) Names() []string { return slices.Sorted(maps.Keys(o.named)) }

// place takes over how a kind tells types by place, unless a kind that is based on it says otherwise.
func (o *Offer) place(k *Kind, fold bool) {
	for _, t := range k.Named {
		name := t.Key
		if fold {
			name = Fold(name)
		}
		if _, known := o.named[name]; !known {
			o.named[name] = t.Value
		}
		o.addType(t.Value)
	}
	for _, t := range k.Inside {
		if _, known := o.inside[t.Key]; !known {
			o.inside[t.Key] = t.Value
		}
		o.addType(t.Value)
	}
}

// Offer gives what a kind offers; the kind must exist.
func (e *Estate) Offer(kind string) *Offer { return e.offers[kind] }

// IndexResources builds the tree of resources; what is listed twice it gives back, in the order of the files. The
// kinds must be indexed and the systems' references sound.
func (e *Estate) IndexResources() []Twice {
	e.folding = false
	for _, s := range e.Systems {
		e.folding = e.folding || e.Folds(s)
	}
	twice := e.buildTree()
	e.Listings = nil
	return twice
}

// IndexKinds works out every kind's offer, and the operations. The kinds must be sound.
func (e *Estate) IndexKinds() {
	e.offers = map[string]*Offer{}
	e.Operations = map[string]*Operation{}
	for _, k := range e.SortedKinds() {
		o := &Offer{Kind: k, named: map[string]string{}, inside: map[string]string{},
			byType: map[string]map[string]*Operation{}, sorted: map[string][]*Operation{}}
		for k := k; k != nil; k = e.Kinds[k.BasedOn.ID] {
			o.lineage = append(o.lineage, k.ID)
			o.Operations = append(o.Operations, k.Operations...)
			if o.Types == nil {
				o.Types = k.Types
			}
			for _, t := range k.Types {
				o.addType(t)
			}
			if !k.BuiltIn || e.Edition >= PlacesFrom {
				o.place(k, e.foldsKind(o.Kind))
			}
		}
		if len(o.Types) == 0 {
			o.Types = []string{"system"}
			o.addType("system")
		}
		slices.SortFunc(o.Operations, func(a, b *Operation) int { return strings.Compare(a.Name, b.Name) })
		for _, op := range o.Operations {
			if e.Operations[op.Name] == nil {
				e.Operations[op.Name] = op
			}
			for _, t := range op.Types {
				o.addType(t)
			}
		}
		for _, op := range o.Operations {
			types := op.Types
			if types == nil {
				types = o.AllTypes
			}
			for _, t := range types {
				o.byType[t][op.Name] = op
				o.sorted[t] = append(o.sorted[t], op) // they come by name
			}
		}
		e.offers[k.ID] = o
	}
}

// SortedKinds gives the kinds by id, the built-in ones first: they set what an operation means that others name too.
func (e *Estate) SortedKinds() []*Kind {
	kinds := Sorted(e.Kinds)
	slices.SortStableFunc(kinds, func(a, b *Kind) int {
		switch {
		case a.BuiltIn == b.BuiltIn:
			return 0
		case a.BuiltIn:
			return -1
		}
		return 1
	})
	return kinds
}

func (o *Offer) addType(t string) {
	if o.byType[t] == nil {
		o.byType[t] = map[string]*Operation{}
		o.AllTypes = append(o.AllTypes, t)
	}
}

// nearest finds the listed resource at the address or nearest above it; the system must exist.
func (e *Estate) nearest(a Address) *Resource {
	for {
		if i := e.Tree.find(a); i >= 0 {
			return e.Tree.At(i)
		}
		parent, ok := a.Parent()
		if !ok {
			return nil
		}
		a = parent
	}
}

// Canonical folds the address where its system's kind ignores case.
func (e *Estate) Canonical(a Address) Address {
	if !e.folding {
		return a
	}
	if s := e.Systems[a.System]; s != nil && e.Folds(s) {
		a.Path = Fold(a.Path)
	}
	return a
}

// Folds says whether the system's addresses ignore case.
func (e *Estate) Folds(s *System) bool { return e.foldsKind(e.Kinds[s.Kind.ID]) }

func (e *Estate) foldsKind(k *Kind) bool {
	for ; k != nil; k = e.Kinds[k.BasedOn.ID] {
		if k.Fold {
			return true
		}
	}
	return false
}

// Listed finds the resource at the address; nil where none is listed.
func (e *Estate) Listed(a Address) *Resource {
	if i := e.Tree.find(e.Canonical(a)); i >= 0 {
		return e.Tree.At(i)
	}
	return nil
}

// ListedEntry gives what the workspace says of the listed resource at an address; nil where there is none, or where
// only a child or the system names it.
func (e *Estate) ListedEntry(a Address) *Entry {
	if i := e.Tree.find(e.Canonical(a)); i >= 0 {
		return e.Tree.Entry(i)
	}
	return nil
}

// Unlisted makes up the resource at an address in no inventory, as a system that judges such would: with the tags
// and owner of the nearest listed one above, and the type of its depth. The system must exist.
func (e *Estate) Unlisted(a Address) *Resource {
	a = e.Canonical(a)
	parent, _ := a.Parent() // a system is listed
	above := e.nearest(parent)
	return &Resource{Address: a, System: above.System, Parent: above, Index: -1, Type: e.typeBelow(above, a),
		Tags: above.Tags, Owner: above.Owner}
}

// typeBelow gives the type of an unlisted address below the nearest listed resource above it.
func (e *Estate) typeBelow(above *Resource, a Address) string {
	offer, t, depth := e.offers[above.System.Kind.ID], above.Type, above.Address.Depth()
	rest := strings.TrimPrefix(strings.TrimPrefix(a.Path, above.Address.Path), "/")
	for name := range strings.SplitSeq(rest, "/") {
		depth++
		t = offer.TypeOf(depth, name, t)
	}
	return t
}
