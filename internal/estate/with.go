package estate

// An Edit changes one section of an estate, which has become a map of its own.
type Edit struct {
	section string
	empty   bool // the section loses all that it has before the edit
	do      func(*section, *Estate)
}

// Put gives a section an entry, in place of the one that has its id.
func Put(in string, entry Head) Edit {
	return Edit{section: in, do: func(s *section, e *Estate) { s.put(e, entry) }}
}

// Drop takes an entry out of a section.
func Drop(in, id string) Edit {
	return Edit{section: in, do: func(s *section, e *Estate) { s.drop(e, id) }}
}

// Own gives a section a map of its own, for the caller to change.
func Own(in string) Edit { return Edit{section: in, do: func(*section, *Estate) {}} }

// Clear takes every entry out of a section.
func Clear(in string) Edit {
	return Edit{section: in, empty: true, do: func(*section, *Estate) {}}
}

// With gives an estate as it would be after some edits. It shares every section that no edit concerns, and what follows
// from the entries: whoever edits catalogs, systems or resources indexes anew.
func (e *Estate) With(edits ...Edit) *Estate {
	out := *e
	own := map[string]bool{}
	for _, edit := range edits {
		s := sectionNamed(edit.section)
		if !own[s.name] || edit.empty {
			s.own(&out, edit.empty)
			own[s.name] = true
		}
		edit.do(s, &out)
	}
	return &out
}
