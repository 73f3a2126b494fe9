package differing

// classKind is classes about which the same is so on a pile, as far as conditions ask, but for whether they own it.
type classKind struct {
	classes ClassSet
	one     uint32 // one of them
}

// mostKinds is up to how many kinds of classes it pays to tell apart as sets.
const mostKinds = 64

// sortedClasses is classes put together by the tags that conditions ask about.
type sortedClasses struct {
	bySubject []classKind           // by the values that conditions name; nil: there are too many
	bySame    []map[string][]uint32 // of each tag that has to be the resource's, by value
}

// sortByTags sorts classes.
func (w *sweep) sortByTags(classes []uint32) {
	s := w.side
	known := map[string]int{}
	for range s.Facts.Sames {
		w.bySame = append(w.bySame, map[string][]uint32{})
	}
	for _, class := range classes {
		tags := s.All[w.classes[class][0].numbers[s.number()]].Tags
		for k, same := range s.Facts.Sames {
			value := tags.Get(same.Key)
			w.bySame[k][value] = append(w.bySame[k][value], class)
		}
		key := tags.Name(func(key string) bool { return s.Facts.Subject[key] })
		i, ok := known[key]
		if !ok {
			i = len(known)
			known[key] = i
			if i < mostKinds {
				w.bySubject = append(w.bySubject, classKind{make(ClassSet, w.room.words), class})
			}
		}
		if i < mostKinds {
			w.bySubject[i].classes.Add(class)
		}
	}
	if len(known) > mostKinds {
		w.bySubject = nil
	}
}

// kinds tells the classes apart by what is so of them and a pile, without its owners; nil if there are too many kinds,
// or if the pile is of what may come.
func (t *OnPile) kinds(about *asked) []classKind {
	many := t.bySubject == nil || len(t.bySubject)<<len(t.bySame) > mostKinds
	if about.kinds != nil || about.pile.may != nil || many {
		return about.kinds
	}
	s := t.side
	tree := s.Estate().Tree
	tags := tree.Tags[tree.Rows[about.pile.row(s.number(), 0)].Tags]
	kinds := t.bySubject
	if len(about.owners) > 0 {
		kinds = nil
		for _, k := range t.bySubject {
			rest := t.room.Any()
			copy(rest, k.classes)
			for _, class := range about.owners {
				rest.Drop(class)
			}
			kinds = withOne(kinds, rest)
		}
	}
	for k, same := range s.Facts.Sames {
		value := tags.Get(same.Key)
		if value == "" || t.bySame[k][value] == nil {
			continue
		}
		alike := t.room.Empty()
		for _, class := range t.bySame[k][value] {
			alike.Add(class)
		}
		var next []classKind
		for _, one := range kinds {
			are, others := t.room.Any(), t.room.Any()
			are.SetTo(one.classes, alike)
			others.SetBut(one.classes, alike)
			next = withOne(withOne(next, are), others)
		}
		kinds = next
	}
	about.kinds = kinds
	return kinds
}

// withOne adds a kind, if it has any classes.
func withOne(kinds []classKind, classes ClassSet) []classKind {
	for class := range classes.All() {
		return append(kinds, classKind{classes, class})
	}
	return kinds
}
