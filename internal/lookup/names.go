package lookup

import (
	"encoding/binary"
	"unsafe"
)

// Names is texts that differ, each with a number, and a table to find the number by. A text stands in a record: its
// number, its length, and the text itself, so that finding it touches the table once and the record once, and nothing
// else. Records are aligned to 8 bytes, and their place is counted in such.
type Names struct {
	Records []byte
	Table   Table
}

const align = 8

// End is the place behind records.
func End(records []byte) uint32 { return uint32(len(records) / align) }

// Append adds the record of a text to records and gives its place.
func Append(records []byte, number uint32, text []byte) (all []byte, place uint32) {
	place = End(records)
	records = binary.LittleEndian.AppendUint32(records, number)
	records = binary.LittleEndian.AppendUint32(records, uint32(len(text)))
	records = append(records, text...)
	for len(records)%align != 0 {
		records = append(records, 0)
	}
	return records, place
}

// Renumber gives the record at a place another number.
func Renumber(records []byte, place, number uint32) {
	binary.LittleEndian.PutUint32(records[int(place)*align:], number)
}

// Record gives what stands in the record at a place.
func (n *Names) Record(place uint32) (number uint32, text string) {
	r := n.Records[int(place)*align:]
	length := binary.LittleEndian.Uint32(r[4:8])
	return binary.LittleEndian.Uint32(r), Text(r[8 : 8+length])
}

// Find gives the number of a text; -1 if it has none.
func (n *Names) Find(text string) int { return n.FindHash(Hash(n.Table.Seed, text), text) }

// FindHash is Find where the text's hash, with the table's seed, is known.
func (n *Names) FindHash(hash uint64, text string) int {
	for i := hash; ; {
		var place int
		if place, i = n.Table.Probe(hash, i); place < 0 {
			return -1
		}
		if number, found := n.Record(uint32(place)); found == text {
			return int(number)
		}
	}
}

// NewNames numbers texts that differ in their order, and gives the places of their records.
func NewNames(seed uint64, texts []string) (n Names, places []uint32) {
	size := 0
	for _, t := range texts {
		size += len(t) + 2*align
	}
	n.Records, n.Table, places = Large[byte](0, size), New(seed, len(texts)), make([]uint32, len(texts))
	for i, t := range texts {
		n.Records, places[i] = Append(n.Records, uint32(i), unsafe.Slice(unsafe.StringData(t), len(t)))
		n.Table.Add(Hash(seed, t), int(places[i]))
	}
	return n, places
}

// Text looks at bytes as text, without a copy: as long as the text is in use they must not change.
func Text(b []byte) string { return unsafe.String(unsafe.SliceData(b), len(b)) }

// Both finds two texts in two lists at once. It asks for both slots, and then for both records, before it looks at
// either, so that what waits for memory waits once.
func Both(a, b *Names, textA, textB string) (numberA, numberB int) {
	hashA, hashB := Hash(a.Table.Seed, textA), Hash(b.Table.Seed, textB)
	slotA, slotB := a.Table.Slots[hashA&uint64(len(a.Table.Slots)-1)], b.Table.Slots[hashB&uint64(len(b.Table.Slots)-1)]
	numberA, numberB = -1, -1
	if slotA>>32 == hashA>>32 && slotB>>32 == hashB>>32 && uint32(slotA) != 0 && uint32(slotB) != 0 {
		a1, foundA := a.Record(uint32(slotA) - 1)
		b1, foundB := b.Record(uint32(slotB) - 1)
		if foundA == textA {
			numberA = int(a1)
		}
		if foundB == textB {
			numberB = int(b1)
		}
	}
	if numberA < 0 {
		numberA = a.FindHash(hashA, textA)
	}
	if numberB < 0 {
		numberB = b.FindHash(hashB, textB)
	}
	return numberA, numberB
}
