package change

import (
	"reflect"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

// same says whether two entries say the same, wherever they stand.
func same(a, b any) bool { return sameValue(reflect.ValueOf(a), reflect.ValueOf(b)) }

var placeless = map[reflect.Type]bool{reflect.TypeFor[diagnostic.Position](): true,
	reflect.TypeFor[estate.Source](): true}

func sameValue(a, b reflect.Value) bool {
	if a.IsValid() != b.IsValid() || a.IsValid() && a.Type() != b.Type() {
		return false
	}
	if !a.IsValid() || placeless[a.Type()] {
		return true
	}
	if a.Type() == reflect.TypeFor[estate.Subjects]() { // the long ones of a large estate: reflection takes its time
		return sameSubjects(a.Interface().(estate.Subjects), b.Interface().(estate.Subjects))
	}
	if a.Type() == reflect.TypeFor[estate.Selection]() { // its text is how the rest of it is written
		one, two := a.Interface().(estate.Selection), b.Interface().(estate.Selection)
		return same(one.Operation, two.Operation) && same(one.Place, two.Place)
	}
	switch a.Kind() {
	case reflect.Pointer, reflect.Interface:
		if a.IsNil() || b.IsNil() {
			return a.IsNil() == b.IsNil()
		}
		return sameValue(a.Elem(), b.Elem())
	case reflect.Struct:
		for i := range a.NumField() {
			if a.Type().Field(i).IsExported() && !sameValue(a.Field(i), b.Field(i)) {
				return false
			}
		}
		if a.NumField() > 0 && a.CanInterface() && !hasExported(a.Type()) {
			return reflect.DeepEqual(a.Interface(), b.Interface())
		}
		return true
	case reflect.Slice:
		if a.Len() != b.Len() {
			return false
		}
		for i := range a.Len() {
			if !sameValue(a.Index(i), b.Index(i)) {
				return false
			}
		}
		return true
	}
	return a.CanInterface() && reflect.DeepEqual(a.Interface(), b.Interface())
}

// sameSubjects says whether two lists select the same by the same terms, in whatever order.
func sameSubjects(a, b estate.Subjects) bool {
	type term struct {
		estate.Principal
		not bool
	}
	of := func(t estate.SubjectTerm) term { return term{t.Principal, t.Not} }
	if len(a) != len(b) {
		return false
	}
	first := 0 // at which they differ
	for first < len(a) && of(a[first]) == of(b[first]) {
		first++
	}
	if first == len(a) {
		return true
	}
	counts := map[term]int{}
	for i := range a[first:] {
		counts[of(a[first+i])]++
		counts[of(b[first+i])]--
	}
	for _, n := range counts {
		if n != 0 {
			return false
		}
	}
	return true
}

func hasExported(t reflect.Type) bool {
	for i := range t.NumField() {
		if t.Field(i).IsExported() {
			return true
		}
	}
	return false
}
