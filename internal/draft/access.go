package draft

import (
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/estate"
	"hiddengate/internal/splice"
)

// CopyAccess names a subject wherever another is named, as a member of a group or in a grant or block itself; where the
// other is taken away, so is it. It gives the groups that fill themselves by tags with the one and not with the other,
// which stay as they are.
//
// Entries of which except says so are left out.
func (d *Draft) CopyAccess(from, to estate.Principal, except func(section, id string) bool) (left []string, err error) {
	beside := func(section, id, key string, list estate.Subjects) error {
		name := ""
		for _, t := range list {
			if t.Principal == from {
				name = estate.SubjectTerm{Principal: to, Not: t.Not}.String()
			}
			if t.Principal == from && t.Not { // it takes away, whatever stands beside it
				break
			}
		}
		if name == "" {
			return nil
		}
		return d.Change(section, id, key, Items{Add: []*yaml.Node{splice.Scalar(name)}})
	}
	for _, g := range estate.Sorted(d.estate.Groups) {
		if except("groups", g.ID) {
			continue
		}
		if err := beside("groups", g.ID, "members", g.Members); err != nil {
			return nil, err
		}
		if d.fits(g, from) && !d.fits(g, to) {
			left = append(left, g.ID)
		}
	}
	for _, g := range estate.Sorted(d.estate.Grants) {
		if except("grants", g.ID) {
			continue
		}
		if err := beside("grants", g.ID, "to", g.To); err != nil {
			return nil, err
		}
	}
	for _, b := range estate.Sorted(d.estate.Blocks) {
		if err := beside("blocks", b.ID, "to", b.To); err != nil {
			return nil, err
		}
	}
	return left, nil
}

// fits says whether a group fills itself with somebody who was there when the draft began; of others it says yes, since
// they have the tags they were given on purpose.
func (d *Draft) fits(g *estate.Group, p estate.Principal) bool {
	s := d.estate.Subject(p)
	return s == nil || g.Match != nil && estate.Fits(g.Match, s.Tags)
}
