// Package snapshot writes plain Go values as bytes and reads them back: structs, slices, maps by text, pointers, texts
// and numbers. Long slices of numbers, and of structs of numbers, are not read at all: they stay where they stand in
// the bytes, which is what makes a file that is mapped into memory quick to take up. Every text is written once.
//
// A snapshot is read only by the program that wrote it, on the machine that wrote it: numbers stand as they stand in
// memory, and types are not described. Whoever keeps snapshots sees to that, and to their being whole.
package snapshot

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"reflect"
	"unsafe"
)

// ErrDamaged says that bytes are no snapshot of the value that was asked for.
var ErrDamaged = errors.New("the snapshot is damaged")

// Raw slices are aligned to this many bytes from the beginning of the snapshot.
const align = 8

// Writer writes one snapshot.
type Writer struct {
	to      io.Writer
	waiting []byte // what is not written yet
	written int
	texts   map[string]uint64
	recent  []numbered // texts that were written not long ago, by where they stand
	list    []string
	err     error
}

// numbered is a text with its number.
type numbered struct {
	text   string
	number uint64
}

// recents is how many texts are told by where they stand: most are written many times, one after the other.
const recents = 1 << 12

// block is about how many bytes are written at once.
const block = 1 << 20

// Encode writes the snapshot of the value that v points to and tells how many bytes it has. The bytes before it must be
// a multiple of 8, if there are any.
func Encode(out io.Writer, v any) (int, error) {
	w := &Writer{to: out, waiting: make([]byte, 0, 2*block), texts: map[string]uint64{}, recent: make([]numbered, recents)}
	p := reflect.ValueOf(v)
	wholePlan(p.Type().Elem()).encode(w, p.UnsafePointer())
	// The texts stand behind the value, and the place of their list in the last bytes.
	w.pad()
	ends := make([]uint64, len(w.list))
	end := uint64(0)
	start := w.written
	for i, t := range w.list {
		w.waiting = append(w.waiting, t...)
		w.wrote(len(t))
		end += uint64(len(t))
		ends[i] = end
	}
	w.pad()
	at := w.written
	w.bytes(bytesOf(ends))
	var last [24]byte
	binary.LittleEndian.PutUint64(last[:], uint64(start))
	binary.LittleEndian.PutUint64(last[8:], uint64(at))
	binary.LittleEndian.PutUint64(last[16:], uint64(len(ends)))
	w.bytes(last[:])
	w.flush()
	return w.written, w.err
}

func bytesOf[T any](s []T) []byte {
	var one T
	return unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(s))), len(s)*int(unsafe.Sizeof(one)))
}

func (w *Writer) bytes(b []byte) {
	if len(b) > block {
		w.flush()
		w.write(b)
		w.written += len(b)
		return
	}
	w.waiting = append(w.waiting, b...)
	w.wrote(len(b))
}

// wrote counts bytes, and writes those that wait once they are many.
func (w *Writer) wrote(n int) {
	if w.written += n; len(w.waiting) >= block {
		w.flush()
	}
}

func (w *Writer) flush() {
	w.write(w.waiting)
	w.waiting = w.waiting[:0]
}

func (w *Writer) write(b []byte) {
	if w.err == nil {
		_, w.err = w.to.Write(b)
	}
}

func (w *Writer) uint(n uint64) {
	before := len(w.waiting)
	w.waiting = binary.AppendUvarint(w.waiting, n)
	w.wrote(len(w.waiting) - before)
}

func (w *Writer) pad() {
	var none [align]byte
	w.bytes(none[:-w.written&(align-1)])
}

// string writes the number of a text.
func (w *Writer) string(t string) {
	at := uintptr(unsafe.Pointer(unsafe.StringData(t)))
	near := &w.recent[(at>>3^at>>15)%recents]
	if unsafe.StringData(near.text) == unsafe.StringData(t) && len(near.text) == len(t) && t != "" {
		w.uint(near.number)
		return
	}
	n, ok := w.texts[t]
	if !ok {
		n = uint64(len(w.list))
		w.texts[t] = n
		w.list = append(w.list, t)
	}
	*near = numbered{t, n}
	w.uint(n)
}

// reader reads one snapshot.
type reader struct {
	all   []byte
	rest  []byte
	texts []string
	rooms []roomLeft // of each room, by number
}

// Decode reads a snapshot into the value that v points to. What it reads keeps pointing into b, which must stay, and
// must begin at a multiple of 8.
func Decode(b []byte, v any) (err error) {
	defer func() {
		if fault := recover(); fault != nil {
			err = fmt.Errorf("%w: %v", ErrDamaged, fault)
		}
	}()
	if uintptr(unsafe.Pointer(unsafe.SliceData(b)))%align != 0 || len(b) < 24 {
		return ErrDamaged
	}
	last := b[len(b)-24:]
	start, at, count := binary.LittleEndian.Uint64(last), binary.LittleEndian.Uint64(last[8:]),
		binary.LittleEndian.Uint64(last[16:])
	if at%align != 0 || start > at || at > uint64(len(b)-24) || count > (uint64(len(b)-24)-at)/8 {
		return ErrDamaged
	}
	r := &reader{all: b, rest: b[:start], texts: make([]string, count)}
	text := b[start:at]
	ends := unsafe.Slice((*uint64)(unsafe.Pointer(unsafe.SliceData(b[at:]))), count)
	from := uint64(0)
	for i, end := range ends {
		one := text[from:end]
		r.texts[i] = unsafe.String(unsafe.SliceData(one), len(one))
		from = end
	}
	p := reflect.ValueOf(v)
	wholePlan(p.Type().Elem()).decode(r, p.UnsafePointer())
	return nil
}

func (r *reader) uint() uint64 {
	if len(r.rest) > 0 && r.rest[0] < 1<<7 {
		n := uint64(r.rest[0])
		r.rest = r.rest[1:]
		return n
	}
	return r.longUint()
}

// longUint reads a number of several bytes.
func (r *reader) longUint() uint64 {
	n, size := binary.Uvarint(r.rest)
	if size <= 0 {
		panic("a number is cut off")
	}
	r.rest = r.rest[size:]
	return n
}

// length reads how many of something follow, each at least so many bytes.
func (r *reader) length(least int) int {
	n := r.uint()
	if n > uint64(len(r.rest)/max(least, 1)+1) {
		panic("something is longer than the snapshot")
	}
	return int(n)
}

func (r *reader) string() string { return r.texts[r.uint()] }

// raw takes the next bytes where they stand, after what aligns them.
func (r *reader) raw(size int) []byte {
	skip := -r.place() & (align - 1)
	r.rest = r.rest[skip:]
	out := r.rest[:size:size]
	r.rest = r.rest[size:]
	return out
}

// place is how far the reader is.
func (r *reader) place() int {
	return int(uintptr(unsafe.Pointer(unsafe.SliceData(r.rest))) - uintptr(unsafe.Pointer(unsafe.SliceData(r.all))))
}
