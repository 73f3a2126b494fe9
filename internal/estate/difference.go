package estate

// DiffersFrom lists the addresses at which a tree lists another resource than another one does: one that the other does
// not list, or of another type, with other tags or of another owner. An address that lies in one of these is left out.
// Of more than so many, all is false. It costs what going through both does.
func (t *Tree) DiffersFrom(other *Tree, most int) (out []Address, all bool) {
	if t == other {
		return nil, true
	}
	types, tags, owners := t.numbersIn(other, sameOwner)
	kinds := map[[2]uint32]bool{}
	alike := func(a, b *Row) bool {
		both := [2]uint32{a.System, b.System}
		same, known := kinds[both]
		if !known {
			same = t.Systems[a.System].Kind.ID == other.Systems[b.System].Kind.ID
			kinds[both] = same
		}
		return same && types[a.Type] == int(b.Type) && tags[a.Tags] == int(b.Tags) && owners[a.Owner] == int(b.Owner)
	}
	end := [2]int{} // behind the last that lies in an address that was found
	found := func(k, row int, a Address) {
		if end[k] > row {
			return
		}
		out = append(out, a)
		for k, in := range [2]*Tree{t, other} {
			if row := in.find(a); row >= 0 {
				end[k] = in.End(row)
			}
		}
	}
	for i, j := 0, 0; i < t.Len() || j < other.Len(); {
		if len(out) > most {
			return out, false
		}
		switch {
		case i < t.Len() && j < other.Len() && t.Address(i) == other.Address(j):
			if i >= end[0] && !alike(&t.Rows[i], &other.Rows[j]) {
				found(0, i, t.At(i).Address)
			}
			i, j = i+1, j+1
		case j == other.Len() || i < t.Len() && t.At(i).Address.Compare(other.At(j).Address) < 0:
			found(0, i, t.At(i).Address)
			i++
		default:
			found(1, j, other.At(j).Address)
			j++
		}
	}
	return out, true
}
