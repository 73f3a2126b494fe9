package escalation

import (
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/region"
)

// labels is what rules ask about the tags of resources.
type labels struct {
	terms  [][]estate.Match    // that lists of resources and conditions name together
	keys   []string            // of all of them
	values map[string][]string // of each key, those that some rule names
	sames  []string            // keys in which subject and resource are held against one another
}

func labelsOf(e *estate.Estate) *labels {
	l := &labels{values: map[string][]string{}}
	note := func(match []estate.Match) {
		if len(match) == 0 {
			return
		}
		l.terms = append(l.terms, match)
		for _, m := range match {
			l.keys = append(l.keys, m.Key)
			for _, v := range m.Values {
				if !slices.Contains(l.values[m.Key], v) {
					l.values[m.Key] = append(l.values[m.Key], v)
				}
			}
		}
	}
	within := func(c *estate.Condition) {
		note(c.Resource)
		l.sames = append(l.sames, c.Same...)
	}
	list := func(on estate.Resources) {
		for _, t := range on {
			note(t.Tags)
		}
	}
	for _, s := range e.Scopes {
		list(s.Resources)
	}
	for _, g := range estate.Sorted(e.Grants) {
		list(g.On)
		g.When.Each(within)
	}
	for _, b := range estate.Sorted(e.Blocks) {
		list(b.On)
		b.When.Each(within)
	}
	slices.SortFunc(l.terms, func(a, b []estate.Match) int { return strings.Compare(name(a), name(b)) })
	l.terms = slices.CompactFunc(l.terms, func(a, b []estate.Match) bool { return name(a) == name(b) })
	slices.Sort(l.keys)
	l.keys = slices.Compact(l.keys)
	slices.Sort(l.sames)
	l.sames = slices.Compact(l.sames)
	return l
}

func name(match []estate.Match) (out string) {
	for _, m := range match {
		out += m.Key + "\x00"
		for _, v := range m.Values {
			out += v + "\x00"
		}
		out += "\x01"
	}
	return out
}

// mostSettings is up to how many ways to tag a resource are all looked at.
const mostSettings = 64

// settings lists the tags that may suit somebody on a resource: all that rules tell apart or, where these are too many,
// each that a rule names, with the others that rules name, and without.
func (l *labels) settings(who *estate.Subject, r *estate.Resource) []estate.Tags {
	var out []estate.Tags
	bare := without(r.Tags, l.keys)
	add := func(tags estate.Tags) {
		if tags.Name(nil) != r.Tags.Name(nil) &&
			!slices.ContainsFunc(out, func(o estate.Tags) bool { return o.Name(nil) == tags.Name(nil) }) {
			out = append(out, tags)
		}
	}
	all := []estate.Tags{without(bare, l.sames)}
	for _, key := range slices.Compact(slices.Sorted(slices.Values(slices.Concat(l.keys, l.sames)))) {
		if len(all) > mostSettings {
			break
		}
		values := slices.Clone(l.values[key])
		for _, v := range []string{r.Tags.Get(key), who.Tags.Get(key)} {
			if v != "" && !slices.Contains(values, v) {
				values = append(values, v)
			}
		}
		for _, tags := range slices.Clone(all) {
			for _, v := range values {
				all = append(all, with(tags, key, v))
			}
		}
	}
	if len(all) <= mostSettings {
		for _, tags := range all {
			add(tags)
		}
		slices.SortStableFunc(out, func(a, b estate.Tags) int { return differ(a, r.Tags) - differ(b, r.Tags) })
		return out
	}
	for _, base := range []estate.Tags{r.Tags, bare} {
		add(base)
		for _, term := range l.terms {
			tags := base
			for _, m := range term {
				tags = with(tags, m.Key, m.Values[0])
			}
			add(tags)
		}
		for _, key := range l.sames {
			if v := who.Tags.Get(key); v != "" {
				add(with(base, key, v))
			}
		}
	}
	for _, key := range l.keys {
		add(without(r.Tags, []string{key}))
	}
	return out
}

// differ counts the keys in which tags differ.
func differ(a, b estate.Tags) (n int) {
	for _, t := range a {
		if b.Get(t.Key) != t.Value {
			n++
		}
	}
	for _, t := range b {
		if a.Get(t.Key) == "" {
			n++
		}
	}
	return n
}

func without(tags estate.Tags, keys []string) (out estate.Tags) {
	for _, t := range tags {
		if !slices.Contains(keys, t.Key) {
			out = append(out, t)
		}
	}
	return out
}

func with(tags estate.Tags, key, value string) estate.Tags {
	out := append(without(tags, []string{key}), estate.Tag{Key: key, Value: value})
	slices.SortFunc(out, func(a, b estate.Tag) int { return strings.Compare(a.Key, b.Key) })
	return out
}

// tagged is a resource as it is with other tags.
func tagged(r *estate.Resource, tags estate.Tags) *estate.Resource {
	out := *r
	out.Tags = tags
	return &out
}

// tagSteps finds the tags that give somebody more on a resource whose tags it can set.
func (w *Ways) tagSteps(o opened, by taken) error {
	g := w.stages[0].Gate // what its own grants give, as they are
	subject := w.estate.Subject(o.who)
	for _, tags := range w.labels.settings(subject, o.resource) {
		gains, err := w.gains(g, o.who, o.resource, tags)
		if err != nil {
			return err
		}
		if len(gains) == 0 {
			continue
		}
		w.take(Step{Kind: Tags, Where: o.resource.Address, Set: tags}, o.who, by)
		for _, gained := range gains {
			if len(gained.Opens) > 0 {
				w.later[by.cost] = append(w.later[by.cost], opened{opening{gained, o.resource}, o.who, true})
			}
		}
	}
	return nil
}

// gains lists the operations that a subject may do more, or under more conditions, if a resource has other tags.
func (w *Ways) gains(g *gate.Gate, who estate.Principal, r *estate.Resource, tags estate.Tags) (out []*estate.Operation,
	err error) {
	for _, o := range w.estate.Offer(r.System.Kind.ID).On(r.Type) {
		is, err := w.asTagged(g, who, o.Name, tagged(r, tags))
		if some, bad := w.some(g, is, err); bad != nil {
			return nil, bad
		} else if !some {
			continue
		}
		was, err := g.Possible(who, o.Name, r)
		if err != nil {
			return nil, err
		}
		if more, err := g.Space().Minus(is, was); err != nil {
			return nil, err
		} else if some, err := w.some(g, more, nil); err != nil {
			return nil, err
		} else if some {
			out = append(out, o)
		}
	}
	return out, nil
}

// asTagged is when somebody may do an operation on a resource with other tags, by what it has as it is: setting tags is
// a step of its own.
func (w *Ways) asTagged(g *gate.Gate, who estate.Principal, operation string, r *estate.Resource) (region.Region,
	error) {
	return g.PossibleAs(who, operation, r, func(gr *estate.Grant) bool {
		return w.estate.Grants[gr.ID] == gr && w.stages[0].Selects(gr.To, who)
	})
}
