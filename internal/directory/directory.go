// Package directory reads people and groups from lists of other systems: CSV, LDIF, SCIM and LDAP. What it reads is the
// same whatever the way.
package directory

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"

	"hiddengate/internal/estate"
)

// Person is somebody in a directory.
type Person struct {
	ID     string
	Name   string
	Email  string
	Status string // "" where the directory does not say
	Starts string
	Ends   string
	Tags   map[string]string
}

// Group is a group of a directory, with the ids of its members; groups among them are written group:ID.
type Group struct {
	ID      string
	About   string
	Members []string
}

// People is what a directory holds, by id.
type People struct {
	People []Person
	Groups []Group
}

// Map says which attribute or column a key is taken from: id, name, email, status, starts, ends, groups, tag.KEY. What
// it does not say is taken by default.
type Map map[string]string

// ParseMap reads key=attribute,key=attribute.
func ParseMap(texts []string) (Map, error) {
	out := Map{}
	for _, text := range texts {
		for pair := range strings.SplitSeq(text, ",") {
			key, attribute, found := strings.Cut(strings.TrimSpace(pair), "=")
			known := slices.Contains([]string{"id", "name", "email", "status", "starts", "ends", "groups", "about"}, key) ||
				strings.HasPrefix(key, "tag.") && len(key) > 4
			if !found || !known {
				return nil, fmt.Errorf("%q is no KEY=ATTRIBUTE: a key is id, name, email, status, starts, ends, groups or tag.KEY",
					pair)
			}
			out[key] = attribute
		}
	}
	return out, nil
}

// of gives the attribute of a key.
func (m Map) of(key, otherwise string) string {
	if a, ok := m[key]; ok {
		return a
	}
	return otherwise
}

// met says which of the map's attributes nothing has.
func (m Map) met(has func(attribute string) bool) error {
	for _, key := range slices.Sorted(maps.Keys(m)) {
		if !has(m[key]) {
			return fmt.Errorf("nothing in it has %q, from which %s is to come", m[key], key)
		}
	}
	return nil
}

// tags lists the keys of tags, with their attributes.
func (m Map) tags() map[string]string {
	out := map[string]string{}
	for key, attribute := range m {
		if tag, ok := strings.CutPrefix(key, "tag."); ok {
			out[tag] = attribute
		}
	}
	return out
}

// ID makes an id of a name: what an id may not contain becomes a hyphen.
func ID(name string) string {
	var b strings.Builder
	for _, c := range strings.TrimSpace(name) {
		if !unicode.IsLetter(c) && !unicode.IsDigit(c) && !strings.ContainsRune("._-@", c) {
			c = '-'
		}
		b.WriteRune(c)
	}
	return strings.TrimLeft(b.String(), "._-@")
}

// groupID makes an id of a group's name: in small letters, as groups' names are mostly written with capitals and
// spaces.
func groupID(name string) string { return ID(strings.ToLower(name)) }

// finish sorts, and refuses what has no id or one that another has.
func (p *People) finish() error {
	slices.SortFunc(p.People, func(a, b Person) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(p.Groups, func(a, b Group) int { return cmp.Compare(a.ID, b.ID) })
	for i, one := range p.People {
		if err := estate.CheckID(one.ID); err != nil {
			return fmt.Errorf("person %q: %w", one.Name, err)
		}
		if i > 0 && p.People[i-1].ID == one.ID {
			return fmt.Errorf("two people have the id %q", one.ID)
		}
	}
	for i := range p.Groups {
		g := &p.Groups[i]
		if err := estate.CheckID(g.ID); err != nil {
			return fmt.Errorf("group %q: %w", g.ID, err)
		}
		if i > 0 && p.Groups[i-1].ID == g.ID {
			return fmt.Errorf("two groups have the id %q", g.ID)
		}
		slices.Sort(g.Members)
		g.Members = slices.Compact(g.Members)
	}
	return nil
}

// join puts somebody into a group, which is made if need be.
func (p *People) join(group, member string, groups map[string]int) {
	i, ok := groups[group]
	if !ok {
		i = len(p.Groups)
		groups[group] = i
		p.Groups = append(p.Groups, Group{ID: group})
	}
	p.Groups[i].Members = append(p.Groups[i].Members, member)
}

// Of gives the people and groups of an estate, as a directory would. members lists whom a group holds.
func Of(e *estate.Estate, members func(id string) []estate.Principal) *People {
	out := &People{}
	for _, s := range estate.Sorted(e.People) {
		one := Person{ID: s.ID, Name: strings.TrimSpace(s.Name), Email: s.Email, Status: s.Status, Tags: map[string]string{}}
		if s.Starts != nil {
			one.Starts = s.Starts.Text
		}
		if s.Ends != nil {
			one.Ends = s.Ends.Text
		}
		for _, t := range s.Tags {
			if estate.IsCertified(t.Key) {
				continue
			}
			one.Tags[t.Key] = t.Value
		}
		out.People = append(out.People, one)
	}
	for _, g := range estate.Sorted(e.Groups) {
		one := Group{ID: g.ID, About: g.About}
		for _, p := range members(g.ID) {
			if p.Kind == estate.IsPerson {
				one.Members = append(one.Members, p.ID)
			}
		}
		out.Groups = append(out.Groups, one)
	}
	return out
}
