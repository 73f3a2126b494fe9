package change

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/factspace"
)

// otherSubjects names the people and services who are others in what access can hang on: who are new or gone, have
// another status, are active at other times, or have other tags of those that conditions and groups ask about.
func (c *edit) otherSubjects() map[estate.Principal]bool {
	if c.others != nil {
		return c.others
	}
	c.others = map[estate.Principal]bool{}
	if !c.altered.any("people", "services") {
		return c.others
	}
	asked := c.tagsAsked()
	for section, kind := range map[string]estate.PrincipalKind{"people": estate.IsPerson, "services": estate.IsService} {
		for _, id := range c.altered[section] {
			p := estate.Principal{Kind: kind, ID: id}
			was, is := c.before.Subject(p), c.after.Subject(p)
			if was == nil || is == nil || !same(bearingOf(was, asked), bearingOf(is, asked)) {
				c.others[p] = true
			}
		}
	}
	return c.others
}

// bearingOf gives a subject without what no access hangs on.
func bearingOf(s *estate.Subject, asked map[string]bool) *estate.Subject {
	out := *s
	out.Title, out.About, out.Why, out.Accept = "", "", "", nil
	out.Name, out.Email, out.LastSeen, out.Keys, out.Tags = "", "", nil, nil, nil
	for _, t := range s.Tags {
		if asked[t.Key] {
			out.Tags = append(out.Tags, t)
		}
	}
	return &out
}

// tagsAsked gives the keys of the tags of subjects that the conditions and groups of either estate ask about.
func (c *edit) tagsAsked() map[string]bool {
	f, out := factspace.Gather(c.before, c.after), map[string]bool{}
	for _, keys := range []map[string]bool{f.Same, f.Subject} {
		for key := range keys {
			out[key] = true
		}
	}
	for _, e := range c.both() {
		for _, g := range e.Groups {
			for _, m := range g.Match {
				out[m.Key] = true
			}
		}
	}
	return out
}
