package logbook

import (
	"slices"
	"strings"

	"hiddengate/internal/estate"
)

// Concerns says whether an event is about somebody's access, or changed that of so many that they may be among them.
func (t *Entry) Concerns(who estate.Principal) bool {
	if t.Request != nil {
		return t.Asker == who.String()
	}
	if t.Policy == nil {
		return false
	}
	effect := t.Effect()
	return effect.Lines != nil && effect.Subjects == nil || slices.Contains(effect.Subjects, who.String()) ||
		slices.ContainsFunc(t.Policy.Entries, func(entry string) bool {
			section, id, _ := strings.Cut(entry, " ")
			kind, is := entryKinds[section]
			return is && who == estate.Principal{Kind: kind, ID: id}
		})
}

// entryKinds are the entries that are subjects.
var entryKinds = map[string]estate.PrincipalKind{"person": estate.IsPerson, "service": estate.IsService,
	"group": estate.IsGroup}

// Names says whether an event is about an entry, as in `grant books`, or by its id alone.
func (t *Entry) Names(entry string) bool {
	is := func(one string) bool {
		_, id, _ := strings.Cut(one, " ")
		return one == entry || id == entry
	}
	return t.Request != nil && is("grant "+t.Request.Grant) || t.Pushed != nil && is("system "+t.Pushed.System) ||
		t.Policy != nil && slices.ContainsFunc(t.Policy.Entries, is)
}
