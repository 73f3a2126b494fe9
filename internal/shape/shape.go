// Package shape makes up workspaces of a given size and build, for measuring: the same shape is the same files every
// time. All of them play at the observatory's storehouses.
package shape

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Shape says how large a workspace is and how it is built.
type Shape struct {
	Name       string
	People     int
	GroupsEach int // how many groups a person is in, drawn at random
	Groups     int
	Roles      int
	Grants     int
	Resources  int
	Systems    int
	Depth      int  // folders above each leaf
	Shuffled   bool // the inventory is in no order
	// Conditional and Tagged are the percentages of grants with a condition, and of those that select by tag.
	Conditional, Tagged int
	Scattered           int  // the percentage of resources with a tag that grants select by
	Owned               bool // every resource has an owner, and every tenth grant asks for the owner
	Overlap             bool // every grant covers nearly everything, each a little less than another
	Unlisted            bool // no resource is listed: systems judge what is asked
	// Zipf draws groups so that the k-th has about 1/k of the members of the first; Nested is how many groups stand in
	// one another, at the most.
	Zipf   bool
	Nested int
	// Uneven makes systems and folders of very different size, folders at any depth. Places is how many places a scope
	// that a grant names has at the most, where it is not 0: of these a third are patterns or tags.
	Uneven bool
	Places int
	Scopes int // how many scopes of patterns and tags that overlap there are, which grants name
	// Exceptions is how many blocks there are on everyone but a group; Negated is how many that hold unless a condition
	// does.
	Exceptions, Negated int
	InEvery             bool // one account is in every group
	OneRole             bool // every grant gives the same role
	ManyRoles           int  // how many roles one person has by grants of their own
	Guarantees, Tests   int
}

// Shapes lists the shapes that are measured, smallest first.
func Shapes() []Shape {
	base := Shape{GroupsEach: 3, Groups: 2000, Roles: 2000, Grants: 20_000, Resources: 1_000_000, Systems: 20, Depth: 1,
		Conditional: 10, Tagged: 5, Scattered: 1}
	with := func(name string, people int, change func(*Shape)) Shape {
		s := base
		s.Name, s.People = name, people
		if change != nil {
			change(&s)
		}
		return s
	}
	return []Shape{
		with("small team", 40, func(s *Shape) { s.Groups, s.Roles, s.Grants, s.Resources, s.Systems = 12, 10, 40, 400, 3 }),
		with("1,000 people", 1000, func(s *Shape) { s.Groups, s.Roles, s.Grants, s.Resources = 20, 20, 200, 10_000 }),
		with("10,000 people", 10_000, nil),
		with("10,000 people, 12 groups each", 10_000, func(s *Shape) { s.GroupsEach = 12 }),
		with("100,000 people", 100_000, nil),
		with("100,000 people, 12 groups each", 100_000, func(s *Shape) { s.GroupsEach = 12 }),
		with("deep folders", 10_000, func(s *Shape) { s.Depth, s.Shuffled = 8, true }),
		with("flat million", 10_000, func(s *Shape) { s.Depth, s.Systems = 0, 1 }),
		with("scattered tags", 10_000, func(s *Shape) { s.Tagged, s.Scattered = 30, 5 }),
		with("every resource owned", 10_000, func(s *Shape) { s.Owned = true }),
		with("many conditions", 10_000, func(s *Shape) { s.Conditional = 100 }),
		with("overlaps", 1000, func(s *Shape) { s.Overlap, s.Groups, s.Grants = true, 50, 10_000 }),
		with("nothing listed", 10_000, func(s *Shape) { s.Unlisted = true }),
		Uneven(10_000),
	}
}

// Small gives a shape like this one, about a hundredth of its size.
func (s Shape) Small() Shape {
	less := func(n, least int) int { return max(min(n, least), n/100) }
	s.People, s.Groups, s.Roles = less(s.People, 40), less(s.Groups, 12), less(s.Roles, 10)
	s.Grants, s.Resources, s.Systems = less(s.Grants, 100), less(s.Resources, 4000), less(s.Systems, 3)
	return s
}

// Comparable says that the facts of the shape go into the plain tables of a database: its conditions ask nothing about
// owners.
func (s Shape) Comparable() bool { return !s.Owned && !s.Unlisted && !s.Overlap && !s.Uneven }

// Ask is a request.
type Ask struct{ Who, What, Where string }

// made is what a shape is made of, so that requests can be aimed at it.
type made struct {
	Shape
	*rand.Rand
	members [][]int  // of each group, the people
	roles   [][]int  // of each role, numbers of operations
	aims    []aim    // of each grant
	folders []string // with what leaves lie in each
	sizes   []int    // of each folder, how many leaves lie in it, where they are uneven
	out     *bufio.Writer
}

type aim struct {
	group, role int
	place       int // a folder's number; -1 if by tag
}

// operations are of the kind database, each with the type it is valid on.
var operations = []struct{ name, on string }{
	{"table.read", "table"}, {"table.insert", "table"}, {"table.update", "table"}, {"table.drop", "table"},
	{"table.view", "table"},
	{"schema.view", "schema"}, {"index.view", "table"}, {"recording.view", "table"}, {"table.delete", "table"},
	{"index.change", "table"},
}

func (m *made) chance(percent int) bool { return m.IntN(100) < percent }

// perFolder is how many leaves lie in a folder.
const perFolder = 500

// leaves is how many leaves lie in a folder.
func (m *made) leaves(folder int) int {
	if m.Uneven {
		return m.sizes[folder]
	}
	return min(perFolder, m.Resources)
}

func newMade(s Shape, operations int) *made {
	m := &made{Shape: s, Rand: rand.New(rand.NewPCG(uint64(s.People), uint64(s.Grants)))}
	m.members = make([][]int, s.Groups)
	rank := m.ranks()
	for p := range s.People {
		for range s.GroupsEach {
			g := rank()
			if !slices.Contains(m.members[g], p) {
				m.members[g] = append(m.members[g], p)
			}
		}
	}
	for range s.Roles {
		var ops []int
		for range 2 + m.IntN(4) {
			ops = append(ops, m.IntN(operations))
		}
		slices.Sort(ops)
		m.roles = append(m.roles, slices.Compact(ops))
	}
	if s.Uneven {
		m.grow()
	} else {
		folders := max(1, s.Resources/perFolder)
		for f := range folders {
			m.folders = append(m.folders, m.folder(f, folders))
		}
		slices.Sort(m.folders)
	}
	for range s.Grants {
		a := aim{m.IntN(s.Groups), m.IntN(s.Roles), m.IntN(len(m.folders))}
		if s.OneRole {
			a.role = 0
		}
		if m.chance(s.Tagged) {
			a.place = -1
		}
		m.aims = append(m.aims, a)
	}
	return m
}

// folder gives the address under which a folder's leaves lie.
func (m *made) folder(f, folders int) string {
	system := fmt.Sprintf("store-%02d:", f*m.Systems/folders)
	if m.Depth == 0 {
		return system + fmt.Sprintf("run%05d-", f)
	}
	var parts []string
	for level := range m.Depth - 1 { // the folder's number in base 4 makes folders that share what they stand in
		parts = append(parts, fmt.Sprintf("part-%d", f>>(2*(m.Depth-2-level))&3))
	}
	return system + strings.Join(append(parts, fmt.Sprintf("run%05d", f)), "/") + "/"
}

// leaf gives a leaf's address.
func (m *made) leaf(folder, i int) string { return fmt.Sprintf("%sframe-%04d", m.folders[folder], i) }

// place gives what a grant on a folder, or on a leaf of it, says under on.
func (m *made) place(folder int) string {
	f := m.folders[folder]
	switch {
	case m.Overlap:
		return fmt.Sprintf("[everything, not %s, not %s]", strings.TrimSuffix(f, "/"),
			m.leaf((folder+7)%len(m.folders), m.IntN(m.leaves((folder+7)%len(m.folders)))))
	case m.chance(1):
		return f[:strings.IndexByte(f, ':')] // the whole system
	case m.Depth == 0 && m.chance(50):
		return `"` + f + `*"`
	case m.Depth == 0 || m.chance(25):
		return m.leaf(folder, m.IntN(m.leaves(folder)))
	case m.chance(3):
		return "[" + strings.TrimSuffix(f, "/") + ", not " + m.leaf(folder, m.IntN(m.leaves(folder))) + "]"
	}
	return strings.TrimSuffix(f, "/")
}

// condition draws one of many.
func (m *made) condition() string {
	switch m.IntN(6) {
	case 0:
		return fmt.Sprintf("{hours: mon-fri %02d:00-%02d:30}", 5+m.IntN(5), 15+m.IntN(6))
	case 1:
		return fmt.Sprintf("{network: 10.%d.0.0/16}", m.IntN(250))
	case 2:
		return "{mfa: true}"
	case 3:
		return fmt.Sprintf("{hours: daily %02d:00-%02d:00, network: [10.%d.0.0/16, 2001:db8:%x::/48]}", 16+m.IntN(7),
			3+m.IntN(6), m.IntN(250), m.IntN(4000))
	case 4:
		return "{same: team}"
	}
	return fmt.Sprintf("{any: [{mfa: true}, {network: 10.%d.0.0/16}], sign-in: [passkey, certificate]}", m.IntN(250))
}

// Write writes the workspace into an empty folder.
func (s Shape) Write(dir string) error {
	m := newMade(s, len(operations))
	files := []struct {
		name  string
		write func()
	}{
		{"hidden-gate.yaml", m.settings}, {"systems.yaml", m.systems}, {"people.csv", m.people}, {"groups.yaml", m.groups},
		{"roles.yaml", m.writeRoles},
	}
	if !s.Unlisted {
		files = append(files, struct {
			name  string
			write func()
		}{"frames.ndjson", m.resources})
	}
	const parts = 8 // the grants of eight teams
	for i := range parts {
		files = append(files, struct {
			name  string
			write func()
		}{fmt.Sprintf("grants-%d.yaml", i), func() { m.grants(i*s.Grants/parts, (i+1)*s.Grants/parts) }})
	}
	for _, f := range files {
		file, err := os.Create(filepath.Join(dir, f.name))
		if err != nil {
			return err
		}
		m.out = bufio.NewWriterSize(file, 1<<20)
		f.write()
		if err := m.out.Flush(); err != nil {
			return err
		}
		if err := file.Close(); err != nil {
			return err
		}
	}
	return nil
}

func (m *made) line(format string, args ...any) { fmt.Fprintf(m.out, format+"\n", args...) }

func (m *made) settings() {
	m.line("hidden-gate: 1\nestate: Storehouses of the observatory\ntimezone: Atlantic/Azores\ninventories:\n  - " +
		"{people: people.csv}")
	if !m.Unlisted {
		m.line("  - {resources: frames.ndjson}")
	}
}

func (m *made) systems() {
	unlisted := ""
	if m.Unlisted {
		unlisted = ", unlisted: judge"
	}
	m.line("systems:")
	for i := range m.Systems {
		m.line("  store-%02d: {kind: database, tags: {site: base}%s}", i, unlisted)
	}
}

func person(i int) string { return fmt.Sprintf("person-%06d", i) }

func (m *made) people() {
	groups := make([][]string, m.People)
	for g, list := range m.members {
		for _, p := range list {
			groups[p] = append(groups[p], fmt.Sprintf("team-%04d", g))
		}
	}
	m.line("id,name,email,status,ends,groups,tag.team,tag.site")
	for p := range m.People {
		status, ends := "active", ""
		switch {
		case p%97 == 0:
			status = "suspended"
		case p%13 == 0:
			ends = fmt.Sprintf("203%d-06-30", p%9)
		}
		m.line("%s,Person %d,%s@ternhollow.example,%s,%s,%s,crew-%02d,%s", person(p), p, person(p), status, ends,
			strings.Join(groups[p], ";"), p%40, []string{"summit", "base"}[p%2])
	}
}

func (m *made) groups() {
	if m.InEvery {
		m.line("services:\n  sweeper: {title: Sweeps the stores}")
	}
	if m.Scopes > 0 {
		m.writeScopes()
	}
	m.line("groups:")
	for g := range m.Groups {
		var members []string
		if g > 0 && m.above(g-1) == g {
			members = append(members, fmt.Sprintf("group:team-%04d", g-1))
		}
		if m.InEvery {
			members = append(members, "service:sweeper")
		}
		if len(members) > 0 {
			m.line("  team-%04d: {title: Team %d, members: [%s]}", g, g, strings.Join(members, ", "))
		} else {
			m.line("  team-%04d: {title: Team %d}", g, g)
		}
	}
}

func (m *made) writeRoles() {
	m.line("roles:")
	for i, ops := range m.roles {
		var names []string
		for _, o := range ops {
			names = append(names, operations[o].name)
		}
		m.line("  role-%04d:\n    about: What team %d does with its frames.\n    allow: [%s]", i, i,
			strings.Join(names, ", "))
	}
}

// sorts is how many values the tag has by which grants select.
const sorts = 200

func (m *made) resources() {
	order := make([]int, len(m.folders))
	for i := range order {
		order[i] = i
	}
	if m.Shuffled {
		m.Shuffle(len(order), func(i, j int) { order[i], order[j] = order[j], order[i] })
	}
	for _, f := range order {
		for i := range m.leaves(f) {
			tags := ""
			switch {
			case m.IntN(1000) < 10*m.Scattered:
				tags = fmt.Sprintf(`,"tags":{"sort":"sort-%03d"}`, m.IntN(sorts))
			case m.chance(10):
				tags = fmt.Sprintf(`,"tags":{"team":"crew-%02d","env":"prod"}`, m.IntN(40))
			}
			owner := ""
			if m.Owned || m.chance(2) {
				owner = `,"owner":"` + person(m.IntN(m.People)) + `"`
			}
			m.line(`{"at":"%s","type":"table"%s%s}`, m.leaf(f, i), tags, owner)
		}
	}
}

func (m *made) grants(from, to int) {
	m.line("grants:")
	for i := from; i < to; i++ {
		a := m.aims[i]
		on := fmt.Sprintf("{tags: {sort: sort-%03d}}", m.IntN(sorts))
		switch {
		case m.Scopes > 0 && i%2 == 0:
			on = fmt.Sprintf("scope:overlap-%04d", m.IntN(m.Scopes))
		case m.Places > 0 && a.place >= 0:
			on = m.places(a.place)
		case a.place >= 0:
			on = m.place(a.place)
		}
		when := ""
		switch {
		case m.chance(m.Conditional):
			when = "\n    when: " + m.condition()
		case m.Owned && m.chance(10):
			when = "\n    when: {owner: true}"
		}
		m.line("  grant-%05d:\n    to: group:team-%04d\n    role: role-%04d\n    on: %s%s\n    why: Team %d works with "+
			"these frames.", i, a.group, a.role, on, when, a.group)
	}
	if from == 0 {
		m.standing()
		m.line("blocks:\n  nobody-drops-on-sunday: {deny: table.drop, on: store-00, when: {hours: sun 00:00-24:00}}")
		m.exceptions()
		m.promises()
	}
}

// Asks draws requests, every second one aimed at a grant.
func (s Shape) Asks(n int) []Ask {
	m := newMade(s, len(operations))
	var tables []int
	for i, o := range operations {
		if o.on == "table" {
			tables = append(tables, i)
		}
	}
	out := make([]Ask, 0, n)
	for i := range n {
		who, what, folder := m.IntN(s.People), tables[m.IntN(len(tables))], m.IntN(len(m.folders))
		if a := m.aims[m.IntN(len(m.aims))]; i%2 == 0 && a.place >= 0 && len(m.members[a.group]) > 0 {
			who = m.members[a.group][m.IntN(len(m.members[a.group]))]
			folder = a.place
			if o := m.roles[a.role][m.IntN(len(m.roles[a.role]))]; operations[o].on == "table" {
				what = o
			}
		}
		out = append(out, Ask{person(who), operations[what].name, m.leaf(folder, m.IntN(m.leaves(folder)))})
	}
	return out
}
