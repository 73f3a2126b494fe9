package estate

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"hiddengate/internal/diagnostic"
)

// System is one administered thing.
type System struct {
	Object
	Kind       Ref
	Makes      string   // of an authority: one of Makings
	Anchors    []string // of an authority: by what its credentials are told, the one in use first (package credential)
	Chain      []string // of an authority under others: their certificates, each signed by the next
	Tags       Tags
	Judge      bool // decide about addresses in no inventory too
	Precedence []Ref
	SignIn     []string // by which of SignIns people sign in there; none where it is not said
	Resources  []*Entry
}

// Entry is a resource as a file lists it.
type Entry struct {
	Object
	Address Address
	Type    string // "": by depth
	Tags    Tags
	// NoOwner clears an inherited owner.
	NoOwner bool
	Rows    *Rows // of a table whose rows are told apart; else nil
}

// Rows says in which columns of a table stands what tells its rows apart. Each row is decided about as a resource in
// the table, of the table's type, with the owner and the tags that its columns say; where a column says nothing, those
// of the table hold.
type Rows struct {
	Owner string // the column with the name of the account whose subject owns the row; "" for none
	Tags  Tags   // by key, the column with its value
}

// Resource is a place in the tree with what holds there: its own values, or the nearest ones above it.
type Resource struct {
	Address Address
	System  *System
	Parent  *Resource
	Type    string
	Tags    Tags
	Owner   *Principal
	Index   int // in tree order; -1 if it is not listed
}

// Inside says whether r is p or stands in it.
func (r *Resource) Inside(p *Resource) bool {
	for ; r != nil; r = r.Parent {
		if r == p {
			return true
		}
	}
	return false
}

// ResourceTerm is one entry of a list of resources. All that is said must hold.
type ResourceTerm struct {
	Not        bool
	Everything bool
	Scope      string
	In         *Pattern
	Exactly    bool
	Kinds      []string
	Types      []string
	Tags       []Match
	Owners     []Principal
	Position   diagnostic.Position
}

// Resources is a list in which `not` entries take away from what the others gather.
type Resources []ResourceTerm

// ParseResourceTerm reads `everything`, `scope:ID`, an address or a pattern, `not` before it or not.
func ParseResourceTerm(text string) (ResourceTerm, error) {
	rest, not := strings.CutPrefix(text, "not ")
	rest = strings.TrimSpace(rest)
	t := ResourceTerm{Not: not}
	if rest == "everything" {
		t.Everything = true
		return t, nil
	}
	if id, ok := strings.CutPrefix(rest, "scope:"); ok {
		t.Scope = id
		return t, CheckID(id)
	}
	p, err := ParsePattern(rest)
	t.In = &p
	return t, err
}

// String writes the term as files do, and no two terms alike that do not say the same.
func (t ResourceTerm) String() string {
	var text string
	switch {
	case t.Everything:
		text = "everything"
	case t.Scope != "":
		text = "scope:" + t.Scope
	case t.In != nil && !t.Exactly && t.Kinds == nil && t.Types == nil && t.Tags == nil && t.Owners == nil:
		text = outerSpaces(t.In.String())
	default:
		var parts []string
		if t.In != nil {
			parts = append(parts, listPart("in", []string{outerSpaces(t.In.String())})...)
		}
		parts = append(parts, listPart("kind", t.Kinds)...)
		parts = append(parts, listPart("type", t.Types)...)
		if t.Tags != nil {
			var tags []string
			for _, m := range t.Tags {
				tags = append(tags, listPart(inBraces(m.Key), m.Values)...)
			}
			parts = append(parts, "tags: {"+strings.Join(tags, ", ")+"}")
		}
		var owners []string
		for _, o := range t.Owners {
			owners = append(owners, o.String())
		}
		parts = append(parts, listPart("owner", owners)...)
		if t.Exactly {
			parts = append(parts, "exactly: true")
		}
		text = "{" + strings.Join(parts, ", ") + "}"
	}
	if t.Not {
		return "not " + text
	}
	return text
}

// outerSpaces escapes a space at the end of an address, which readers of lists take off (RFC 3986, section 2.1).
func outerSpaces(text string) string {
	kept := strings.TrimRightFunc(text, unicode.IsSpace)
	for _, c := range []byte(text[len(kept):]) {
		kept += fmt.Sprintf("%%%02X", c)
	}
	return kept
}

func listPart(key string, values []string) []string {
	var written []string
	for _, v := range values {
		written = append(written, inBraces(v))
	}
	switch len(values) {
	case 0:
		return nil
	case 1:
		return []string{key + ": " + written[0]}
	}
	return []string{key + ": [" + strings.Join(written, ", ") + "]"}
}

// inBraces writes a text as it stands between braces: in quotes where it would else say something more, so that no two
// terms are written alike.
func inBraces(text string) string {
	if text == "" || text != strings.TrimSpace(text) || strings.ContainsAny(text, `,[]{}"'#\`) ||
		strings.Contains(text, ": ") || strings.HasSuffix(text, ":") {
		return strconv.Quote(text)
	}
	return text
}

// CheckResourceType tells what is wrong with a type's name.
func CheckResourceType(name string) error {
	if name == "" || strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
		return fmt.Errorf("%q is no type of resource: write it in small letters, digits and -", name)
	}
	return nil
}

// inherit lays tags over those from above; an empty value clears one.
func inherit(above, own Tags) Tags {
	if len(own) == 0 {
		return above
	}
	out := slices.Clone(above)
	for _, t := range own {
		out = slices.DeleteFunc(out, func(o Tag) bool { return o.Key == t.Key })
		if t.Value != "" {
			out = append(out, t)
		}
	}
	slices.SortFunc(out, func(a, b Tag) int { return strings.Compare(a.Key, b.Key) })
	return out
}
