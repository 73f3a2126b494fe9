package linux

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"hiddengate/internal/target"
)

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// node is a folder or file as it was read.
type node struct {
	mode     uint32
	uid, gid int
	entries  []entry
}

// The types of a file, in its mode (stat(2)).
const (
	typeOf    = 0o170000
	isFolder  = 0o040000
	isRegular = 0o100000
)

// addListed adds a place that the policy lists. at gives what is at a path, or nil with a reason told.
func (s *snapshot) addListed(p target.Place, at func(path string) *file) {
	number := len(s.state.Places)
	name := target.Unescaped(path.Base(p.Path))
	switch p.Type {
	case "host":
		if p.Path != "" {
			return
		}
	case "service", "job", "application":
		if !unitName.MatchString(name) {
			s.state.Aside = append(s.state.Aside, fmt.Sprintf("%s is no name of a %s", p.Path, p.Type))
			return
		}
		s.programs[number] = name
		if p.Type == "application" && s.blank {
			s.files[number] = &file{path: programsIn + "/" + name, entries: usual}
		}
	case "area", "item":
		where, ok := pathOf(p.Path)
		if !ok {
			return // a heading under which the policy lists others
		}
		f := at(where)
		if f == nil {
			return
		}
		s.files[number] = f
		p.Lacks = 1<<readingFile | 1<<writingFile
		if !f.folder {
			p.Lacks = 1<<readingFolder | 1<<writingFolder
		}
	default:
		return
	}
	s.state.Places = append(s.state.Places, p)
}

// places finds what there is of what the policy lists, and what is easy to find.
func (s *snapshot) places(listed []target.Place, parts, found map[string]string) error {
	nodes, err := nodesOf(found)
	if err != nil {
		return err
	}
	for _, name := range sorted(s.accounts) {
		a := s.accounts[name]
		_, a.homeKeys = found["home:"+name]
		if text, ok := found["rules:"+name]; ok {
			a.rules = rulesOf(text)
		}
	}
	units := map[string]bool{}
	for line := range strings.Lines(parts["units"]) {
		if fields := strings.Fields(line); len(fields) > 0 {
			units[fields[0]] = true
		}
	}
	programs := map[string]bool{}
	for _, name := range namesIn(parts["programs"]) {
		programs[path.Base(name)] = true
	}
	s.state.Places = []target.Place{{Type: "host"}}
	taken := map[string]bool{} // what is listed already, by type and name
	paths := map[string]bool{}
	for _, p := range listed {
		paths[p.Path] = true
		name := target.Unescaped(path.Base(p.Path))
		there := true
		switch p.Type {
		case "host":
			continue
		case "service":
			there = units[name+".service"]
		case "job":
			there = units[name+".timer"]
		case "application":
			s.addApplication(p, name, programs[name], nodes)
			taken["application "+name] = true
			continue
		}
		if !there {
			continue
		}
		taken[p.Type+" "+name] = true
		s.addListed(p, func(where string) *file {
			taken["file "+where] = true
			return s.fileAt(where, p.Type, nodes)
		})
	}
	add := func(typ, folder, name, key string, at func(string) *file) {
		segment, ok := target.Escaped(name)
		switch {
		case !ok:
			s.state.Unnamed = append(s.state.Unnamed, typ+" "+strconv.Quote(name))
		case !taken[key] && !paths[folder+segment]:
			s.addListed(target.Place{Path: folder + segment, Type: typ}, at)
		}
	}
	for _, unit := range sorted(units) {
		if name, ok := strings.CutSuffix(unit, ".service"); ok && unitName.MatchString(name) {
			add("service", "services/", name, "service "+name, nil)
		} else if name, ok := strings.CutSuffix(unit, ".timer"); ok && unitName.MatchString(name) {
			add("job", "jobs/", name, "job "+name, nil)
		}
	}
	for _, name := range sorted(programs) {
		if unitName.MatchString(name) && !taken["application "+name] && !paths["applications/"+name] {
			s.addApplication(target.Place{Path: "applications/" + name, Type: "application"}, name, true, nodes)
		}
	}
	for _, where := range namesIn(parts["folders"]) {
		add("area", "srv/", path.Base(where), "file "+where,
			func(where string) *file { return s.fileAt(where, "area", nodes) })
	}
	s.closeOuter(listed)
	return nil
}

// closeOuter says that nobody can be let write in a folder inside which the policy lists something, or there are other
// places: whoever writes there can put something else in their place.
func (s *snapshot) closeOuter(listed []target.Place) {
	inner := map[string]bool{}
	for _, f := range s.files {
		inner[f.path] = true
	}
	for _, p := range listed {
		if where, ok := pathOf(p.Path); ok && (p.Type == "area" || p.Type == "item") {
			inner[where] = true // whether it is there or not, and whether it can be touched or not
		}
	}
	folders := s.folders()
	for where := range inner {
		for _, place := range folders.above(where) {
			s.state.Places[place].Lacks |= 1 << writingFolder
		}
	}
}

// folders are the places that are folders, by path.
type folders map[string]int

func (s *snapshot) folders() folders {
	out := folders{}
	for place, f := range s.files {
		if f.folder {
			out[f.path] = place
		}
	}
	return out
}

// above lists the places above a path.
func (all folders) above(where string) (out []int) {
	for _, up := range above(where) {
		if place, ok := all[up]; ok {
			out = append(out, place)
		}
	}
	return out
}

// addApplication adds an application: a program, an account of its name, or both.
func (s *snapshot) addApplication(p target.Place, name string, program bool, nodes map[string]*node) {
	p.Lacks = 1<<opening | 1<<asService
	if a := s.accounts[name]; a != nil && a.uid > 0 && a.uid < firstPerson && accountName.MatchString(name) {
		p.Lacks &^= 1 << asService
	}
	var f *file
	if program && unitName.MatchString(name) {
		if f = s.fileAt(programsIn+"/"+name, "item", nodes); f != nil {
			p.Lacks &^= 1 << opening
		}
	}
	if p.Lacks == 1<<opening|1<<asService {
		return
	}
	if f != nil {
		s.files[len(s.state.Places)] = f
	}
	s.addListed(p, nil)
}

// fileAt gives a folder or file of which nobody but root can make another. Of what it cannot give, the state tells why,
// if it is there.
func (s *snapshot) fileAt(where, typ string, nodes map[string]*node) *file {
	is := nodes[where]
	if is == nil {
		return nil
	}
	aside := func(why string) *file {
		s.state.Aside = append(s.state.Aside, where+" "+why)
		return nil
	}
	for _, up := range above(where) {
		n := nodes[up]
		if n == nil || n.mode&typeOf != isFolder {
			return aside(fmt.Sprintf("is behind %s, which is no folder", up))
		}
		if len(n.entries) == 0 {
			return aside("has no access list that can be read: getfacl is not there")
		}
		if n.othersWrite() {
			return aside(fmt.Sprintf("is in %s, where others than root may write", up))
		}
	}
	kind := is.mode & typeOf
	switch {
	case kind != isFolder && kind != isRegular:
		return aside("is neither a folder nor a file")
	case typ == "area" && kind != isFolder:
		return aside("is no folder, as an area is")
	case len(is.entries) == 0:
		return aside("has no access list that can be read: getfacl is not there")
	}
	return &file{path: where, folder: kind == isFolder, uid: is.uid, gid: is.gid, entries: is.entries}
}

// othersWrite says whether anybody but root may put something else into a folder.
func (n *node) othersWrite() bool {
	if n.uid != 0 {
		return true
	}
	for _, e := range n.entries {
		own := e.tag == "user" && e.id < 0 || e.tag == "group" && e.id < 0 && n.gid == 0 || e.tag == "mask"
		if !own && e.perms&2 != 0 {
			return true
		}
	}
	return false
}

// nodesOf reads what stat and getfacl printed.
func nodesOf(found map[string]string) (map[string]*node, error) {
	nodes := map[string]*node{}
	for name, text := range found {
		if strings.HasPrefix(name, "stat:") {
			for line := range strings.Lines(text) {
				f := strings.SplitN(strings.TrimSuffix(line, "\n"), " ", 4)
				if len(f) != 4 {
					return nil, errOdd
				}
				mode, errM := strconv.ParseUint(f[0], 16, 32)
				uid, errU := strconv.Atoi(f[1])
				gid, errG := strconv.Atoi(f[2])
				if errM != nil || errU != nil || errG != nil {
					return nil, errOdd
				}
				nodes[f[3]] = &node{mode: uint32(mode), uid: uid, gid: gid}
			}
		}
	}
	for name, text := range found {
		if !strings.HasPrefix(name, "acl:") {
			continue
		}
		var of *node
		for line := range strings.Lines(text) {
			line = strings.TrimSuffix(line, "\n")
			if file, ok := strings.CutPrefix(line, "# file: "); ok {
				of = nodes[unescaped(file)]
			} else if e, ok := entryOf(line); ok && of != nil {
				of.entries = append(of.entries, e)
			}
		}
	}
	return nodes, nil
}

// entryOf reads an entry of an access list (acl(5), "LONG TEXT FORM").
func entryOf(line string) (entry, bool) {
	f := strings.Split(line, ":")
	if len(f) != 3 || len(f[2]) < 3 {
		return entry{}, false
	}
	out := entry{tag: f[0], id: -1}
	if f[1] != "" {
		n, err := strconv.Atoi(f[1])
		if err != nil {
			return entry{}, false
		}
		out.id = n
	}
	for i, c := range "rwx" {
		if f[2][i] == byte(c) {
			out.perms |= 4 >> i
		}
	}
	return out, slices.Contains([]string{"user", "group", "mask", "other"}, f[0])
}

// unescaped undoes the escapes with which getfacl writes names: a backslash and three octal
// digits, or two backslashes.
func unescaped(name string) string {
	var b strings.Builder
	for i := 0; i < len(name); i++ {
		if name[i] == '\\' && i+1 < len(name) && name[i+1] == '\\' {
			b.WriteByte('\\')
			i++
			continue
		}
		if name[i] == '\\' && i+3 < len(name) {
			if n, err := strconv.ParseUint(name[i+1:i+4], 8, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		b.WriteByte(name[i])
	}
	return b.String()
}
