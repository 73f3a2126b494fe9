package draft

import (
	"fmt"
	"slices"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/directory"
	"hiddengate/internal/estate"
	"hiddengate/internal/splice"
)

// SourceTag marks people and groups that come from a directory, with its name.
const SourceTag = "source"

// Imported counts what an import does.
type Imported struct {
	Added, Updated, Back int
	NewGroups            int
	Gone                 []string // who came from it before, and does not any more
}

// Sources lists the directories from which people of the estate came.
func Sources(e *estate.Estate) []string {
	var out []string
	for _, s := range e.People {
		if name := s.Tags.Get(SourceTag); name != "" && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// Share is how many of those who came from a directory before may be gone from it: a number, or so many in a hundred.
type Share struct {
	Number  int
	Percent bool
}

// of gives how many that is; of a few it is one at least.
func (s Share) of(all int) int {
	if s.Percent {
		return max(min(1, s.Number), all*s.Number/100)
	}
	return s.Number
}

// Import brings people and groups to what a directory says. Those that came from it before and are gone have left;
// those of other sources, and what the directory does not speak of, stay as they are. If more of them are gone than
// most allows, nothing is done: a directory that was read in part looks like one from which many have gone. Of a group
// that came from it, members that came from it are its; others stay.
func (d *Draft) Import(from *directory.People, source, file string, most Share) (Imported, error) {
	var done Imported
	seen := map[string]bool{}
	for _, p := range from.People {
		seen[p.ID] = true
		var err error
		if s := d.estate.People[p.ID]; s == nil {
			done.Added++
			err = d.Add("people", p.ID, personBody(p, source), file)
		} else {
			err = d.update(s, p, source, &done)
		}
		if err != nil {
			return done, err
		}
	}
	before := 0
	for _, s := range estate.Sorted(d.estate.People) {
		if s.Tags.Get(SourceTag) != source || s.Status == "left" {
			continue
		}
		if before++; seen[s.ID] {
			continue
		}
		if s.Protected {
			return done, refuse("take that off first: hgate set person "+s.ID+" --protected=false",
				"%s is gone from %s, and protected (%s)", s.ID, source, s.Source.Short())
		}
		done.Gone = append(done.Gone, s.ID)
		if err := d.Set("people", s.ID, "status", splice.Scalar("left")); err != nil {
			return done, err
		}
	}
	if gone := len(done.Gone); gone > most.of(before) {
		return done,
			refuse(fmt.Sprintf("see that the directory is whole; if they are gone indeed, say so with --at-most-gone %d", gone),
				"%d of the %d people who came from %s before are gone, more than are taken for gone unasked", gone, before, source)
	}
	for _, g := range from.Groups {
		if err := d.importGroup(g, source, seen, &done); err != nil {
			return done, err
		}
	}
	return done, nil
}

// texts gives a person's keys, as they stand in files.
func texts(p directory.Person) [][2]string {
	return [][2]string{{"name", p.Name}, {"email", p.Email}, {"status", p.Status}, {"starts", p.Starts}, {"ends", p.Ends}}
}

func personBody(p directory.Person, source string) *yaml.Node {
	out := splice.Map()
	for _, kv := range texts(p) {
		if kv[1] != "" && !(kv[0] == "status" && kv[1] == "active") {
			n := splice.Scalar(kv[1])
			if kv[0] == "name" {
				n.Style = yaml.DoubleQuotedStyle
			}
			out.Content = append(out.Content, splice.Scalar(kv[0]), n)
		}
	}
	tags := splice.Map()
	for _, k := range sortedKeys(p.Tags) {
		tags.Content = append(tags.Content, splice.Scalar(k), splice.Scalar(p.Tags[k]))
	}
	tags.Content = append(tags.Content, splice.Scalar(SourceTag), splice.Scalar(source))
	out.Content = append(out.Content, splice.Scalar("tags"), tags)
	return out
}

func sortedKeys(m map[string]string) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// update changes what the directory says otherwise; what it does not say stays.
func (d *Draft) update(s *estate.Subject, p directory.Person, source string, done *Imported) error {
	was := map[string]string{"name": s.Name, "email": s.Email, "status": s.Status, "starts": momentText(s.Starts),
		"ends": momentText(s.Ends)}
	changed := false
	status := p.Status
	if status == "" && s.Status == "left" && s.Tags.Get(SourceTag) == source {
		status = "active" // they are back
		done.Back++
	}
	p.Status = status
	for _, kv := range texts(p) {
		if kv[1] == "" || kv[1] == was[kv[0]] {
			continue
		}
		if s.Protected && (kv[0] == "status" || kv[0] == "ends") {
			return refuse("take that off first: hgate set person "+s.ID+" --protected=false",
				"%s of %s changes, who is protected (%s)", kv[0], s.ID, s.Source.Short())
		}
		changed = true
		n := splice.Scalar(kv[1])
		if kv[0] == "name" {
			n.Style = yaml.DoubleQuotedStyle
		}
		if kv[0] == "status" && kv[1] == "active" {
			n = nil
		}
		if err := d.Set("people", s.ID, kv[0], n); err != nil {
			return err
		}
	}
	tags := map[string]string{SourceTag: source}
	for _, t := range s.Tags {
		tags[t.Key] = t.Value
	}
	for k, v := range p.Tags {
		tags[k] = v
	}
	tags[SourceTag] = source
	differs := false
	out := splice.Map()
	for _, k := range sortedKeys(tags) {
		differs = differs || s.Tags.Get(k) != tags[k]
		out.Content = append(out.Content, splice.Scalar(k), splice.Scalar(tags[k]))
	}
	if differs {
		changed = true
		if err := d.Set("people", s.ID, "tags", out); err != nil {
			return err
		}
	}
	if changed {
		done.Updated++
	}
	return nil
}

func momentText(m *estate.Moment) string {
	if m == nil {
		return ""
	}
	return m.Text
}

func (d *Draft) importGroup(g directory.Group, source string, seen map[string]bool, done *Imported) error {
	var members []*yaml.Node
	wanted := map[string]bool{}
	for _, m := range g.Members {
		wanted[m] = true
		members = append(members, splice.Scalar(m))
	}
	old := d.estate.Groups[g.ID]
	if old == nil {
		done.NewGroups++
		body := splice.Map()
		if g.About != "" {
			about := splice.Scalar(g.About)
			about.Style = yaml.DoubleQuotedStyle
			body.Content = append(body.Content, splice.Scalar("about"), about)
		}
		if len(members) > 0 {
			body.Content = append(body.Content, splice.Scalar("members"), splice.List(members...))
		}
		body.Content = append(body.Content, splice.Scalar("tags"),
			splice.Map(splice.Scalar(SourceTag), splice.Scalar(source)))
		return d.Add("groups", g.ID, body, "")
	}
	var add, drop []*yaml.Node
	has := map[string]bool{}
	for _, t := range old.Members {
		name := t.String()
		has[name] = true
		fromHere := t.Kind == estate.IsPerson && (seen[t.ID] || d.estate.People[t.ID].Tags.Get(SourceTag) == source)
		if !t.Not && fromHere && !wanted[name] && old.Tags.Get(SourceTag) == source {
			drop = append(drop, splice.Scalar(name))
		}
	}
	for _, m := range g.Members {
		if !has[m] {
			add = append(add, splice.Scalar(m))
		}
	}
	return d.Change("groups", g.ID, "members", Items{add, drop})
}
