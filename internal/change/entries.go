package change

import (
	"maps"
	"reflect"
	"slices"
	"strings"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
)

// mine says whether an entry with such an owner is the author's.
func (j *judge) mine(owner *estate.Principal) bool {
	return owner != nil && isOrIn(j.was, *owner, j.by)
}

// entries judges every key of every entry by whose it is to change.
func (j *judge) entries() {
	for _, section := range estate.SectionNames {
		for _, was := range j.old.Section(section) {
			is := j.new.Head(section, was.ID)
			switch {
			case is == was:
			case is == nil:
				j.gone(section, was)
			default:
				j.altered(section, was, is)
			}
		}
		for _, is := range j.new.Section(section) {
			if j.old.Head(section, is.ID) == nil || is.Source.File != "" && j.fresh(section, is.ID) {
				j.added(section, is)
			}
		}
	}
	j.resources()
}

// fresh says whether an entry is in the old estate only because it is in the new one.
func (j *judge) fresh(section, id string) bool {
	switch section {
	case "people":
		return j.old.People[id].Source.File == ""
	case "services":
		return j.old.Services[id].Source.File == ""
	}
	return false
}

func (j *judge) gone(section string, was *estate.Object) {
	switch {
	case j.mine(was.Owner):
	case was.Protected:
		j.breach(EntryOwner, was.Source.Position, "%s %s is protected, and gone", estate.Singular(section), was.ID)
	case was.Owner != nil:
		j.breach(EntryOwner, was.Source.Position, "%s %s belongs to %s, and is gone", estate.Singular(section), was.ID,
			was.Owner)
	default:
		j.emptied(section, was)
	}
}

// emptied judges an entry that is gone as if every key of it had been taken out: whoever may not take a key out could
// else take the entry out and put it in anew.
func (j *judge) emptied(section string, was *estate.Object) {
	entry := j.old.Entry(section, was.ID)
	bare := reflect.New(reflect.TypeOf(entry).Elem()).Interface().(estate.Head)
	if s, ok := bare.(*estate.Subject); ok {
		s.Status = estate.Statuses[0]
		if j.old.IsTemporary(entry.(*estate.Subject)) {
			j.breach(EntryOwner, was.Source.Position, "%s %s does not stay, by the tags, and only its owner takes it out",
				estate.Singular(section), was.ID)
		}
	}
	var keys []string
	for _, a := range policyfile.AlteredKeys(section, entry, bare, same) {
		if a.Authority == policyfile.Owners {
			keys = append(keys, a.Key)
		}
	}
	if keys != nil {
		j.breach(EntryOwner, was.Source.Position, "%s %s is gone, and with it what only its owner takes out: %s",
			estate.Singular(section), was.ID, strings.Join(keys, ", "))
	}
}

func (j *judge) added(section string, is *estate.Object) {
	if section == "delegations" || section == "catalogs" {
		j.breach(EntryOwner, is.Source.Position, "%s %s is new, and only the workspace's owner adds such",
			estate.Singular(section), is.ID)
	}
	if len(is.Accept) > 0 {
		j.breach(EntryOwner, is.Source.Position, "%s %s accepts findings, which only its owner does",
			estate.Singular(section), is.ID)
	}
	if s := j.subject(section, is.ID); s != nil && s.Reserve {
		j.breach(EntryOwner, is.Source.Position, "%s %s is for emergencies alone, which only the workspace's owner says",
			estate.Singular(section), is.ID)
	}
	if section == "grants" {
		j.acknowledged(nil, j.new.Grants[is.ID])
	}
}

func (j *judge) subject(section, id string) *estate.Subject {
	switch section {
	case "people":
		return j.new.People[id]
	case "services":
		return j.new.Services[id]
	}
	return nil
}

// altered judges the keys in which two entries differ.
func (j *judge) altered(section string, was, is *estate.Object) {
	if j.fresh(section, was.ID) {
		return
	}
	one := estate.Singular(section)
	for _, a := range policyfile.AlteredKeys(section, j.old.Entry(section, was.ID), j.new.Entry(section, was.ID), same) {
		if section == "systems" && a.Key == "resources" {
			continue // they are judged one by one
		}
		switch a.Key {
		case "status", "starts", "ends":
			if s := j.subject(section, was.ID); s != nil && j.shorter(j.old.Subject(s.Principal()), s, a.Key) {
				continue // that takes access away
			}
		case "tags":
			if s := j.subject(section, was.ID); s != nil && j.old.IsTemporary(j.old.Subject(s.Principal())) &&
				!j.old.IsTemporary(s) {
				j.breach(EntryOwner, is.Source.Position, "%s %s stays, by the tags, which only its owner says", one, was.ID)
			}
		case "members":
			if j.edits(was.ID) {
				continue // it has been judged by what those get
			}
		case "acknowledged":
			j.acknowledged(j.old.Grants[was.ID], j.new.Grants[was.ID])
		}
		switch {
		case a.Authority == policyfile.Free && was.Owner == nil, j.mine(was.Owner):
		case was.Owner != nil:
			j.breach(EntryOwner, is.Source.Position, "%s %s belongs to %s, and its %s changes", one, was.ID, was.Owner, a.Key)
		case a.Authority == policyfile.Owners || a.Key == "owner":
			j.breach(EntryOwner, is.Source.Position, "the %s of %s %s changes, which only its owner does", a.Key, one, was.ID)
		}
	}
}

// shorter says whether a subject is active at no time at which it was not, as far as a key says.
func (j *judge) shorter(was, is *estate.Subject, key string) bool {
	if was == nil {
		return true
	}
	active := func(s *estate.Subject) bool { return s.Status == "" || s.Status == estate.Statuses[0] }
	switch key {
	case "status":
		return !active(is) || active(was)
	case "starts":
		return was.Starts == nil || is.Starts != nil && !before(is.Starts, was.Starts)
	}
	return was.Ends == nil || is.Ends != nil && !before(was.Ends, is.Ends)
}

// before says whether one moment comes before another; of a date and an instant it says so in doubt.
func before(a, b *estate.Moment) bool {
	switch {
	case a.IsDate && b.IsDate:
		return a.Date.String() < b.Date.String()
	case !a.IsDate && !b.IsDate:
		return a.Instant < b.Instant
	}
	return true
}

// edits says whether the author may fill a group.
func (j *judge) edits(id string) bool {
	return slices.ContainsFunc(j.may, func(d *delegation) bool { return mayEdit(d.Delegation, id) })
}

// acknowledged judges what a grant says that somebody acknowledged.
func (j *judge) acknowledged(was, is *estate.Grant) {
	for _, a := range is.Acknowledged {
		if was != nil && slices.ContainsFunc(was.Acknowledged, func(b estate.Acknowledgement) bool { return same(a, b) }) {
			continue
		}
		if a.By != j.by.ID && a.By != j.by.String() {
			j.breach(OwnAcceptance, is.Source.Position, "grant %s says that %s acknowledged role %s, which only %s says", is.ID,
				a.By, a.Role.ID, a.By)
		}
	}
}

// settings judges what the workspace says of itself.
func (j *judge) settings() {
	at := diagnostic.Position{File: policyfile.SettingsFile, Line: 1, Column: 1}
	for key, alike := range map[string]bool{
		"timezone": j.old.Zone.Name() == j.new.Zone.Name(), "edition": j.old.Edition == j.new.Edition,
		"ignore":    slices.Equal(j.old.Ignore, j.new.Ignore),
		"temporary": same(j.old.Temporary, j.new.Temporary), "dormant-after": j.old.DormantAfter == j.new.DormantAfter,
		"check": maps.Equal(j.old.Severities, j.new.Severities), "owner": same(j.old.Owner, j.new.Owner),
		"losses": j.old.LossesDelegated == j.new.LossesDelegated,
		"actors": maps.Equal(j.old.Actors, j.new.Actors), "signing": j.old.SigningRequired == j.new.SigningRequired,
	} {
		if !alike && policyfile.SettingAuthority(key) == policyfile.Nobodys {
			j.breach(WorkspaceOwner, at, "the setting %s is another", key)
		}
	}
}

// resources judges changes of listed resources: of those that belong to somebody, and of whose they are.
func (j *judge) resources() {
	if j.old.Tree == j.new.Tree {
		return
	}
	for was := range j.old.Tree.All() {
		if was.Address.Path == "" {
			continue // a system is an entry by itself
		}
		is := j.new.Listed(was.Address)
		at := was.System.Source.Position
		if j.mine(was.Owner) {
			continue
		}
		before, after := j.old.Tree.Entry(was.Index), j.new.ListedEntry(was.Address)
		if before == nil {
			before = &estate.Entry{}
		}
		if after != nil {
			at = after.Source.Position
		}
		switch {
		case was.Owner != nil && (is == nil || is.Type != was.Type || !slices.Equal(is.Tags, was.Tags)):
			j.breach(EntryOwner, at, "resource %s belongs to %s, and is changed", was.Address, was.Owner)
		case is != nil && !same(is.Owner, was.Owner):
			j.breach(EntryOwner, at, "resource %s gets another owner, which only its owner says", was.Address)
		case is == nil && before.Protected:
			j.breach(EntryOwner, at, "resource %s is protected, and gone", was.Address)
		}
		if after != nil && (!same(before.Accept, after.Accept) || before.Protected && !after.Protected) {
			j.breach(EntryOwner, at, "resource %s accepts findings or is protected no more, which only its owner says",
				was.Address)
		}
	}
	for is := range j.new.Tree.All() {
		entry := j.new.Tree.Entry(is.Index)
		if entry == nil || j.old.Listed(is.Address) != nil {
			continue
		}
		above := placeIn(j.old, is.Address)
		if len(entry.Accept) > 0 {
			j.breach(EntryOwner, entry.Source.Position, "resource %s accepts findings, which only its owner does", is.Address)
		}
		if above != nil && above.Owner != nil && !j.mine(above.Owner) && !same(above.Owner, is.Owner) {
			j.breach(EntryOwner, entry.Source.Position, "resource %s stands in what belongs to %s, and gets another owner",
				is.Address, above.Owner)
		}
	}
}
