package estate

// An Edit puts an entry into a section of an estate, or takes one out.
type Edit struct {
	section, id string
	entry       Head // nil where it is taken out
	none        bool // the section gets a map of its own, and stays as it is
	clear       bool // all its entries go
}

// Put gives a section an entry, in place of the one that has its id.
func Put(section string, entry Head) Edit {
	return Edit{section: section, id: entry.Head().ID, entry: entry}
}

// Drop takes an entry out of a section.
func Drop(section, id string) Edit { return Edit{section: section, id: id} }

// Own gives a section a map of its own, for the caller to change.
func Own(section string) Edit { return Edit{section: section, none: true} }

// Clear takes every entry out of a section.
func Clear(section string) Edit { return Edit{section: section, clear: true} }

// With gives an estate as it would be after some edits. It shares every section that no edit concerns, and what follows
// from the entries: whoever edits catalogs, systems or resources indexes anew.
func (e *Estate) With(edits ...Edit) *Estate {
	out := *e
	own := map[string]bool{}
	for _, edit := range edits {
		s := sectionNamed(edit.section)
		if !own[s.name] || edit.clear {
			s.own(&out, edit.clear)
			own[s.name] = true
		}
		switch {
		case edit.none, edit.clear:
		case edit.entry == nil:
			s.drop(&out, edit.id)
		default:
			s.put(&out, edit.entry)
		}
	}
	return &out
}
