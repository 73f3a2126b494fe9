package draft

import (
	"errors"
	"io/fs"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
)

// spot is where an entry stands: in a YAML file at a path, or in an inventory.
type spot struct {
	yaml  *splice.File
	path  []string
	sheet sheet
	id    string // in the sheet
}

// find finds an entry in the files as they are now.
func (d *Draft) find(section, id string) (*spot, error) {
	if section == "resources" {
		return d.findResource(id)
	}
	for _, f := range d.yamls { // what this draft added
		if f.Get(section, id) != nil {
			return &spot{yaml: f, path: []string{section, id}}, nil
		}
	}
	o := d.head(section, id)
	if o == nil || o.Source.File == "" {
		return nil, fs.ErrNotExist
	}
	if policyfile.IsInventory(o.Source.File) {
		s, err := d.sheet(o.Source.File)
		return &spot{sheet: s, id: id}, err
	}
	f, err := d.yaml(o.Source.File)
	if err != nil {
		return nil, err
	}
	return &spot{yaml: f, path: []string{section, id}}, nil
}

func (d *Draft) findResource(id string) (*spot, error) {
	a, err := estate.ParseAddress(id)
	if err != nil {
		return nil, err
	}
	a = d.estate.Canonical(a)
	for _, f := range d.yamls {
		if f.Get("systems", a.System, "resources", a.Path) != nil {
			return &spot{yaml: f, path: []string{"systems", a.System, "resources", a.Path}}, nil
		}
	}
	entry := d.estate.ListedEntry(a)
	if entry == nil {
		return nil, fs.ErrNotExist
	}
	name := entry.Source.File
	if policyfile.IsInventory(name) {
		s, err := d.sheet(name)
		if err != nil {
			return nil, err
		}
		written := a.String()
		if _, err := s.body(written); err != nil { // it is written otherwise there
			_ = s.each("", func(key, value string) (string, bool) {
				if b, err := estate.ParseAddress(value); key == "at" && err == nil && d.estate.Canonical(b) == a {
					written = value
				}
				return "", false
			})
		}
		return &spot{sheet: s, id: written}, nil
	}
	f, err := d.yaml(name)
	if err != nil {
		return nil, err
	}
	for _, key := range f.Keys("systems", a.System, "resources") {
		if p, err := estate.CanonicalPath(key); err == nil &&
			d.estate.Canonical(estate.Address{System: a.System, Path: p}) == a {
			return &spot{yaml: f, path: []string{"systems", a.System, "resources", key}}, nil
		}
	}
	return nil, fs.ErrNotExist
}

// Body gives an entry's keys and values as they are written; a scope that is a bare list is given its key.
func (d *Draft) Body(section, id string) (*yaml.Node, error) {
	at, err := d.find(section, id)
	if errors.Is(err, fs.ErrNotExist) && d.implied(section, id) {
		return splice.Map(), nil
	}
	if err != nil {
		return nil, err
	}
	if at.sheet != nil {
		return at.sheet.body(at.id)
	}
	n := at.yaml.Get(at.path...)
	if policyfile.BareKey(section, n) != "" {
		return splice.Map(splice.Scalar(policyfile.BareKey(section, n)), n), nil
	}
	return n, nil
}

// implied says whether a resource is there because something stands in it, and no entry is its own.
func (d *Draft) implied(section, id string) bool {
	if section != "resources" {
		return false
	}
	a, err := estate.ParseAddress(id)
	if err != nil {
		return false
	}
	r := d.estate.Listed(a)
	return r != nil && r.Parent != nil && d.estate.Tree.Entry(r.Index) == nil
}

// Set gives a key of an entry another value; nil takes the key out.
func (d *Draft) Set(section, id, key string, value *yaml.Node) error {
	at, err := d.find(section, id)
	if errors.Is(err, fs.ErrNotExist) && d.implied(section, id) {
		if value == nil {
			return nil
		}
		return d.addResource(id, splice.Map(splice.Scalar(key), value), "")
	}
	if err != nil {
		return err
	}
	if at.sheet != nil {
		return at.sheet.set(at.id, key, value)
	}
	path := append(slices.Clone(at.path), key)
	if bare := policyfile.BareKey(section, at.yaml.Get(at.path...)); bare != "" {
		if key == bare && value != nil {
			return at.yaml.Set(value, at.path...)
		}
		if value == nil {
			return nil
		}
		return at.yaml.Set(splice.Map(splice.Scalar(key), value, splice.Scalar(bare), at.yaml.Get(at.path...)),
			at.path...)
	}
	if value == nil {
		if at.yaml.Get(path...) == nil {
			return nil
		}
		if len(at.yaml.Keys(at.path...)) == 1 { // it may be that the entry needs it; the loader tells
			return at.yaml.Set(splice.Map(), at.path...)
		}
		return at.yaml.Delete(len(path)-1, path...)
	}
	return at.yaml.Set(value, path...)
}

// Items are what is put into a list, and what is taken out.
type Items struct{ Add, Drop []*yaml.Node }

// Change brings the list under a key to what it is to be, item by item, so that the others stay as they are written.
func (d *Draft) Change(section, id, key string, items Items) error {
	add, drop := items.Add, items.Drop
	at, err := d.find(section, id)
	if err != nil {
		return err
	}
	if at.sheet != nil {
		n, err := at.sheet.body(at.id)
		if err != nil {
			return err
		}
		list := splice.List()
		if i := slices.IndexFunc(n.Content, func(c *yaml.Node) bool { return c.Value == key }); i >= 0 {
			list = n.Content[i+1]
		}
		all := slices.DeleteFunc(slices.Clone(list.Content), func(c *yaml.Node) bool { return holds(drop, c) })
		return at.sheet.set(at.id, key, splice.List(append(all, add...)...))
	}
	path := append(slices.Clone(at.path), key)
	if key == policyfile.BareKey(section, at.yaml.Get(at.path...)) {
		path = at.path
	}
	for _, item := range add {
		if !holds(at.yaml.Items(path...), item) {
			if err := at.yaml.Append(item, path...); err != nil {
				return err
			}
		}
	}
	for _, item := range drop {
		i := indexOf(at.yaml.Items(path...), item)
		if i < 0 {
			return refuse("see `hgate show "+estate.Singular(section)+" "+id+"`", "%s of %s %s does not name %s", key,
				estate.Singular(section), id, splice.Flow(item))
		}
		if len(at.yaml.Items(path...)) == 1 && len(path) > len(at.path) && len(at.yaml.Keys(at.path...)) == 1 {
			return at.yaml.Set(splice.Map(), at.path...)
		}
		if err := at.yaml.Drop(i, len(path)-1, path...); err != nil {
			return err
		}
	}
	return nil
}

func holds(list []*yaml.Node, item *yaml.Node) bool { return indexOf(list, item) >= 0 }

// indexOf finds the first item that says the same; -1 if there is none.
func indexOf(list []*yaml.Node, item *yaml.Node) int {
	return slices.IndexFunc(list, func(c *yaml.Node) bool { return splice.Flow(c) == splice.Flow(item) })
}

// Remove takes an entry out, whatever refers to it.
func (d *Draft) Remove(section, id string) error {
	at, err := d.find(section, id)
	if errors.Is(err, fs.ErrNotExist) && d.implied(section, id) {
		return nil // it goes with what stood in it
	}
	if err != nil {
		return err
	}
	if at.sheet != nil {
		return at.sheet.remove(at.id)
	}
	keep := 0
	if section == "resources" {
		keep = 2 // the system stays
	}
	return at.yaml.Delete(keep, at.path...)
}

// Rename gives an entry another id, where it stands. Rename what refers to it with Redirect.
func (d *Draft) Rename(section, id, to string) error {
	at, err := d.find(section, id)
	if errors.Is(err, fs.ErrNotExist) && d.implied(section, id) {
		return nil // what stands in it has another address
	}
	if err != nil {
		return err
	}
	if section == "resources" {
		b, err := estate.ParseAddress(to)
		if err != nil {
			return err
		}
		if at.sheet != nil {
			return at.sheet.set(at.id, "at", splice.Scalar(to))
		}
		return at.yaml.RenameKey(b.Path, at.path...)
	}
	if err := estate.CheckID(to); err != nil {
		return err
	}
	if o := d.head(section, to); o != nil {
		return refuse("choose another id", "%s %s exists already (%s)", estate.Singular(section), to, o.Source.Short())
	}
	if at.sheet != nil {
		return at.sheet.set(at.id, "id", splice.Scalar(to))
	}
	return at.yaml.RenameKey(to, at.path...)
}

// prefixes by which lists of subjects name entries.
var prefixes = map[string]string{"services": "service:", "groups": "group:", "people": ""}

// Named writes an entry as lists name it.
func Named(section, id string) string {
	if section == "scopes" {
		return "scope:" + id
	}
	return prefixes[section] + id
}

// plainSubject drops a prefix that need not be there.
func plainSubject(text string) string { return strings.TrimPrefix(text, "person:") }
