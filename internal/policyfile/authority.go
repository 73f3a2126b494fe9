package policyfile

import "hiddengate/internal/estate"

// Authority says whose it is to change a key, of those who do not own the workspace.
type Authority string

// The authorities. What belongs to an entry's owner belongs to the owner of the workspace where the entry has none.
const (
	Free     Authority = "free"      // anybody's: it says nothing that decides
	ByEffect Authority = "by-effect" // whoever may give what somebody gets by it
	// nobody's who gets power over others by it: to own, approve, fill a group, hand out
	ByControl Authority = "by-control"
	Owners    Authority = "owners"    // the entry's owner's
	Delegated Authority = "delegated" // theirs to whom a delegation gives it, within its limits
	Nobodys   Authority = "nobodys"   // the owner's of the workspace alone
)

// Words tells an authority for people.
func (a Authority) Words() string {
	return map[Authority]string{
		Free: "anybody's", ByEffect: "by its effect", ByControl: "who gets no power by it", Owners: "its owner's",
		Delegated: "by delegation", Nobodys: "the workspace owner's",
	}[a]
}

// by says whose a key is to change.
func (f field) by(a Authority) field {
	f.authority = a
	return f
}

// Altered is a key that two entries of a section have otherwise.
type Altered struct {
	Key       string
	Authority Authority
}

// AlteredKeys tells which keys of a section two entries have otherwise.
func AlteredKeys(section string, was, is estate.Head, same func(a, b any) bool) (out []Altered) {
	for _, f := range tableOf(section) {
		a, ok := f.value(was)
		b, okToo := f.value(is)
		if ok && okToo && !same(a, b) {
			out = append(out, Altered{f.name, f.authority})
		}
	}
	return out
}

func tableOf(section string) []field {
	if section == "resources" {
		return resourceFields
	}
	for _, s := range sections {
		if s.name == section {
			return s.table
		}
	}
	return nil
}

// SettingAuthority says whose a setting of the workspace is to change.
func SettingAuthority(key string) Authority {
	for _, f := range settingFields {
		if f.name == key {
			return f.authority
		}
	}
	return ""
}
