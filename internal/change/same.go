package change

import (
	"reflect"
	"slices"

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
		return slices.EqualFunc(a.Interface().(estate.Subjects), b.Interface().(estate.Subjects),
			func(a, b estate.SubjectTerm) bool {
				return a.Principal == b.Principal && a.Not == b.Not
			})
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

func hasExported(t reflect.Type) bool {
	for i := range t.NumField() {
		if t.Field(i).IsExported() {
			return true
		}
	}
	return false
}
