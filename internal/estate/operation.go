package estate

import (
	"fmt"
	"regexp"
	"strings"

	"hiddengate/internal/diagnostic"
)

// Level says how far an operation goes.
type Level int

// The levels: see it; run it without altering it; create, alter or delete; decide who else may.
const (
	View Level = iota
	Use
	Change
	Govern
)

var levelNames = []string{"view", "use", "change", "govern"}

// LevelNames lists the levels, lowest first.
func LevelNames() []string { return append([]string(nil), levelNames...) }

func (l Level) String() string { return levelNames[l] }

// ParseLevel reads a level's name.
func ParseLevel(text string) (Level, error) {
	for i, name := range levelNames {
		if name == text {
			return Level(i), nil
		}
	}
	return 0, fmt.Errorf("%q is no level; the levels are %s", text, strings.Join(levelNames, ", "))
}

// Operation is one thing a kind of system lets subjects do.
type Operation struct {
	Name      string
	Level     Level
	About     string
	Types     []string // of resource it applies to; nil: every type of its kind
	Needs     []string
	HighRisk  bool
	Exclusive bool
	Opens     []string // accounts, tags, members, roles: ways to further access
	Notice    string
	Edition   int // of the built-in catalogs in which it came; 0 for a workspace's own
	Position  diagnostic.Position
}

// Caution says why an operation needs a second look before somebody gets it: that it is high-risk, that it decides who
// else may, and what it opens. It is "" for any other.
func (o *Operation) Caution() string {
	var out []string
	if o.HighRisk {
		out = append(out, "high-risk")
	}
	if o.Level == Govern {
		out = append(out, "govern")
	}
	if len(o.Opens) > 0 {
		out = append(out, "opens "+strings.Join(o.Opens, " and "))
	}
	return strings.Join(out, ", ")
}

// Opens is what an operation may open.
var Opens = []string{"accounts", "tags", "members", "roles"}

var operationName = regexp.MustCompile(`^[a-z][a-z0-9-]*(\.[a-z][a-z0-9-]*)+$`)

// CheckOperationName tells what is wrong with an operation's name.
func CheckOperationName(name string) error {
	if !operationName.MatchString(name) || len(name) > MaxID {
		return fmt.Errorf("%q is no operation's name: write area.verb in small letters, as in table.read", name)
	}
	return nil
}

// Kind is a kind of system and what it offers.
type Kind struct {
	Object
	BasedOn    Ref
	Types      []string // by depth: the system, what stands in it, …; the last for all below
	Named      Tags     // types by the name of what stands right in the system
	Inside     Tags     // types by the type of what something stands in
	Fold       bool     // addresses ignore case
	BuiltIn    bool
	Operations []*Operation // its own, by name
}

// TermKind is the form of an operation term.
type TermKind int

// The forms of an operation term.
const (
	ByName TermKind = iota
	ByGlob
	All
	OnlyLevel
	UpToLevel
	FromLevel
)

// OperationTerm is one entry of a list of operations.
type OperationTerm struct {
	Not      bool
	Kind     TermKind
	Name     string // ByName, ByGlob
	Level    Level
	Position diagnostic.Position
}

// Operations is a list in which `not` entries take away from what the others gather.
type Operations []OperationTerm

var operationGlob = regexp.MustCompile(`^[a-z0-9.*-]+$`)

// ParseOperationTerm reads `table.read`, a glob, `all`, `only LEVEL`, `up to LEVEL` or `from LEVEL`, `not` before it or
// not.
func ParseOperationTerm(text string) (OperationTerm, error) {
	rest, not := strings.CutPrefix(text, "not ")
	rest = strings.TrimSpace(rest)
	t := OperationTerm{Not: not}
	var err error
	level := func(kind TermKind, name string) {
		t.Kind = kind
		t.Level, err = ParseLevel(strings.TrimSpace(name))
	}
	switch {
	case rest == "all":
		t.Kind = All
	case strings.HasPrefix(rest, "only "):
		level(OnlyLevel, rest[5:])
	case strings.HasPrefix(rest, "up to "):
		level(UpToLevel, rest[6:])
	case strings.HasPrefix(rest, "from "):
		level(FromLevel, rest[5:])
	case strings.Contains(rest, "*"):
		t.Kind, t.Name = ByGlob, rest
		if !operationGlob.MatchString(rest) {
			err = fmt.Errorf("%q fits no operation: a pattern has small letters, digits, . - and *", rest)
		}
	default:
		t.Name = rest
		if _, e := ParseLevel(rest); e == nil {
			err = fmt.Errorf("%q is a level: write `only %s`, `up to %s` or `from %s`", rest, rest, rest, rest)
		} else {
			err = CheckOperationName(rest)
		}
	}
	return t, err
}

// Fits says whether the term names the operation, whatever its `not`. edition bars newer built-in operations
// from all terms but their own name.
func (t OperationTerm) Fits(o *Operation, edition int) bool {
	if t.Kind != ByName && o.Edition > edition {
		return false
	}
	switch t.Kind {
	case ByName:
		return t.Name == o.Name
	case ByGlob:
		return Glob(t.Name, o.Name)
	case OnlyLevel:
		return o.Level == t.Level
	case UpToLevel:
		return o.Level <= t.Level
	case FromLevel:
		return o.Level >= t.Level
	}
	return true
}

// String writes the term as files do.
func (t OperationTerm) String() string {
	text := t.Name
	switch t.Kind {
	case All:
		text = "all"
	case OnlyLevel:
		text = "only " + t.Level.String()
	case UpToLevel:
		text = "up to " + t.Level.String()
	case FromLevel:
		text = "from " + t.Level.String()
	}
	if t.Not {
		return "not " + text
	}
	return text
}

// Fit says whether the list selects the operation.
func (list Operations) Fit(o *Operation, edition int) bool {
	in := false
	for _, t := range list {
		if t.Fits(o, edition) {
			if t.Not {
				return false
			}
			in = true
		}
	}
	return in
}
