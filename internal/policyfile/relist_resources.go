package policyfile

import (
	"bytes"
	"io/fs"
	"path"
	"slices"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/estate"
)

// mostRelisted is up to how many resources are made anew, or a quarter of all that are listed where that is more: those
// of changed lines and entries, and all inside them, which inherit from them.
const mostRelisted = 10_000

func mostRelistedOf(e *estate.Estate) int { return max(mostRelisted, e.Tree.Len()/4) }

// otherResources is the resources of an estate of which some have changed, in an inventory or among the entries of
// systems.
type otherResources struct {
	loader     *loader
	was, files fs.FS
	gone, come []estate.Address // what is listed no more, and what is listed anew or otherwise
	said       []*estate.Listing
	entries    []*estate.Entry
	instead    map[*estate.Entry]*estate.Entry // what was read anew, for what it was
	dropped    map[*estate.Entry]bool
	lines      map[string]changedLines // by inventory
}

// changedLines is the lines in which an inventory differs from what it was: as many of the old ones, from the first on,
// have become as many new ones.
type changedLines struct {
	text            []byte // of the inventory as it is now
	first, had, has int
	only            map[int]bool // where they are as many, the numbers of those that differ; else nil: all do
}

// hold says that an old line is one of them.
func (c changedLines) hold(line int) bool {
	return line >= c.first && line < c.first+c.had && (c.only == nil || c.only[line])
}

// inventory finds what an inventory lists otherwise than before. It is false where many lines of it have changed, or
// something in them needs the ordinary reader.
func (g *otherResources) inventory(e *estate.Estate, name string) bool {
	old, err := readLimited(g.was, name, MaxInventory)
	if err != nil {
		return false
	}
	text, err := readLimited(g.files, name, MaxInventory)
	if err != nil || path.Ext(name) != ".ndjson" {
		return false
	}
	head, tail := AlikeLines(old, text, false)
	before, after := old[head:len(old)-tail], text[head:len(text)-tail]
	first := bytes.Count(text[:head], []byte("\n")) + 1
	c, number := changedLines{text: text, first: first, had: countLines(before), has: countLines(after)}, counting(first)
	if c.had == c.has { // as where the same is changed here and there
		apart := linesApart(before, after)
		before, after, c.only = some(before, apart), some(after, apart), map[int]bool{}
		number = func(i int) int { return first - 1 + apart[i] }
		for i := range apart {
			c.only[number(i)] = true
		}
	}
	if head == 0 || max(countLines(before), countLines(after)) > mostRelistedOf(e) {
		return false
	}
	gone, known := g.read(name, before, number)
	come, plain := g.read(name, after, number)
	behind := func(entry *estate.Entry) bool { return entry.Source.File == name && entry.Source.Line >= first }
	if !known || !plain || c.had != c.has && slices.ContainsFunc(e.Tree.Entries, behind) {
		return false
	}
	for _, l := range gone {
		g.gone = slices.AppendSeq(g.gone, l.Addresses())
	}
	for _, l := range come {
		g.come = slices.AppendSeq(g.come, l.Addresses())
	}
	g.said = append(g.said, come...)
	g.lines[name] = c
	return true
}

// systems finds what the systems of an estate, which were read anew, list otherwise than before. It is false where a
// system is of another kind.
func (g *otherResources) systems(e, before *estate.Estate) bool {
	g.instead, g.dropped = map[*estate.Entry]*estate.Entry{}, map[*estate.Entry]bool{}
	for id := range before.Systems {
		if e.Systems[id] == nil {
			g.gone = append(g.gone, estate.Address{System: id})
		}
	}
	for id, is := range e.Systems {
		was := before.Systems[id]
		if is == was {
			continue
		}
		if was == nil {
			was = &estate.System{}
		} else if was.Kind.ID != is.Kind.ID {
			return false
		}
		if !g.system(e, was, is) {
			return false
		}
		if before.Systems[id] == nil || !sayAlike(was.Tags, was.Owner, is.Tags, is.Owner) { // which all in it inherits
			g.come = append(g.come, estate.Address{System: id})
		}
	}
	return true
}

// system finds what a system lists otherwise among its entries. It is false if something is wrong with them.
func (g *otherResources) system(e *estate.Estate, was, is *estate.System) bool {
	if e.Kinds[is.Kind.ID] == nil {
		return false
	}
	known, types := map[string]*estate.Entry{}, e.Offer(is.Kind.ID).AllTypes
	for _, entry := range is.Resources {
		if entry.Address.System = is.ID; e.Folds(is) {
			entry.Address.Path = estate.Fold(entry.Address.Path)
		}
		if known[entry.Address.Path] != nil || entry.Type != "" && !slices.Contains(types, entry.Type) {
			return false
		}
		known[entry.Address.Path] = entry
	}
	for _, old := range was.Resources {
		fresh := known[old.Address.Path]
		delete(known, old.Address.Path)
		switch {
		case IsInventory(old.Source.File):
			if fresh != nil {
				return false
			}
			is.Resources = append(is.Resources, old)
		case fresh == nil:
			g.gone, g.dropped[old] = append(g.gone, old.Address), true
		default:
			g.instead[old] = fresh
			if old.Type != fresh.Type || old.NoOwner != fresh.NoOwner ||
				!sayAlike(old.Tags, old.Owner, fresh.Tags, fresh.Owner) {
				g.come = append(g.come, fresh.Address)
			}
		}
	}
	for _, fresh := range known {
		g.come, g.entries = append(g.come, fresh.Address), append(g.entries, fresh)
	}
	return true
}

func sayAlike(tags estate.Tags, owner *estate.Principal, others estate.Tags, other *estate.Principal) bool {
	return slices.Equal(tags, others) && (owner == nil) == (other == nil) && (owner == nil || *owner == *other)
}

// list makes the tree anew where something has changed. What lies there and has not changed is said again.
func (g *otherResources) list(e *estate.Estate) *estate.Estate {
	places := g.places(e)
	if places == nil {
		return nil
	}
	again, count := map[string][]int{}, 0
	for _, a := range places {
		row := e.Tree.Find(a.String())
		if row < 0 {
			continue
		}
		end := e.Tree.End(row)
		if count += end - row; count > mostRelistedOf(e) {
			return nil
		}
		for ; row < end; row++ {
			file, line := e.Tree.Line(row)
			switch c, changed := g.lines[file]; {
			case changed && c.hold(line):
			case changed && line >= c.first+c.had:
				again[file] = append(again[file], line+c.has-c.had)
			case file != "":
				again[file] = append(again[file], line)
			default:
				if entry := g.now(e.Tree.Entry(row)); entry != nil {
					g.entries = append(g.entries, entry)
				}
			}
		}
	}
	for file, numbers := range again {
		c, changed := g.lines[file]
		text := c.text
		if !changed {
			var err error
			if text, err = readLimited(g.files, file, MaxInventory); err != nil || path.Ext(file) != ".ndjson" {
				return nil
			}
		}
		slices.Sort(numbers)
		same, ok := g.read(file, some(text, numbers), func(i int) int { return numbers[i] })
		if !ok {
			return nil
		}
		g.said = append(g.said, same...)
	}
	moved := map[string]estate.Moved{}
	for file, c := range g.lines {
		moved[file] = estate.Moved{After: c.first + c.had - 1, By: c.has - c.had}
	}
	out, ok := e.Relisted(estate.Relisting{Places: places, Said: g.said, Entries: g.entries, Instead: g.instead,
		Moved: moved})
	if !ok {
		return nil
	}
	return out
}

// now gives what an entry of the tree has become; nil where there is none any more.
func (g *otherResources) now(entry *estate.Entry) *estate.Entry {
	if entry == nil || g.dropped[entry] {
		return nil
	}
	if fresh := g.instead[entry]; fresh != nil {
		return fresh
	}
	return entry
}

// counting numbers lines in a row.
func counting(first int) func(int) int { return func(i int) int { return first + i } }

// read reads lines of an inventory, whose numbers are told by their order. It is not ok if the ordinary reader has to
// read one of them.
func (g *otherResources) read(name string, text []byte, number func(int) int) (said []*estate.Listing, ok bool) {
	all := &inventories{loader: &loader{estate: estate.New(), zone: g.loader.zone, settings: g.loader.settings}}
	r := &reader{loader: all.loader, file: name, bad: map[*yaml.Node]bool{}}
	ok = true
	// behind a line, so that none is taken for the first of the file
	r.readResources(bytes.NewReader(slices.Concat([]byte("\n"), text)), func(*yaml.Node) { ok = false })
	for _, l := range all.estate.Listings {
		l.Renumber(func(line int) int { return number(line - 2) })
	}
	return all.estate.Listings, ok && len(all.errors) == 0
}

func countLines(text []byte) int {
	count := bytes.Count(text, []byte("\n"))
	if len(text) > 0 && text[len(text)-1] != '\n' {
		count++
	}
	return count
}

// linesApart gives the numbers of the lines in which two texts of as many lines differ, from 1 on.
func linesApart(a, b []byte) (out []int) {
	for n := 1; len(a) > 0; n++ {
		one, more, _ := bytes.Cut(a, []byte("\n"))
		other, rest, _ := bytes.Cut(b, []byte("\n"))
		if !bytes.Equal(one, other) {
			out = append(out, n)
		}
		a, b = more, rest
	}
	return out
}

// places gives where something is listed no more, anew or otherwise, each in no other; nil where that is in many
// places, or in no system.
func (g *otherResources) places(e *estate.Estate) []estate.Address {
	tree := e.Tree
	var all []estate.Address
	for k, list := range [][]estate.Address{g.gone, g.come} {
		for _, a := range list {
			a = e.Canonical(a)
			row := tree.Find(a.String())
			if k == 0 && row < 0 || k > 0 && e.Systems[a.System] == nil || len(all) > 2*mostRelistedOf(e) {
				return nil
			}
			if k == 0 && a.Path != "" { // what is there because of it alone goes with it
				for up := int(tree.Rows[row].Parent) - 1; tree.Rows[up].Parent > 0 && tree.Entry(up) == nil; {
					row, up = up, int(tree.Rows[up].Parent)-1
				}
				a = tree.At(row).Address
			} else if k > 0 {
				for up, ok := a.Parent(); ok && tree.Find(up.String()) < 0; up, ok = up.Parent() {
					a = up
				}
			}
			all = append(all, a)
		}
	}
	slices.SortFunc(all, estate.Address.Compare)
	out := []estate.Address{}
	for _, a := range all {
		if len(out) == 0 || !a.Inside(out[len(out)-1]) {
			out = append(out, a)
		}
	}
	return out
}

// some gives lines of a text by their numbers, which are in order.
func some(text []byte, numbers []int) (out []byte) {
	at := 1
	for _, number := range numbers {
		for ; at < number; at++ {
			text = text[bytes.IndexByte(text, '\n')+1:]
		}
		line, rest, _ := bytes.Cut(text, []byte("\n"))
		out = append(append(out, line...), '\n')
		text, at = rest, at+1
	}
	return out
}
