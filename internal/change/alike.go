package change

import (
	"reflect"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
)

// renamedAlike takes entries of the old estate that have another id in the new one, and are the same otherwise, by
// their new ids, wherever they are named.
func renamedAlike(before, after *estate.Estate) (*estate.Estate, *estate.Estate) {
	ids := substitution{}
	for _, section := range estate.SectionNames {
		if slices.Contains(kept, section) {
			continue
		}
		ids[section] = map[string]string{}
		left := map[string]bool{} // the entries that are new
		for _, is := range after.Section(section) {
			left[is.ID] = before.Head(section, is.ID) == nil
		}
		for _, was := range before.Section(section) {
			if after.Head(section, was.ID) != nil {
				continue
			}
			if id := nowCalled([2]*estate.Estate{before, after}, section, was.ID, left); id != "" {
				ids[section][was.ID], left[id] = id, false
			}
		}
		if len(ids[section]) == 0 {
			delete(ids, section)
		}
	}
	for id := range ids["groups"] {
		for _, o := range before.Tree.Owners {
			if o != nil && *o == (estate.Principal{Kind: estate.IsGroup, ID: id}) {
				delete(ids["groups"], id)
			}
		}
	}
	if len(ids) == 0 {
		return before, after
	}
	var edits []estate.Edit
	for _, section := range estate.SectionNames {
		if section == "catalogs" || section == "systems" {
			continue // they name nothing of what is renamed but owners and precedence, which have their own rules
		}
		before.Each(section, func(o *estate.Object) {
			one := ids.copy(reflect.ValueOf(before.Entry(section, o.ID))).Interface().(estate.Head)
			if id, ok := ids[section][o.ID]; ok {
				one.Head().ID = id
				edits = append(edits, estate.Drop(section, o.ID))
			}
			edits = append(edits, estate.Put(section, one))
		})
	}
	return before.With(edits...), after
}

// kept are the sections of which an entry with another id is another thing: somebody else, another system.
var kept = []string{"catalogs", "systems", "people", "services"}

// nowCalled gives the id that an entry which is gone has now, "" if none: of the entries left that are the same, the
// one that is named as often.
func nowCalled(estates [2]*estate.Estate, section, id string, left map[string]bool) (found string) {
	before, after := estates[0], estates[1]
	named, least := len(policyfile.References(before, section, id)), 0
	for _, is := range after.Section(section) {
		if !left[is.ID] || !alike(before.Entry(section, id), after.Entry(section, is.ID)) {
			continue
		}
		off := len(policyfile.References(after, section, is.ID)) - named
		if off = max(off, -off); found == "" || off < least {
			found, least = is.ID, off
		}
	}
	return found
}

// alike says whether two entries are the same but for their ids. The members of a group do not count: they are judged
// as a change of the group, whatever its id. As ids mean nothing, the answer decides only what is told.
func alike(was, is estate.Head) bool {
	one := reflect.New(reflect.TypeOf(was).Elem())
	one.Elem().Set(reflect.ValueOf(was).Elem())
	one.Interface().(estate.Head).Head().ID = is.Head().ID
	if group, ok := one.Interface().(*estate.Group); ok {
		group.Members = is.(*estate.Group).Members
	}
	return same(one.Interface(), is)
}

// substitution is new ids by section and old id.
type substitution map[string]map[string]string

// copy copies a value deeply as far as it names entries, by their new ids.
func (ids substitution) copy(v reflect.Value) reflect.Value {
	out := reflect.New(v.Type()).Elem()
	out.Set(v)
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() && strings.HasSuffix(v.Type().Elem().PkgPath(), "internal/estate") {
			one := reflect.New(v.Type().Elem())
			one.Elem().Set(ids.copy(v.Elem()))
			out.Set(one)
		}
	case reflect.Slice:
		if !v.IsNil() {
			out.Set(reflect.MakeSlice(v.Type(), v.Len(), v.Len()))
			for i := range v.Len() {
				out.Index(i).Set(ids.copy(v.Index(i)))
			}
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				out.Field(i).Set(ids.copy(v.Field(i)))
			}
		}
		switch one := out.Addr().Interface().(type) {
		case *estate.Ref: // all of them name roles, or a profile's authority; but for a system's kind, which is not copied
			one.ID = ids.of("roles", ids.of("systems", one.ID))
		case *estate.Principal:
			one.ID = ids.of(one.Kind.Section(), one.ID)
		case *estate.Address:
			one.System = ids.of("systems", one.System)
		case *estate.Pattern:
			one.System = ids.of("systems", one.System)
		case *estate.ResourceTerm:
			one.Scope = ids.of("scopes", one.Scope)
		}
	}
	return out
}

func (ids substitution) of(section, id string) string {
	if is, ok := ids[section][id]; ok {
		return is
	}
	return id
}
