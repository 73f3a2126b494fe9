package region

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"hiddengate/internal/clock"
)

// Text writes the region for people: what must hold, ways apart joined with "; or ". It writes at most ways of
// them and counts the rest. Empty is "never", Full "always".
func (s *Space) Text(r Region, ways int) string {
	switch r {
	case Empty:
		return "never"
	case Full:
		return "always"
	}
	p := printer{space: s, most: ways, counts: map[Region]int{}}
	p.walk(r, nil)
	if total := p.count(r); total > len(p.ways) {
		p.ways = append(p.ways, fmt.Sprintf("%d more ways", total-len(p.ways)))
	}
	return strings.Join(p.ways, "; or ")
}

type printer struct {
	space  *Space
	most   int
	ways   []string
	counts map[Region]int
}

// edge is the values of one dimension that lead to one region, in words.
type edge struct {
	to     Region
	phrase string
}

func (p *printer) walk(r Region, so []string) {
	switch {
	case r == Empty || len(p.ways) == p.most:
	case r == Full:
		p.ways = append(p.ways, strings.Join(so, ", "))
	case p.space.dims[p.space.nodes[r].dim].Kind == Time:
		for _, phrase := range p.space.timePhrases(p.space.nodes[r].times) {
			if len(p.ways) < p.most {
				p.ways = append(p.ways, strings.Join(append(slices.Clone(so), phrase), ", "))
			}
		}
	default:
		for _, e := range p.space.edges(r) {
			p.walk(e.to, append(slices.Clone(so), e.phrase))
		}
	}
}

// count says how many ways walk would write, up to a million.
func (p *printer) count(r Region) int {
	if r <= Full {
		return int(r)
	}
	if n, ok := p.counts[r]; ok {
		return n
	}
	total := 0
	if n := p.space.nodes[r]; p.space.dims[n.dim].Kind == Time {
		total = len(p.space.timePhrases(n.times))
	} else {
		for _, e := range p.space.edges(r) {
			total = min(total+p.count(e.to), 1_000_000)
		}
	}
	p.counts[r] = total
	return total
}

// edges gives a node's ways out that lead anywhere, those to the same region as one.
func (s *Space) edges(r Region) []edge {
	n := s.nodes[r]
	d := s.dims[n.dim]
	var targets []Region
	for _, k := range n.kids {
		if k != Empty && !slices.Contains(targets, k) {
			targets = append(targets, k)
		}
	}
	var out []edge
	for _, to := range targets {
		var phrase string
		switch d.Kind {
		case Flag:
			phrase = d.Phrases[slices.Index(n.kids, to)]
		case Choice:
			var values []string
			for i, k := range n.kids {
				if k == to {
					values = append(values, d.Values[i])
				}
			}
			phrase = cmp.Or(d.Label, d.Name) + " " + strings.Join(values, " or ")
			if d.Rising {
				phrase = n.risingPhrase(d, to)
			}
		case Text:
			phrase = n.textPhrase(cmp.Or(d.Label, d.Name), to)
		case Network:
			phrase = n.networkPhrase(to)
		}
		out = append(out, edge{to, phrase})
	}
	return out
}

// risingPhrase says which of the times of a Choice lead somewhere: most are all up to one, or all from one on.
func (n node) risingPhrase(d Dimension, to Region) string {
	var spans []string
	for i := 0; i < len(n.kids); i++ {
		if n.kids[i] != to {
			continue
		}
		from := i
		for i+1 < len(n.kids) && n.kids[i+1] == to {
			i++
		}
		switch last := len(n.kids) - 1; {
		case from == 0:
			spans = append(spans, d.Label+" "+d.Values[i])
		case i == last:
			spans = append(spans, "not "+d.Label+" "+d.Values[from-1])
		default:
			spans = append(spans, d.Label+" "+d.Values[i]+" and not "+d.Values[from-1])
		}
	}
	return strings.Join(spans, " or ")
}

func (n node) textPhrase(name string, to Region) string {
	var is, isNot []string
	for i, l := range n.labels {
		if n.kids[i] == to {
			is = append(is, l)
		} else {
			isNot = append(isNot, l)
		}
	}
	switch {
	case n.otherText() != to && n.absent() != to:
		return name + " is " + strings.Join(is, " or ")
	case n.otherText() == to && n.absent() == to:
		return name + " is not " + strings.Join(isNot, " or ")
	case n.otherText() == to && len(isNot) == 0:
		return name + " is given"
	case n.otherText() == to:
		return name + " is given and not " + strings.Join(isNot, " or ")
	}
	return name + " is " + strings.Join(append(is, "absent"), " or ")
}

func (n node) networkPhrase(to Region) string {
	var in, out []netip.Prefix
	for i, k := range n.kids {
		var after netip.Addr
		if i+1 < len(n.bounds) {
			after = n.bounds[i+1]
		}
		cuts := prefixesOf(n.bounds[i], after)
		if k == to {
			in = append(in, cuts...)
		} else {
			out = append(out, cuts...)
		}
	}
	words := func(list []netip.Prefix) string {
		const most = 6
		var names []string
		for i, p := range list {
			if i == most {
				names = append(names, fmt.Sprintf("%d more ranges", len(list)-most))
				break
			}
			names = append(names, p.String())
		}
		return strings.Join(names, " or ")
	}
	if len(out) < len(in) {
		return "not from " + words(out)
	}
	return "from " + words(in)
}

// timePhrases gives one phrase for each run of spans.
func (s *Space) timePhrases(t times) []string {
	var out []string
	for _, sp := range t {
		var parts []string
		if !slices.Equal(sp.minutes, allMinutes) {
			parts = append(parts, sp.minutes.String())
		}
		if sp.from > clock.Beginning {
			parts = append(parts, "from "+s.border(sp.from, 0))
		}
		if sp.to < clock.End {
			word := "before "
			if s.isMidnight(sp.to) {
				word = "through "
			}
			parts = append(parts, word+s.border(sp.to, 1))
		}
		out = append(out, strings.Join(parts, " "))
	}
	return out
}

func (s *Space) isMidnight(at clock.Instant) bool {
	return s.zone.DateOf(at) != s.zone.DateOf(at-1)
}

// border writes a date where a day begins at the instant, less back days, and else the time.
func (s *Space) border(at clock.Instant, back clock.Instant) string {
	if s.isMidnight(at) {
		return s.zone.DateOf(at - back).String()
	}
	return s.zone.Format(at)
}

var dayNames = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// String writes the set as `hours` does: "mon-fri 07:00-19:00", several joined with " and ".
func (m minutes) String() string {
	const day = 24 * 60
	type shift struct{ from, to int }
	days := map[shift][]int{}
	var order []shift
	add := func(d int, s shift) {
		if _, seen := days[s]; !seen {
			order = append(order, s)
		}
		days[s] = append(days[s], d)
	}
	runs := make([][2]int, 0, len(m))
	for _, r := range m {
		runs = append(runs, [2]int{int(r.first), int(r.after)})
	}
	// Sunday night runs on into Monday morning.
	if n := len(runs); n > 1 && runs[0][0] == 0 && runs[n-1][1] == clock.MinutesOfWeek &&
		clock.MinutesOfWeek-runs[n-1][0]+runs[0][1] <= day {
		runs[n-1][1] += runs[0][1]
		runs = runs[1:]
	}
	for _, r := range runs {
		for from := r[0]; from < r[1]; {
			to := r[1]
			if to-from > day {
				to = min(to, (from/day+1)*day)
			}
			end := to % day
			if end == 0 {
				end = day
			}
			add(from/day%7, shift{from % day, end})
			from = to
		}
	}
	var parts []string
	for _, s := range order {
		parts = append(parts, fmt.Sprintf("%s %02d:%02d-%02d:%02d", dayList(days[s]), s.from/60, s.from%60, s.to/60, s.to%60))
	}
	return strings.Join(parts, " and ")
}

// dayList names days: daily, a range of three and more, or one by one.
func dayList(days []int) string {
	slices.Sort(days)
	if len(days) == 7 {
		return "daily"
	}
	if last := len(days) - 1; last >= 2 && days[last]-days[0] == last {
		return dayNames[days[0]] + "-" + dayNames[days[last]]
	}
	var names []string
	for _, d := range days {
		names = append(names, dayNames[d])
	}
	return strings.Join(names, ",")
}
