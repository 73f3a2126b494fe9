package snapshot

import (
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"sync"
	"unsafe"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
)

// plan is how values of a type are written and read.
type plan struct {
	encode func(*Writer, unsafe.Pointer)
	decode func(*reader, unsafe.Pointer)
}

var plans = struct {
	sync.Mutex
	known map[reflect.Type]*plan
}{known: map[reflect.Type]*plan{}}

// wholePlan gives the plan of a type, and panics for one that has none: a type is a part of the program.
func wholePlan(t reflect.Type) *plan {
	plans.Lock()
	defer plans.Unlock()
	return planOf(t)
}

// planOf is wholePlan while the plans are locked.
func planOf(t reflect.Type) *plan {
	p := plans.known[t]
	if p == nil {
		p = &plan{}
		plans.known[t] = p // a type may contain itself
		*p = newPlan(t)
	}
	return p
}

// special are the structs that have a way of their own.
var special = map[reflect.Type]bool{reflect.TypeFor[diagnostic.Position](): true, reflect.TypeFor[netip.Addr](): true,
	reflect.TypeFor[netip.Prefix](): true}

func newPlan(t reflect.Type) plan {
	switch t {
	case reflect.TypeFor[*clock.Zone]():
		return byText((*clock.Zone).Name, clock.LoadZone)
	case reflect.TypeFor[diagnostic.Position]():
		return plan{ // there are more of these than of anything else
			func(w *Writer, p unsafe.Pointer) {
				at := (*diagnostic.Position)(p)
				w.string(at.File)
				w.uint(uint64(at.Line))
				w.uint(uint64(at.Column))
			},
			func(r *reader, p unsafe.Pointer) {
				*(*diagnostic.Position)(p) = diagnostic.Position{File: r.string(), Line: int(r.uint()), Column: int(r.uint())}
			},
		}
	case reflect.TypeFor[netip.Addr]():
		return byText(netip.Addr.String, netip.ParseAddr)
	case reflect.TypeFor[netip.Prefix]():
		return byText(netip.Prefix.String, netip.ParsePrefix)
	}
	switch t.Kind() {
	case reflect.Bool:
		return plan{
			func(w *Writer, p unsafe.Pointer) { w.bytes(unsafe.Slice((*byte)(p), 1)) },
			func(r *reader, p unsafe.Pointer) { *(*bool)(p) = r.rest[0] == 1; r.rest = r.rest[1:] },
		}
	case reflect.Int, reflect.Int64:
		return plan{
			func(w *Writer, p unsafe.Pointer) { n := *(*int64)(p); w.uint(uint64(n<<1) ^ uint64(n>>63)) },
			func(r *reader, p unsafe.Pointer) { n := r.uint(); *(*int64)(p) = int64(n>>1) ^ -int64(n&1) },
		}
	case reflect.Uint64:
		return plan{
			func(w *Writer, p unsafe.Pointer) { w.uint(*(*uint64)(p)) },
			func(r *reader, p unsafe.Pointer) { *(*uint64)(p) = r.uint() },
		}
	case reflect.String:
		return plan{
			func(w *Writer, p unsafe.Pointer) { w.string(*(*string)(p)) },
			func(r *reader, p unsafe.Pointer) { *(*string)(p) = r.string() },
		}
	case reflect.Pointer:
		return pointerPlan(t)
	case reflect.Slice:
		if numbersAlone(t.Elem()) {
			return rawPlan(t.Elem())
		}
		if t.Elem().Kind() == reflect.Pointer {
			return pointersPlan(t)
		}
		return slicePlan(t)
	case reflect.Array:
		one, n, size := planOf(t.Elem()), t.Len(), t.Elem().Size()
		return plan{
			func(w *Writer, p unsafe.Pointer) {
				for i := range n {
					one.encode(w, unsafe.Add(p, uintptr(i)*size))
				}
			},
			func(r *reader, p unsafe.Pointer) {
				for i := range n {
					one.decode(r, unsafe.Add(p, uintptr(i)*size))
				}
			},
		}
	case reflect.Map:
		if t.Key().Kind() == reflect.String {
			return mapPlan(t)
		}
	case reflect.Struct:
		return structPlan(t)
	}
	panic(fmt.Sprintf("snapshot: there is no way to write a %s", t))
}

// byText writes a value as the text that names it.
func byText[T any](write func(T) string, read func(string) (T, error)) plan {
	return plan{
		func(w *Writer, p unsafe.Pointer) { w.string(write(*(*T)(p))) },
		func(r *reader, p unsafe.Pointer) {
			v, err := read(r.string())
			if err != nil {
				panic(err)
			}
			*(*T)(p) = v
		},
	}
}

func pointerPlan(t reflect.Type) plan {
	one, room := planOf(t.Elem()), newRoom(t.Elem())
	return plan{
		func(w *Writer, p unsafe.Pointer) {
			to := *(*unsafe.Pointer)(p)
			if to == nil {
				w.uint(0)
				return
			}
			w.uint(1)
			one.encode(w, to)
		},
		func(r *reader, p unsafe.Pointer) {
			if r.uint() == 0 {
				return
			}
			to := r.room(room, 1)
			one.decode(r, to)
			*(*unsafe.Pointer)(p) = to
		},
	}
}

// numbersAlone says that a value has no pointers and takes at least four bytes: such slices stand as they are.
func numbersAlone(t reflect.Type) bool {
	switch t.Kind() {
	case reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Int32:
		return true
	case reflect.Struct:
		for i := range t.NumField() {
			f := t.Field(i).Type
			if !numbersAlone(f) && f.Kind() != reflect.Bool {
				return false
			}
		}
		return t.NumField() > 0
	}
	return false
}

// header is a slice as it stands in memory.
type header struct {
	data          unsafe.Pointer
	length, space int
}

func rawPlan(elem reflect.Type) plan {
	size := int(elem.Size())
	return plan{
		func(w *Writer, p unsafe.Pointer) {
			h := (*header)(p)
			w.uint(uint64(h.length))
			w.pad()
			w.bytes(unsafe.Slice((*byte)(h.data), h.length*size))
		},
		func(r *reader, p unsafe.Pointer) {
			n := r.length(size)
			b := r.raw(n * size)
			if n > 0 {
				*(*header)(p) = header{unsafe.Pointer(unsafe.SliceData(b)), n, n}
			}
		},
	}
}

// pointersPlan is slicePlan for pointers: what they point to is made at once.
func pointersPlan(t reflect.Type) plan {
	elem := t.Elem().Elem()
	one, size, room := planOf(elem), elem.Size(), newRoom(elem)
	return plan{
		func(w *Writer, p unsafe.Pointer) {
			list := *(*[]unsafe.Pointer)(p)
			if list == nil {
				w.uint(0)
				return
			}
			w.uint(uint64(len(list)) + 1)
			for _, to := range list {
				if to == nil {
					w.uint(0)
					continue
				}
				w.uint(1)
				one.encode(w, to)
			}
		},
		func(r *reader, p unsafe.Pointer) {
			n := r.length(1) - 1
			if n < 0 {
				return
			}
			all := r.room(room, n)
			list := make([]unsafe.Pointer, n)
			for i := range list {
				if r.uint() == 1 {
					list[i] = unsafe.Add(all, uintptr(i)*size)
					one.decode(r, list[i])
				}
			}
			*(*[]unsafe.Pointer)(p) = list
		},
	}
}

func slicePlan(t reflect.Type) plan {
	one, size, room := planOf(t.Elem()), t.Elem().Size(), newRoom(t.Elem())
	return plan{
		func(w *Writer, p unsafe.Pointer) {
			h := (*header)(p)
			if h.data == nil {
				w.uint(0)
				return
			}
			w.uint(uint64(h.length) + 1)
			for i := range h.length {
				one.encode(w, unsafe.Add(h.data, uintptr(i)*size))
			}
		},
		func(r *reader, p unsafe.Pointer) {
			n := r.length(1) - 1
			if n < 0 {
				return
			}
			data := r.room(room, n)
			for i := range n {
				one.decode(r, unsafe.Add(data, uintptr(i)*size))
			}
			*(*header)(p) = header{data, n, n}
		},
	}
}

// mapPlan writes a map by key, and its values as a slice.
func mapPlan(t reflect.Type) plan {
	list := reflect.SliceOf(t.Elem())
	one := planOf(list)
	return plan{
		func(w *Writer, p unsafe.Pointer) {
			m := reflect.NewAt(t, p).Elem()
			if m.IsNil() {
				w.uint(0)
				return
			}
			keys := m.MapKeys()
			slices.SortFunc(keys, func(a, b reflect.Value) int { return strings.Compare(a.String(), b.String()) })
			w.uint(uint64(len(keys)) + 1)
			values := reflect.New(list)
			values.Elem().Set(reflect.MakeSlice(list, len(keys), len(keys)))
			for i, k := range keys {
				w.string(k.String())
				values.Elem().Index(i).Set(m.MapIndex(k))
			}
			one.encode(w, values.UnsafePointer())
		},
		func(r *reader, p unsafe.Pointer) {
			n := r.length(1) - 1
			if n < 0 {
				return
			}
			keys := make([]string, n)
			for i := range keys {
				keys[i] = r.string()
			}
			values := reflect.New(list)
			one.decode(r, values.UnsafePointer())
			m := reflect.MakeMapWithSize(t, n)
			key := reflect.New(t.Key()).Elem()
			for i, k := range keys {
				key.SetString(k)
				m.SetMapIndex(key, values.Elem().Index(i))
			}
			reflect.NewAt(t, p).Elem().Set(m)
		},
	}
}

// structPlan writes the fields one after another, without those marked `snapshot:"-"`; those of a struct within it
// stand in its place. A field that nobody else can see is a fault: it would be lost.
func structPlan(t reflect.Type) plan {
	fields := fieldsOf(t, 0)
	return plan{
		func(w *Writer, p unsafe.Pointer) {
			for _, f := range fields {
				f.plan.encode(w, unsafe.Add(p, f.at))
			}
		},
		func(r *reader, p unsafe.Pointer) {
			for i := range fields {
				f := &fields[i]
				switch f.is { // most are read here, without a call
				case text:
					*(*string)(unsafe.Add(p, f.at)) = r.texts[r.uint()]
				case position:
					at := (*diagnostic.Position)(unsafe.Add(p, f.at))
					at.File, at.Line, at.Column = r.texts[r.uint()], int(r.uint()), int(r.uint())
				default:
					f.plan.decode(r, unsafe.Add(p, f.at))
				}
			}
		},
	}
}

// fieldAt is a field and how far into the struct it stands.
type fieldAt struct {
	at   uintptr
	is   fieldKind
	plan *plan
}

type fieldKind int

const (
	other fieldKind = iota
	text
	position
)

func fieldsOf(t reflect.Type, at uintptr) (out []fieldAt) {
	for i := range t.NumField() {
		f := t.Field(i)
		switch {
		case f.Tag.Get("snapshot") == "-":
		case !f.IsExported() && !f.Anonymous:
			panic(fmt.Sprintf("snapshot: %s has a field %s that would be lost", t, f.Name))
		case f.Type == reflect.TypeFor[diagnostic.Position]():
			out = append(out, fieldAt{at + f.Offset, position, planOf(f.Type)})
		case f.Type.Kind() == reflect.String:
			out = append(out, fieldAt{at + f.Offset, text, planOf(f.Type)})
		case f.Type.Kind() == reflect.Struct && !special[f.Type]:
			out = append(out, fieldsOf(f.Type, at+f.Offset)...)
		default:
			out = append(out, fieldAt{at + f.Offset, other, planOf(f.Type)})
		}
	}
	return out
}

// room is where values of a type are made, many at once.
type room struct {
	number int // of all rooms
	slice  reflect.Type
	size   uintptr
}

// rooms counts them, while the plans are locked.
var rooms int

func newRoom(elem reflect.Type) *room {
	rooms++
	return &room{rooms - 1, reflect.SliceOf(elem), elem.Size()}
}

// roomLeft is what is left of what was made at once.
type roomLeft struct {
	next unsafe.Pointer
	left int
}

// made is about how many bytes are made at once.
const made = 1 << 14

// room gives so many values, one behind the other.
func (r *reader) room(in *room, n int) unsafe.Pointer {
	for in.number >= len(r.rooms) {
		r.rooms = append(r.rooms, roomLeft{})
	}
	at := &r.rooms[in.number]
	if n > at.left {
		many := int(made / max(in.size, 1))
		if n > many/8 || n == 0 {
			return reflect.MakeSlice(in.slice, n, n).UnsafePointer()
		}
		*at = roomLeft{reflect.MakeSlice(in.slice, many, many).UnsafePointer(), many}
	}
	out := at.next
	if at.left -= n; at.left > 0 {
		at.next = unsafe.Add(out, uintptr(n)*in.size)
	}
	return out
}
