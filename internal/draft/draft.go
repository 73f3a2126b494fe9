// Package draft is a workspace with changes that are not written yet. It knows where entries stand, in which file a new
// one belongs and what refers to what; how bytes are changed is the business of package splice.
package draft

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
)

// Draft is a workspace that is being changed.
type Draft struct {
	under   fs.FS
	estate  *estate.Estate // as it was loaded
	sources policyfile.Sources
	yamls   map[string]*splice.File
	sheets  map[string]sheet
	before  map[string][]byte // of each file that was opened
}

// Error is a refusal: what can't be done, and what to do instead.
type Error struct{ Message, Help string }

func (e *Error) Error() string {
	if e.Help == "" {
		return e.Message
	}
	return e.Message + "; " + e.Help
}

func refuse(help, format string, args ...any) error {
	return &Error{fmt.Sprintf(format, args...), help}
}

// New begins a draft of a workspace that has been loaded.
func New(under fs.FS, e *estate.Estate) *Draft {
	return &Draft{under: under, estate: e, sources: policyfile.SourcesOf(e), yamls: map[string]*splice.File{},
		sheets: map[string]sheet{}, before: map[string][]byte{}}
}

// Change is a file that differs.
type Change struct {
	Name     string
	Old, New []byte // Old is nil for a new file
}

// Changes lists the files that differ, by name. Its error says that one of them would not say what was asked for.
func (d *Draft) Changes() ([]Change, error) {
	var out []Change
	for name, s := range d.sheets {
		if bytes.Equal(s.bytes(), d.before[name]) {
			continue // it was looked through, and says what it said
		}
		if err := s.proved(); err != nil {
			return nil, err
		}
	}
	for name, old := range d.before {
		text := d.text(name)
		if string(text) != string(old) {
			out = append(out, Change{name, old, text})
		}
	}
	slices.SortFunc(out, func(a, b Change) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

func (d *Draft) text(name string) []byte {
	if f := d.yamls[name]; f != nil {
		return f.Bytes
	}
	return d.sheets[name].bytes()
}

// yaml opens a YAML file for change; one that is not there is empty.
func (d *Draft) yaml(name string) (*splice.File, error) {
	if f := d.yamls[name]; f != nil {
		return f, nil
	}
	text, err := fs.ReadFile(d.under, name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	f, err := splice.Parse(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	d.yamls[name], d.before[name] = f, text
	return f, nil
}

// FS gives the workspace as it would be.
func (d *Draft) FS() fs.FS { return overlay{d} }

// overlay shows changed files in place of those below.
type overlay struct{ *Draft }

func (o overlay) Open(name string) (fs.File, error) {
	if _, ok := o.before[name]; ok {
		return &file{name: path.Base(name), text: o.text(name)}, nil
	}
	f, err := o.under.Open(name)
	if err != nil {
		return nil, err
	}
	if dir, ok := f.(fs.ReadDirFile); ok {
		if info, err := f.Stat(); err == nil && info.IsDir() {
			return &folder{dir, o.Draft, name}, nil
		}
	}
	return f, nil
}

// folder lists new files too.
type folder struct {
	fs.ReadDirFile
	draft *Draft
	name  string
}

func (f *folder) ReadDir(n int) ([]fs.DirEntry, error) {
	entries, err := f.ReadDirFile.ReadDir(n)
	if err != nil || n > 0 {
		return entries, err
	}
	for name := range f.draft.before {
		if path.Dir(name) == f.name && !slices.ContainsFunc(entries,
			func(e fs.DirEntry) bool { return e.Name() == path.Base(name) }) {
			entries = append(entries, fs.FileInfoToDirEntry((&file{name: path.Base(name), text: f.draft.text(name)}).info()))
		}
	}
	slices.SortFunc(entries, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return entries, nil
}

// file is a changed file in memory.
type file struct {
	name string
	text []byte
	at   int
}

func (f *file) Read(b []byte) (int, error) {
	r := strings.NewReader("")
	if f.at >= len(f.text) {
		return r.Read(b)
	}
	n := copy(b, f.text[f.at:])
	f.at += n
	return n, nil
}

func (f *file) Close() error               { return nil }
func (f *file) Stat() (fs.FileInfo, error) { return f.info(), nil }
func (f *file) info() fs.FileInfo          { return fileInfo{f} }

type fileInfo struct{ *file }

func (i fileInfo) Name() string       { return i.name }
func (i fileInfo) Size() int64        { return int64(len(i.text)) }
func (i fileInfo) Mode() fs.FileMode  { return 0o644 }
func (i fileInfo) ModTime() time.Time { return time.Time{} }
func (i fileInfo) IsDir() bool        { return false }
func (i fileInfo) Sys() any           { return nil }

// home gives the file into which new entries of a section go: where others of them stand, the usual one for them, else
// the one that has most.
func (d *Draft) home(section string) string {
	count := map[string]int{}
	for _, o := range d.estate.Section(section) {
		count[o.Source.File]++
	}
	if usual := policyfile.Home(section); section != "people" && count[usual] > 0 {
		return usual
	}
	best := ""
	for name, n := range count {
		if best == "" || n > count[best] || n == count[best] && name < best {
			best = name
		}
	}
	if best == "" {
		return policyfile.Home(section)
	}
	return best
}

// Add adds an entry beside its siblings, or into a file.
func (d *Draft) Add(section, id string, body *yaml.Node, into string) error {
	if section == "resources" {
		return d.addResource(id, body, into)
	}
	one := estate.Singular(section)
	if err := estate.CheckID(id); err != nil {
		return err
	}
	if o := d.head(section, id); o != nil {
		if o.Source.File == "" {
			return refuse("choose another id", "%s %s is built in", one, id)
		}
		return refuse(fmt.Sprintf("change it with `hgate set %s %s`", one, id), "%s %s exists already (%s)", one, id,
			o.Source.Short())
	}
	name := into
	if name == "" {
		name = d.home(section)
	}
	if !fs.ValidPath(name) {
		return refuse("name a file inside the workspace, as lists/people.yaml", "%q is no file of the workspace", name)
	}
	if policyfile.IsInventory(name) {
		s, err := d.sheet(name)
		if err != nil {
			return err
		}
		if section != "people" || !d.lists(name) {
			return refuse("name a YAML file", "%s is no inventory of %s", name, section)
		}
		return s.add(splice.Map(append([]*yaml.Node{splice.Scalar("id"), splice.Scalar(id)}, body.Content...)...))
	}
	if ext := path.Ext(name); ext != ".yaml" && ext != ".yml" {
		return refuse("name it .yaml", "%s would not be read: it is no YAML file by its name", name)
	}
	f, err := d.yaml(name)
	if err != nil {
		return err
	}
	if f.Get(section, id) != nil {
		return refuse("choose another id", "%s %s is being added already", one, id)
	}
	return f.Set(body, section, id)
}

// lists says whether a file is an inventory of the workspace.
func (d *Draft) lists(name string) bool { return slices.Contains(d.sources.Inventories, name) }

// head finds an entry in the estate as it was loaded.
func (d *Draft) head(section, id string) *estate.Object { return d.estate.Head(section, id) }

// addResource lists a resource in its system.
func (d *Draft) addResource(address string, body *yaml.Node, into string) error {
	a, err := estate.ParseAddress(address)
	if err != nil {
		return err
	}
	a = d.estate.Canonical(a)
	system := d.estate.Systems[a.System]
	if entry := d.estate.ListedEntry(a); entry != nil {
		return refuse("change it with `hgate set resource "+a.String()+"`", "resource %s is listed already (%s)", a,
			entry.Source.Short())
	}
	if a.Path == "" {
		return refuse("add it with `hgate add system "+a.System+"`", "%s is a system", a.System)
	}
	if into != "" && policyfile.IsInventory(into) {
		s, err := d.sheet(into)
		if err != nil {
			return err
		}
		if !d.lists(into) {
			return refuse("name it under inventories in "+policyfile.SettingsFile, "%s is no inventory of the workspace", into)
		}
		return s.add(splice.Map(append([]*yaml.Node{splice.Scalar("at"), splice.Scalar(a.String())}, body.Content...)...))
	}
	name := ""
	if system != nil {
		name = system.Source.File
	}
	for other, f := range d.yamls { // a system that is being added
		if f.Get("systems", a.System) != nil {
			name = other
		}
	}
	if name == "" {
		return refuse("add it with `hgate add system "+a.System+" --kind KIND`", "there is no system %q", a.System)
	}
	f, err := d.yaml(name)
	if err != nil {
		return err
	}
	return f.Set(body, "systems", a.System, "resources", a.Path)
}
