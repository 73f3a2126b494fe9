package policyfile

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/estate"
)

// A Site is a node of a file that names something: an item of a list, a value, or a key.
type Site struct {
	Section, ID string // of the entry in which it stands; a resource's id is its address
	Key         string // under which it stands, the innermost
	Path        []string
	Index       int // in the list at the path
	Node        *yaml.Node
	IsKey       bool // the node is a key, and what it holds goes with it; the path leads to that
	Words       []Word
}

// A Word is the part of a scalar node's text that names one thing.
type Word struct {
	Node       *yaml.Node
	Start, End int // bytes of the node's value
	As         WordKind
	Section    string // of an AsEntry: that of the entry
}

// Text gives the word as it is written.
func (w Word) Text() string { return w.Node.Value[w.Start:w.End] }

// WordKind is the notation of a word.
type WordKind int

// The notations: an id, `group:ID`, an address or pattern or `scope:ID`, an operation, the path of a resource in its
// system.
const (
	AsEntry WordKind = iota
	AsSubject
	AsPlace
	AsOperation
	AsPath
)

// EachSite visits the nodes that name something in a document of a file.
func EachSite(root *yaml.Node, visit func(Site)) {
	eachPair(root, func(key, value *yaml.Node) {
		for _, s := range sections {
			if s.name == key.Value {
				s.eachSite(value, visit)
				return
			}
		}
		for _, f := range settingFields {
			if f.name == key.Value && f.sites != nil {
				f.sites(value, []string{f.name}, func(one Site) {
					one.Section, one.Key = SettingsSection, f.name
					visit(one)
				})
			}
		}
	})
}

// SettingsSection is the Section of a Site in the settings, which stand in no entry.
const SettingsSection = "settings"

func (s *section) eachSite(entries *yaml.Node, visit func(Site)) {
	eachPair(entries, func(id, body *yaml.Node) {
		path := []string{s.name, id.Value}
		in := func(one Site) {
			if one.Section == "" {
				one.Section, one.ID = s.name, id.Value
			}
			visit(one)
		}
		if f := s.bareField(body); f != nil {
			f.sites(body, path, func(one Site) {
				one.Key = f.name
				in(one)
			})
			return
		}
		tableSites(s.table, body, path, in)
	})
}

func eachPair(n *yaml.Node, each func(key, value *yaml.Node)) {
	if n.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(n.Content); i += 2 {
			each(n.Content[i], n.Content[i+1])
		}
	}
}

func eachItem(n *yaml.Node, each func(i int, item *yaml.Node)) {
	if n.Kind != yaml.SequenceNode {
		each(0, n)
		return
	}
	for i, item := range n.Content {
		each(i, item)
	}
}

// inside gives the path of what stands under a key at a path.
func inside(path []string, key string) []string { return append(path[:len(path):len(path)], key) }

// tableSites visits the sites under the keys of a mapping.
func tableSites(table []field, n *yaml.Node, path []string, visit func(Site)) {
	eachPair(n, func(key, value *yaml.Node) {
		for i := range table {
			if f := &table[i]; f.name == key.Value && f.sites != nil {
				f.sites(value, inside(path, f.name), func(one Site) {
					if one.Key == "" {
						one.Key = f.name
					}
					visit(one)
				})
			}
		}
	})
}

// CellWords gives the words in a cell of an inventory.
func CellWords(column, text string) []Word {
	n := &yaml.Node{Kind: yaml.ScalarNode, Value: text}
	if column == "at" {
		return []Word{{Node: n, End: len(text), As: AsPlace}}
	}
	var out []Word
	for _, table := range [][]field{inventoryPersonFields, inventoryResourceFields} {
		for _, f := range table {
			if f.name == column && f.sites != nil && out == nil {
				f.sites(n, nil, func(one Site) { out = append(out, one.Words...) })
			}
		}
	}
	return out
}

// CellsName says whether some cell of inventories names entries of a section by their ids.
func CellsName(section string) bool {
	for _, table := range [][]field{inventoryPersonFields, inventoryResourceFields} {
		for _, f := range table {
			named := slices.ContainsFunc(CellWords(f.name, "x"), func(w Word) bool {
				return w.As == AsEntry && w.Section == section
			})
			if named {
				return true
			}
		}
	}
	return false
}

// wordAfterNot gives the text of a term, without its `not`.
func wordAfterNot(n *yaml.Node, as WordKind) []Word {
	if n.Kind != yaml.ScalarNode {
		return nil
	}
	rest, not := strings.CutPrefix(n.Value, "not ")
	if not {
		rest = strings.TrimLeft(rest, " ")
	}
	rest = strings.TrimRight(rest, " ")
	start := strings.LastIndex(n.Value, rest)
	return []Word{{Node: n, Start: start, End: start + len(rest), As: as}}
}

func subjectWords(n *yaml.Node) []Word   { return wordAfterNot(n, AsSubject) }
func operationWords(n *yaml.Node) []Word { return wordAfterNot(n, AsOperation) }

// entryWords gives the words of an id of some section.
func entryWords(section string) func(*yaml.Node) []Word {
	return func(n *yaml.Node) []Word {
		if n.Kind != yaml.ScalarNode {
			return nil
		}
		return []Word{{Node: n, End: len(n.Value), As: AsEntry, Section: section}}
	}
}

// placeWords gives the words of a resource term: an address, or a selector with all that it names.
func placeWords(n *yaml.Node) []Word {
	var out []Word
	eachPair(n, func(key, value *yaml.Node) {
		words := map[string]func(*yaml.Node) []Word{
			"in": placeWords, "not": placeWords, "kind": entryWords("catalogs"), "type": entryWords(NamesType),
			"owner": subjectWords,
		}[key.Value]
		if words != nil {
			eachItem(value, func(_ int, item *yaml.Node) { out = append(out, words(item)...) })
		}
	})
	return append(out, wordAfterNot(n, AsPlace)...)
}

// selectionWords gives the words of `table.read on obsdb:sky`.
func selectionWords(n *yaml.Node) []Word {
	what, where, found := strings.Cut(n.Value, " on ")
	if n.Kind != yaml.ScalarNode || !found {
		return nil
	}
	place := strings.TrimSpace(where)
	start := len(what) + len(" on ") + strings.Index(where, place)
	return []Word{
		{Node: n, End: len(strings.TrimRight(what, " ")), As: AsOperation},
		{Node: n, Start: start, End: start + len(place), As: AsPlace},
	}
}

// pathWord is the path of a resource, which stands in the system whose entry it is in.
func pathWord(system string, n *yaml.Node) []Word {
	return []Word{{Node: n, End: len(n.Value), As: AsPath, Section: system}}
}

// The sections that hold subjects, and what a list of resources can name.
var (
	subjectSections = []string{"people", "services", "groups"}
	placeSections   = []string{"systems", "resources", "scopes"}
)

func ownerNaming(p *estate.Principal) Naming {
	if p == nil {
		return Naming{}
	}
	return Naming{Subjects: estate.Subjects{{Principal: *p}}}
}
