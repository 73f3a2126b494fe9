// Package policyfile turns the files of a workspace into an estate. One table of fields drives the reader, the
// JSON Schema, completion and the reference page.
package policyfile

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/catalog"
	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/parallel"
	"hiddengate/internal/splice"
	"hiddengate/internal/visible"
)

// SettingsFile is the file that makes a folder a workspace.
const SettingsFile = "hidden-gate.yaml"

// Limits that protect the reader.
const (
	MaxFile      = 32 << 20 // bytes of a YAML file
	MaxInventory = 4 << 30  // bytes of an inventory
	MaxLine      = 1 << 20  // bytes of a line of an inventory
	MaxParts     = 2 << 20  // commas, colons and line breaks of a YAML file: what is between them takes memory
	MaxDepth     = 32       // levels of nesting
	MaxEntries   = 100_000  // entries of one list or mapping in YAML
	MaxErrors    = 1000     // errors that are reported
	MaxListed    = 10_000   // inventories
	MaxTypes     = 60_000   // types of resource, of all kinds together
	MaxChain     = 100      // roles, groups, scopes or kinds of which each names the next
	MaxColumns   = 1000     // columns of an inventory
)

// Sources is what of a workspace's settings says which files are read.
type Sources struct {
	Ignore      []string
	Inventories []string
}

// SourcesOf gives what an estate was read from.
func SourcesOf(e *estate.Estate) Sources { return Sources{e.Ignore, e.Inventories} }

// FilesOf lists the files that an estate was read from.
func FilesOf(e *estate.Estate) []string { return slices.Concat(e.Policies, e.Inventories) }

// Now lists the files that would be read now: the YAML files by name, then the inventories. Its error says that some
// can't be.
func (s Sources) Now(files fs.FS) ([]string, error) {
	l := &loader{settings: settings{ignore: s.Ignore}}
	names := l.find(files)
	if len(l.errors) > 0 {
		return nil, l.errors
	}
	return append(names, s.Inventories...), nil
}

// Load reads a workspace. Its error is a diagnostic.List with everything that is wrong; then there is no estate.
func Load(files fs.FS) (*estate.Estate, error) {
	l := &loader{estate: estate.New(), zone: clock.UTC, texts: map[string][]byte{}, lines: map[string][]string{}}
	for _, k := range catalog.Kinds() {
		l.estate.Kinds[k.ID] = k
	}
	l.load(files)
	if !l.incomplete {
		l.resolve()
	}
	if len(l.errors) > 0 {
		errs := l.errors.Sort()
		errs = errs[:min(len(errs), MaxErrors)]
		quoteLines(files, errs)
		return nil, errs
	}
	l.estate.Ignore = l.settings.ignore
	for _, i := range l.settings.inventories {
		l.estate.Inventories = append(l.estate.Inventories, i.people+i.resources)
	}
	return l.estate, nil
}

func (l *loader) load(files fs.FS) {
	main := l.open(files, SettingsFile)
	if main == nil {
		return // open has said why
	}
	l.readSettings(main)
	var inventories *inventories
	var reading parallel.Group
	reading.Go(func() { inventories = l.readInventories(files) })
	l.estate.Policies = l.find(files)
	for _, name := range l.estate.Policies {
		d := main
		if name != SettingsFile {
			d = l.open(files, name)
		}
		if d != nil {
			d.readSections()
		}
	}
	reading.Wait()
	l.join(inventories)
}

// find lists the YAML files of the workspace, without dot-folders and what `ignore` names.
func (l *loader) find(files fs.FS) []string {
	var names []string
	err := fs.WalkDir(files, ".", func(name string, entry fs.DirEntry, err error) error {
		where := diagnostic.Position{File: name}
		switch {
		case err != nil:
			l.incomplete = true
			l.fail(where, "", "this can't be read: %s", reason(err))
			return nil
		case name != "." && strings.HasPrefix(entry.Name(), ".") && entry.IsDir(), name != "." && l.settings.ignores(name):
			if entry.IsDir() {
				return fs.SkipDir
			}
			return nil
		case entry.IsDir():
			return nil
		}
		yamlFile := strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".yml")
		if entry.Type()&fs.ModeSymlink != 0 {
			info, err := fs.Stat(files, name)
			switch {
			case err != nil:
				l.fail(where, "put what it points to into the workspace, or name the link under ignore",
					"the link leaves the workspace, or points to nothing")
				return nil
			case info.IsDir():
				l.fail(where, "put the folder itself here, or name the link under ignore",
					"the link points to a folder, and what is in that would not be read")
				return nil
			case !info.Mode().IsRegular():
				l.fail(where, "put a file here, or name it under ignore", "the link points to what is no file")
				return nil
			}
		} else if !entry.Type().IsRegular() {
			l.fail(where, "put a file here, or name it under ignore", "this is no file: it is a pipe, a socket or a device")
			return nil
		}
		if !yamlFile {
			if ext := strings.ToLower(path.Ext(name)); ext == ".yaml" || ext == ".yml" {
				l.fail(where, "name it "+strings.TrimSuffix(name, path.Ext(name))+ext+", or name it under ignore",
					"the file would not be read: its ending is not in small letters")
			}
			return nil
		}
		if base := path.Base(name); base == SettingsFile && name != SettingsFile {
			l.fail(where, "take the inner file out, or name its folder under ignore", "a workspace stands inside this workspace")
			return nil
		}
		names = append(names, name)
		return nil
	})
	if err != nil {
		l.fail(diagnostic.Position{File: "."}, "", "the folder can't be read: %s", reason(err))
	}
	slices.Sort(names)
	return names
}

// quoteLines gives the errors in inventories, whose text is not kept, the lines they speak of.
func quoteLines(files fs.FS, errs diagnostic.List) {
	wanted := map[string][]int{} // by file, which errors, in the order of their lines
	for i, d := range errs {
		if d.Source == "" && d.Position.Line > 0 {
			wanted[d.Position.File] = append(wanted[d.Position.File], i)
		}
	}
	for name, list := range wanted {
		f, err := openFile(files, name)
		if err != nil {
			continue
		}
		lines := bufio.NewScanner(f)
		lines.Buffer(nil, MaxLine)
		for number := 1; len(list) > 0 && lines.Scan(); number++ {
			for len(list) > 0 && errs[list[0]].Position.Line == number {
				errs[list[0]].Source = lines.Text()
				list = list[1:]
			}
		}
		f.Close()
	}
}

func reason(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}

// document is a YAML file, parsed: one node for each document in it.
type document struct {
	*reader
	roots []*yaml.Node
}

// open reads and parses a YAML file; nil if that failed.
func (l *loader) open(files fs.FS, name string) *document {
	where := diagnostic.Position{File: name}
	text, err := readLimited(files, name, MaxFile)
	if err != nil {
		l.incomplete = true
		l.fail(where, "", "the file can't be read: %s", err)
		return nil
	}
	r := &reader{loader: l, file: name, text: splice.NewText(text), bad: map[*yaml.Node]bool{}}
	if at := unreadable(text); at >= 0 {
		l.incomplete = true
		where.Line = bytes.Count(text[:at], []byte("\n")) + 1
		where.Column = utf8.RuneCount(text[r.text.LineStart(where.Line):at]) + 1
		l.fail(where, "save the file as UTF-8 text", "this is not UTF-8 text")
		return nil
	}
	if parts := bytes.Count(text, []byte{','}) + bytes.Count(text, []byte{':'}) +
		bytes.Count(text, []byte{'\n'}); parts > MaxParts {
		l.incomplete = true
		l.fail(where, "move people and resources into an inventory, or take the file apart",
			"the file has more than %d commas, colons and line breaks", MaxParts)
		return nil
	}
	if at, c, ok := visible.Find(text); ok {
		l.incomplete = true
		where.Line = bytes.Count(text[:at], []byte("\n")) + 1
		where.Column = utf8.RuneCount(text[r.text.LineStart(where.Line):at]) + 1
		l.fail(where, hiddenHelp(c), "%s stands here, %s", visible.Name(c), hides(c))
		return nil
	}
	l.texts[name] = text
	d := &document{reader: r}
	loader, err := yaml.NewLoader(bytes.NewReader(text))
	for err == nil {
		var root yaml.Node
		if err = r.next(loader, &root); err == nil && root.Kind == yaml.DocumentNode && len(root.Content) == 1 {
			top := root.Content[0]
			if top.Kind == yaml.ScalarNode && top.Tag == "!!null" && top.Anchor == "" && top.Style == 0 {
				continue // an empty document
			}
			r.check(top, 0)
			d.roots = append(d.roots, top)
		}
	}
	if !errors.Is(err, io.EOF) {
		r.syntax(err)
	}
	return d
}

// next reads a document; a panic of the parser is an error of the file.
func (r *reader) next(loader *yaml.Loader, root *yaml.Node) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("the YAML parser gave up: %v", p)
		}
	}()
	return loader.Load(root)
}

// syntax reports what the YAML parser did not understand.
func (r *reader) syntax(err error) {
	r.incomplete = true
	where := diagnostic.Position{File: r.file}
	message, help := err.Error(), ""
	var load *yaml.LoadError
	if errors.As(err, &load) {
		where.Line, where.Column = max(load.Mark.Line, 1), max(load.Mark.Column, 1)
		lines := r.linesOf(r.file)
		where.Line = min(where.Line, len(lines))
		message = load.Message
		if line := lines[where.Line-1]; where.Column > len([]rune(line))+1 {
			where.Column = len([]rune(line)) + 1
		}
	}
	switch {
	case strings.Contains(message, "unknown anchor"),
		strings.Contains(message, "expected alphabetic or numeric character"):
		message, help = "a * begins an alias in YAML, and aliases are not used",
			`write a value that begins with * in quotes: "*.view"`
	case strings.Contains(message, "cannot start any token"):
		help = "indent with spaces, and quote values that begin with @ or `"
	case strings.Contains(message, "mapping values are not allowed"):
		help = "check the indentation; quote a text that has a colon followed by a space"
	case strings.Contains(message, "depth"):
		help = "nothing here nests that deep"
	}
	r.fail(where, help, "this is not YAML: %s", message)
}

// mostAtOnce is up to how many bytes room is made for by what a file's size is said to be.
const mostAtOnce = 1 << 27

func readLimited(files fs.FS, name string, most int64) ([]byte, error) {
	f, err := openFile(files, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var in bytes.Buffer
	if info, err := f.Stat(); err == nil {
		in.Grow(int(min(max(info.Size(), 0), most, mostAtOnce)) + bytes.MinRead) // inventories are large
	}
	_, err = in.ReadFrom(io.LimitReader(f, most+1))
	text := in.Bytes()
	switch {
	case err != nil:
		return nil, errors.New(reason(err))
	case int64(len(text)) > most:
		return nil, fmt.Errorf("it has more than %d bytes; move people and resources into an inventory", most)
	}
	return text, nil
}

// openFile opens a file that is one: a pipe would be waited for, and a device has no end.
func openFile(files fs.FS, name string) (fs.File, error) {
	info, err := fs.Stat(files, name)
	switch {
	case err != nil:
		return nil, errors.New(reason(err))
	case info.IsDir():
		return nil, errors.New("it is a folder")
	case !info.Mode().IsRegular():
		return nil, errors.New("it is no file: it is a pipe, a socket or a device")
	}
	f, err := files.Open(name)
	if err != nil {
		return nil, errors.New(reason(err))
	}
	return f, nil
}

// readSections reads a file's documents. Settings stand in the workspace's own file alone.
func (d *document) readSections() {
	main := d.file == SettingsFile
	for _, root := range d.roots {
		sound := d.pairs(root, "sections such as roles: and grants:", func(key, value *yaml.Node) {
			for _, s := range sections {
				if s.name == key.Value {
					s.read(d.reader, value)
					return
				}
			}
			known := sectionNames()
			for _, f := range settingFields {
				if f.name == key.Value {
					if !main {
						d.wrong(key, "move it to "+SettingsFile, "%s is a setting of the workspace", key.Value)
					}
					return
				}
				if main {
					known = append(known, f.name)
				}
			}
			d.wrong(key, nearestHelp(key.Value, known), "there is no section %q", key.Value)
			d.incomplete = true
		})
		d.incomplete = d.incomplete || !sound
	}
}

func sectionNames() []string {
	var names []string
	for _, s := range sections {
		names = append(names, s.name)
	}
	return names
}
