package shape

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// Uneven gives the shape that nothing was built for: groups whose sizes follow Zipf's law and that stand in one
// another, systems and folders of very different size, scopes of several places, blocks with exceptions, and one
// account that is in every group. There are a tenth as many groups and roles as grants, a fifth as many grants as
// people, and ten resources for each.
func Uneven(people int) Shape {
	return Shape{Name: "uneven", People: people, GroupsEach: 2, Groups: people / 50,
		Roles: people / 50, Grants: people / 5, Resources: 10 * people, Systems: 40, Zipf: true, Nested: 3, Uneven: true,
		Places: 4, Exceptions: 50, InEvery: true, Guarantees: 20, Tests: 220, Conditional: 10, Tagged: 5, Scattered: 1}
}

// Hard gives shapes each of which has much of one thing, beside as many resources and grants as an uneven one.
func Hard(people int) []Shape {
	even := Uneven(people)
	even.Zipf, even.Nested, even.Uneven, even.Places, even.Exceptions, even.InEvery = false, 0, false, 0, 0, false
	even.Guarantees, even.Tests, even.Depth = 0, 0, 1
	with := func(name string, change func(*Shape)) Shape {
		s := even
		s.Name = name
		change(&s)
		return s
	}
	return []Shape{
		Uneven(people),
		with("twelve groups each", func(s *Shape) { s.GroupsEach = 12 }),
		with("groups in groups, 50 deep", func(s *Shape) { s.Nested = 50 }),
		with("scopes that overlap", func(s *Shape) { s.Scopes = people / 20 }),
		with("blocks unless", func(s *Shape) { s.Negated = people / 100 }),
		with("many roles for one", func(s *Shape) { s.ManyRoles = 200 }),
		with("an owner for each resource", func(s *Shape) { s.Owned = true }),
		with("many guarantees", func(s *Shape) { s.Guarantees = people / 50 }),
		with("many tests", func(s *Shape) { s.Tests = people / 50 }),
		with("one account in every group", func(s *Shape) { s.InEvery = true }),
		with("one role in every grant", func(s *Shape) { s.OneRole = true }),
	}
}

// ranks draws group by group, the first most often, where sizes follow Zipf's law; else each as often.
func (m *made) ranks() func() int {
	if !m.Zipf {
		return func() int { return m.IntN(m.Groups) }
	}
	z := rand.NewZipf(m.Rand, 1.1, 1, uint64(m.Groups-1))
	return func() int { return int(z.Uint64()) }
}

// above gives the group in which a group stands, as a number, or -1. Of n levels the groups of the first stand in one
// of the second, and so on.
func (m *made) above(g int) int {
	if m.Nested == 0 || g%m.Nested == m.Nested-1 || g+1 >= m.Groups {
		return -1
	}
	return g + 1
}

// grow makes folders of very different size, at any depth of systems of very different size.
func (m *made) grow() {
	of := rand.NewZipf(m.Rand, 1.2, 4, uint64(m.Systems-1))
	system := make([][]string, m.Systems)
	for left := m.Resources; left > 0; {
		s := int(of.Uint64())
		address := fmt.Sprintf("store-%02d:", s)
		if n := len(system[s]); n > 0 && m.chance(70) {
			if inside := system[s][m.IntN(n)]; strings.Count(inside, "/") < 6 {
				address = inside
			}
		}
		address += fmt.Sprintf("run%05d/", len(m.folders))
		leaves := min(left, []int{4, 20, 100, 500, 2500}[m.IntN(5)])
		system[s], left = append(system[s], address), left-leaves
		m.folders, m.sizes = append(m.folders, address), append(m.sizes, leaves)
	}
	order := make([]int, len(m.folders))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return strings.Compare(m.folders[a], m.folders[b]) })
	folders, sizes := m.folders, m.sizes
	m.folders, m.sizes = nil, nil
	for _, i := range order {
		m.folders, m.sizes = append(m.folders, folders[i]), append(m.sizes, sizes[i])
	}
}

// places gives what a grant says under on: up to so many places, of which a third are patterns or tags.
func (m *made) places(folder int) string {
	list := []string{m.single(folder)}
	for range m.IntN(m.Places) {
		list = append(list, m.single(m.IntN(len(m.folders))))
	}
	slices.Sort(list)
	return "[" + strings.Join(slices.Compact(list), ", ") + "]"
}

func (m *made) single(folder int) string {
	f := strings.TrimSuffix(m.folders[folder], "/")
	system, path, _ := strings.Cut(f, ":")
	name := path[strings.LastIndexByte(path, '/')+1:]
	switch m.IntN(9) {
	case 0:
		return fmt.Sprintf("{tags: {sort: sort-%03d}}", m.IntN(sorts))
	case 1:
		return fmt.Sprintf("{in: %s, tags: {env: prod}}", f)
	case 2:
		return []string{`"` + system + ":**/" + name[:len(name)-1] + `*"`, `"` + f + `/frame-*1"`,
			`"store-*:**/` + name + `"`}[m.IntN(3)]
	case 3:
		return m.leaf(folder, m.IntN(m.leaves(folder)))
	}
	if m.chance(1) {
		return system
	}
	return f
}

// scope gives what the k-th of many scopes says that overlap.
func (m *made) scope(k int) string {
	name := fmt.Sprintf("%02d", k%100)
	return []string{`"store-*:**/*` + name + `"`, fmt.Sprintf(`"store-%02d:**/run*%d/frame-*%d"`, k%m.Systems, k%7, k%9),
		fmt.Sprintf("{tags: {sort: sort-%03d}}", k%sorts), fmt.Sprintf("{tags: {team: crew-%02d}, in: store-%02d}", k%40,
			k%m.Systems), fmt.Sprintf(`[everything, "not store-*:**/frame-%s*"]`, name)}[k%5]
}

func (m *made) writeScopes() {
	m.line("scopes:")
	for k := range m.Scopes {
		m.line("  overlap-%04d: %s", k, m.scope(k))
	}
}

// exceptions writes blocks on everyone but a group, and blocks that hold unless a condition does.
func (m *made) exceptions() {
	for i := range m.Exceptions {
		f := m.IntN(len(m.folders))
		m.line("  only-a-team-%04d: {to: [everyone, not group:team-%04d], deny: %s, on: %s}", i, m.IntN(m.Groups),
			[]string{"table.drop", "table.delete", "index.change"}[i%3], strings.TrimSuffix(m.folders[f], "/"))
	}
	for i := range m.Negated {
		f := m.IntN(len(m.folders))
		m.line("  unless-%04d: {deny: %s, on: %s, when: {not: %s}}", i, operations[i%len(operations)].name,
			strings.TrimSuffix(m.folders[f], "/"), m.condition())
	}
}

// standing writes the grants of a person with many roles.
func (m *made) standing() {
	for i := range m.ManyRoles {
		m.line("  own-%04d: {to: person:%s, role: role-%04d, on: %s}", i, person(1), i%m.Roles,
			strings.TrimSuffix(m.folders[m.IntN(len(m.folders))], "/"))
	}
}

// promises writes guarantees and tests.
func (m *made) promises() {
	if m.Guarantees > 0 {
		m.line("guarantees:")
	}
	for i := range m.Guarantees {
		f, team := strings.TrimSuffix(m.folders[m.IntN(len(m.folders))], "/"), m.IntN(m.Groups)
		m.line("  promise-%04d: %s", i, []string{
			fmt.Sprintf("{only: [group:team-%04d], may: table.drop, on: %s}", team, f),
			fmt.Sprintf("{never: [group:team-%04d], may: table.update, on: %s}", team, f),
			fmt.Sprintf("{requires: {mfa: true}, may: table.delete, on: %s}", f),
			fmt.Sprintf("{at-most: %d, may: index.change, on: %s}", m.People, f),
		}[i%4])
	}
	if m.Tests > 0 {
		m.line("tests:")
	}
	for i := range m.Tests {
		folder := m.IntN(len(m.folders))
		m.line("  expected-%04d: {who: group:team-%04d, given: {mfa: true}, denied: [table.read on %s, table.drop on %s]}", i,
			m.IntN(m.Groups), m.leaf(folder, m.IntN(m.leaves(folder))), strings.TrimSuffix(m.folders[folder], "/"))
	}
}
