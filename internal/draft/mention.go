package draft

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
)

// Mention is a place at which the files name an entry.
type Mention struct {
	Section, ID string   // of the entry that names; a resource's id is its address
	Key         string   // under which
	File        string   // where
	Line        int      // 0 in an inventory
	path        []string // of the list or value
	index       int      // in the list
	node        *yaml.Node
	isKey       bool // the node is a key, with all it holds
}

// target is what is looked for.
type target struct {
	section, id string
	address     estate.Address // of a resource
	estate      *estate.Estate
}

// The keys under which subjects, roles, resources and expectations are named, wherever they stand.
var (
	subjectKeys = []string{"to", "who", "members", "stewards", "approvers", "to-members-of", "may-edit", "only", "never", "apart", "owner"}
	roleKeys    = []string{"role", "roles", "include", "may-grant", "precedence"}
	placeKeys   = []string{"on", "resources"}
)

// Mentions lists where the files name an entry, itself apart. Those in inventories are given by file alone.
func (d *Draft) Mentions(section, id string) ([]Mention, error) {
	t, err := d.target(section, id)
	if err != nil {
		return nil, err
	}
	var out []Mention
	names, err := d.sources.Now(d.under)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		if policyfile.IsInventory(name) {
			s, err := d.sheet(name)
			if err != nil {
				return nil, err
			}
			err = s.each(t.word(), func(key, value string) (string, bool) {
				if _, ok := t.inSheet(key, value, ""); ok {
					out = append(out, Mention{Section: "inventories", ID: name, Key: key, File: name})
				}
				return "", false
			})
			if err != nil {
				return nil, err
			}
			continue
		}
		f, err := d.yaml(name)
		if err != nil {
			return nil, err
		}
		w := walker{target: t, file: name}
		for _, root := range f.Roots() {
			w.document(root)
		}
		out = append(out, w.found...)
	}
	return out, nil
}

func (d *Draft) target(section, id string) (target, error) {
	t := target{section: section, id: id, estate: d.estate}
	if section == "resources" {
		a, err := estate.ParseAddress(id)
		if err != nil {
			return t, err
		}
		t.address = d.estate.Canonical(a)
	}
	return t, nil
}

// word is part of every line that names the target.
func (t target) word() string {
	if t.section == "resources" {
		return t.address.System
	}
	return t.id
}

// walker walks a file's entries.
type walker struct {
	target
	file  string
	found []Mention
	// the entry at hand
	inSection, inID string
}

func (w *walker) document(root *yaml.Node) {
	pairs(root, func(section, entries *yaml.Node) {
		pairs(entries, func(id, body *yaml.Node) {
			w.inSection, w.inID = section.Value, id.Value
			path := []string{section.Value, id.Value}
			if section.Value == "scopes" && bare(body) {
				w.value("resources", body, path)
				return
			}
			w.body(body, path)
		})
	})
}

func pairs(n *yaml.Node, each func(key, value *yaml.Node)) {
	if n.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(n.Content); i += 2 {
			each(n.Content[i], n.Content[i+1])
		}
	}
}

// body walks the keys of an entry.
func (w *walker) body(n *yaml.Node, path []string) {
	pairs(n, func(key, value *yaml.Node) {
		w.value(key.Value, value, append(slices.Clone(path), key.Value))
	})
}

func (w *walker) value(key string, n *yaml.Node, path []string) {
	switch {
	case key == "resources" && w.inSection == "systems":
		pairs(n, func(p, body *yaml.Node) {
			system := w.inID
			w.inSection, w.inID = "resources", system+":"+p.Value
			if t := w.target; t.section == "resources" {
				if c, err := estate.CanonicalPath(p.Value); err == nil {
					if a := t.estate.Canonical(estate.Address{System: system, Path: c}); a != t.address && a.Inside(t.address) {
						w.found = append(w.found, Mention{Section: w.inSection, ID: w.inID, Key: "inside it", File: w.file, Line: p.Line, path: append(slices.Clone(path), p.Value), node: p, isKey: true})
					}
				}
			}
			w.body(body, append(slices.Clone(path), p.Value))
			w.inSection, w.inID = "systems", system
		})
	case slices.Contains(subjectKeys, key):
		w.items(key, n, path, w.subject)
	case slices.Contains(roleKeys, key):
		w.items(key, n, path, w.role)
	case slices.Contains(placeKeys, key):
		w.items(key, n, path, w.place)
	case key == "allowed" || key == "denied":
		w.items(key, n, path, w.selection)
	case key == "on-request" || key == "given":
		w.body(n, path)
	case key == "levels":
		pairs(n, func(subject, places *yaml.Node) {
			at := append(slices.Clone(path), subject.Value)
			if w.subject(subject) {
				w.found = append(w.found, Mention{Section: w.inSection, ID: w.inID, Key: key, File: w.file, Line: subject.Line, path: at, node: subject, isKey: true})
			}
			pairs(places, func(place, _ *yaml.Node) {
				if w.place(place) {
					w.found = append(w.found, Mention{Section: w.inSection, ID: w.inID, Key: key, File: w.file, Line: place.Line, path: append(slices.Clone(at), place.Value), node: place, isKey: true})
				}
			})
		})
	}
}

func (w *walker) items(key string, n *yaml.Node, path []string, is func(*yaml.Node) bool) {
	list := []*yaml.Node{n}
	if n.Kind == yaml.SequenceNode {
		list = n.Content
	}
	for i, item := range list {
		if is(item) {
			w.found = append(w.found, Mention{Section: w.inSection, ID: w.inID, Key: key, File: w.file, Line: item.Line, path: path, index: i, node: item})
		}
	}
}

// stem is a term without its `not`.
func stem(text string) string { return strings.TrimSpace(strings.TrimPrefix(text, "not ")) }

func (t target) subject(n *yaml.Node) bool {
	if n.Kind != yaml.ScalarNode || t.section != "people" && t.section != "services" && t.section != "groups" {
		return false
	}
	return plainSubject(stem(n.Value)) == named(t.section, t.id)
}

func (t target) role(n *yaml.Node) bool {
	return t.section == "roles" && n.Kind == yaml.ScalarNode && n.Value == t.id
}

func (t target) place(n *yaml.Node) bool {
	if n.Kind == yaml.MappingNode {
		found := false
		pairs(n, func(key, value *yaml.Node) {
			switch key.Value {
			case "in":
				found = found || t.names(value.Value)
			case "owner":
				for _, o := range append([]*yaml.Node{value}, value.Content...) {
					found = found || t.subject(o)
				}
			case "not":
				found = found || t.place(value)
			}
		})
		return found
	}
	return t.names(n.Value)
}

func (t target) selection(n *yaml.Node) bool {
	_, where, _ := strings.Cut(n.Value, " on ")
	return t.names(where)
}

// names says whether the text of one place names the target, or for a resource something inside it.
func (t target) names(text string) bool {
	text = stem(text)
	switch t.section {
	case "scopes":
		return text == "scope:"+t.id
	case "systems":
		system, _, _ := strings.Cut(text, ":")
		return system == t.id && !strings.HasPrefix(text, "scope:")
	case "resources":
		a, err := estate.ParseAddress(text)
		if err != nil || strings.HasPrefix(text, "scope:") {
			return false
		}
		a = t.estate.Canonical(a)
		return a == t.address || a.Inside(t.address)
	}
	return false
}

// inSheet gives what a cell of an inventory says once the target has another id ("": none any more), if it names the target.
func (t target) inSheet(key, value, to string) (string, bool) {
	switch {
	case key == "groups" && t.section == "groups" && value == t.id:
		return to, true
	case key == "owner" && plainSubject(value) == named(t.section, t.id) && t.section != "scopes":
		if to == "" {
			return "", true
		}
		return named(t.section, to), true
	case key == "at" && t.section == "systems":
		if system, path, _ := strings.Cut(value, ":"); system == t.id {
			return to + ":" + path, true
		}
	case key == "at" && t.section == "resources":
		a, err := estate.ParseAddress(value)
		if err != nil {
			return "", false
		}
		if a = t.estate.Canonical(a); a != t.address && a.Inside(t.address) {
			return to + strings.TrimPrefix(a.Path, t.address.Path), true
		}
	}
	return "", false
}

// Redirect has everything that names an entry name another id instead.
func (d *Draft) Redirect(section, id, to string, mentions []Mention) error {
	t, err := d.target(section, id)
	if err != nil {
		return err
	}
	byFile := map[string]map[*yaml.Node]string{}
	sheets := map[string]bool{}
	for _, m := range mentions {
		if m.node == nil {
			sheets[m.File] = true
			continue
		}
		if byFile[m.File] == nil {
			byFile[m.File] = map[*yaml.Node]string{}
		}
		t.redirect(m, to, byFile[m.File])
	}
	for name, changes := range byFile {
		f, err := d.yaml(name)
		if err != nil {
			return err
		}
		if err := f.Substitute(changes); err != nil {
			return err
		}
	}
	for name := range sheets {
		s, err := d.sheet(name)
		if err != nil {
			return err
		}
		if err := s.each(t.word(), func(key, value string) (string, bool) { return t.inSheet(key, value, to) }); err != nil {
			return err
		}
	}
	return nil
}

// redirect gathers the texts that change in what a mention points to.
func (t target) redirect(m Mention, to string, changes map[*yaml.Node]string) {
	var walk func(n *yaml.Node, place bool)
	walk = func(n *yaml.Node, place bool) {
		if n.Kind != yaml.ScalarNode {
			pairs(n, func(key, value *yaml.Node) {
				switch key.Value {
				case "in":
					walk(value, true)
				case "owner":
					for _, o := range append([]*yaml.Node{value}, value.Content...) {
						if t.subject(o) {
							walk(o, false)
						}
					}
				case "not":
					walk(value, place)
				}
			})
			return
		}
		text := n.Value
		switch {
		case m.Key == "inside it": // the path of a resource within
			if c, err := estate.CanonicalPath(text); err == nil {
				b, _ := estate.ParseAddress(to)
				rest := t.estate.Canonical(estate.Address{System: t.address.System, Path: c})
				text = b.Path + strings.TrimPrefix(rest.Path, t.address.Path)
			}
		case place && (t.section == "systems" || t.section == "resources"):
			head, where, found := strings.Cut(text, " on ")
			if !found || m.Key != "allowed" && m.Key != "denied" {
				head, where = "", text
			} else {
				head += " on "
			}
			if rest, not := strings.CutPrefix(where, "not "); not {
				head, where = head+"not ", rest
			}
			if t.section == "systems" {
				text = head + to + strings.TrimPrefix(where, t.id)
			} else if a, err := estate.ParseAddress(where); err == nil {
				text = head + to + strings.TrimPrefix(t.estate.Canonical(a).Path, t.address.Path)
			}
		default:
			text = strings.TrimSuffix(text, t.id) + to
		}
		changes[n] = text
	}
	walk(m.node, slices.Contains(placeKeys, m.Key) || m.Key == "allowed" || m.Key == "denied" || m.Key == "levels")
}

// needed are the keys without which an entry of a section has no use: where the last of their items goes, so does the entry.
var needed = map[string][]string{
	"grants": {"to", "role", "roles", "on"}, "blocks": {"to", "on", "deny"}, "scopes": {"resources"}, "separations": {"roles"}, "delegations": {"to", "on", "may-grant", "to-members-of", "may-edit"},
	"tests": {"who"}, "guarantees": {"only", "never", "apart", "on"},
}

// TakeOut takes mentions of an entry out of everything that names it. Entries that are of no use without go as a whole; they are given.
func (d *Draft) TakeOut(section, id string, mentions []Mention) (gone []Mention, err error) {
	t, err := d.target(section, id)
	if err != nil {
		return nil, err
	}
	done := map[string]bool{}
	for i := len(mentions) - 1; i >= 0; i-- { // from behind, so that places in lists stay what they are
		m := mentions[i]
		switch {
		case m.node == nil:
			if done[m.File] {
				continue
			}
			done[m.File] = true
			if err := d.takeOutOfSheet(t, m); err != nil {
				return nil, err
			}
		case done[m.Section+" "+m.ID]: // the entry is gone
		default:
			whole, err := d.takeOutOfFile(m)
			if err != nil {
				return nil, err
			}
			if whole {
				done[m.Section+" "+m.ID] = true
				gone = append(gone, m)
			}
		}
	}
	return gone, nil
}

// RemoveWith takes an entry out with its mentions, and so every entry that is of no use without it, however far that goes. Those are given.
func (d *Draft) RemoveWith(section, id string, mentions []Mention) ([]Mention, error) {
	gone, err := d.TakeOut(section, id, mentions)
	for i := 0; err == nil && i < len(gone); i++ {
		var more, next []Mention
		if more, err = d.Mentions(gone[i].Section, gone[i].ID); err == nil {
			next, err = d.TakeOut(gone[i].Section, gone[i].ID, more)
			gone = append(gone, next...)
		}
	}
	if err != nil {
		return nil, err
	}
	return gone, d.Remove(section, id)
}

func (d *Draft) takeOutOfSheet(t target, m Mention) error {
	s, err := d.sheet(m.File)
	if err != nil {
		return err
	}
	if m.Key != "at" {
		return s.each(t.word(), func(key, value string) (string, bool) { return t.inSheet(key, value, "") })
	}
	var lines []string
	_ = s.each(t.word(), func(key, value string) (string, bool) {
		if _, ok := t.inSheet(key, value, ""); ok && key == "at" {
			lines = append(lines, value)
		}
		return "", false
	})
	for _, at := range lines {
		if err := s.remove(at); err != nil {
			return err
		}
	}
	return nil
}

// takeOutOfFile takes one mention out, or the entry with it.
func (d *Draft) takeOutOfFile(m Mention) (whole bool, err error) {
	f, err := d.yaml(m.File)
	if err != nil {
		return false, err
	}
	if f.Get(m.path...) == nil { // it went with something else
		return false, nil
	}
	if m.isKey {
		keep := 2
		if m.Section == "resources" {
			keep = 3
		}
		last := m.Key == "levels" && len(f.Keys("tests", m.ID, "levels")) == 1 && (len(m.path) == 4 || len(f.Keys(m.path[:4]...)) == 1)
		if last && f.Get("tests", m.ID, "allowed") == nil && f.Get("tests", m.ID, "denied") == nil {
			return true, d.Remove(m.Section, m.ID)
		}
		return false, f.Delete(keep, m.path...)
	}
	if gathers := gathering(f.Items(m.path...), m.index); !gathers {
		if slices.Contains(needed[m.Section], m.Key) {
			return true, d.Remove(m.Section, m.ID)
		}
		if m.Section == "tests" && len(f.Items("tests", m.ID, "allowed"))+len(f.Items("tests", m.ID, "denied")) == len(f.Items(m.path...)) {
			return true, d.Remove(m.Section, m.ID)
		}
		path := m.path
		if len(f.Keys(path[:len(path)-1]...)) == 1 {
			if len(path) > 3 { // the keys of on-request or given go as a whole
				return false, f.Delete(2, path...)
			}
			return false, f.Set(splice.Map(), path[:len(path)-1]...)
		}
		return false, f.Delete(len(path)-1, path...)
	}
	return false, f.Drop(m.index, len(m.path)-1, m.path...)
}

// gathering says whether a list still gathers anything without one of its items.
func gathering(items []*yaml.Node, without int) bool {
	for i, n := range items {
		if i == without {
			continue
		}
		if n.Kind == yaml.ScalarNode && !strings.HasPrefix(n.Value, "not ") || n.Kind == yaml.MappingNode && !(len(n.Content) == 2 && n.Content[0].Value == "not") {
			return true
		}
	}
	return false
}
