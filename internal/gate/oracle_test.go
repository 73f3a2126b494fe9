package gate_test

import (
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	_ "time/tzdata"

	"hiddengate/internal/estate"
)

// oracle judges as the meaning says, line by line, one concrete context after the other. It shares no matching and
// no algebra with the gate.
type oracle struct {
	e          *estate.Estate
	zone       *time.Location
	elevations []estate.Elevation
	ago        []time.Duration // once agos has gathered them
}

// concrete is a full assignment of what a request can say. An attribute that is not in attrs is absent.
type concrete struct {
	at                  int64 // microseconds
	from                netip.Addr
	mfa, reason, ticket bool
	signIn              string
	ago                 time.Duration // since the subject signed in
	attrs               map[string]string
}

func (o *oracle) memberOf(p estate.Principal, list estate.Subjects) bool {
	in := false
	for _, t := range list {
		if !t.Not && o.named(p, t.Principal) {
			in = true
		}
	}
	for _, t := range list {
		if t.Not && o.named(p, t.Principal) {
			in = false
		}
	}
	return in
}

func (o *oracle) named(p, by estate.Principal) bool {
	switch by.Kind {
	case estate.IsEveryone:
		return p.Kind != estate.IsAnonymous
	case estate.IsGroup:
		return o.inGroup(p, by.ID)
	}
	return p == by
}

func (o *oracle) inGroup(p estate.Principal, id string) bool {
	g := o.e.Groups[id]
	in := false
	for _, t := range g.Members {
		in = in || !t.Not && o.named(p, t.Principal)
	}
	if len(g.Match) > 0 && p.Kind != estate.IsAnonymous {
		all := true
		for _, m := range g.Match {
			v := tagOf(o.e.Subject(p).Tags, m.Key)
			all = all && v != "" && slices.Contains(m.Values, v)
		}
		in = in || all
	}
	for _, t := range g.Members {
		if t.Not && o.named(p, t.Principal) {
			return false
		}
	}
	return in
}

func tagOf(tags estate.Tags, key string) string {
	for _, t := range tags {
		if t.Key == key {
			return t.Value
		}
	}
	return ""
}

// recent says whether the subject has signed in within the longest of some times, which is what they say.
func recent(values []string, ago time.Duration) bool {
	longest, err := estate.ParseDuration(values[len(values)-1])
	if err != nil {
		panic(err)
	}
	return ago <= longest
}

// roleHas says whether the role has the operation in a context.
func (o *oracle) roleHas(id, op string, x concrete) bool {
	r := o.e.Roles[id]
	if !o.within(r.Starts, r.Ends, x.at) || len(r.SignedIn) > 0 && !recent(r.SignedIn, x.ago) {
		return false
	}
	has := false
	for _, ref := range r.Include {
		has = has || o.roleHas(ref.ID, op, x)
	}
	for _, t := range r.Allow {
		has = has || !t.Not && o.selects(t, op)
	}
	for _, t := range r.Allow {
		has = has && !(t.Not && o.selects(t, op))
	}
	return has
}

var globs sync.Map // those that have been turned into expressions

func globbed(name string) *regexp.Regexp {
	if r, ok := globs.Load(name); ok {
		return r.(*regexp.Regexp)
	}
	r := regexp.MustCompile("^" + strings.ReplaceAll(regexp.QuoteMeta(name), `\*`, ".*") + "$")
	globs.Store(name, r)
	return r
}

func (o *oracle) selects(t estate.OperationTerm, op string) bool {
	level := o.e.Operations[op].Level
	switch t.Kind {
	case estate.ByName:
		return t.Name == op
	case estate.ByGlob:
		return globbed(t.Name).MatchString(op)
	case estate.All:
		return true
	case estate.OnlyLevel:
		return level == t.Level
	case estate.UpToLevel:
		return !(level > t.Level)
	}
	return !(level < t.Level)
}

// spot is a resource as it stands in the files: what holds there is worked out from the entries above it.
type spot struct {
	system *estate.System
	path   []string
}

// setting is what of a question does not hang on the context: the entries whose subjects, operations and resources
// fit, and the facts of the subject and the resource.
type setting struct {
	p      estate.Principal
	who    *estate.Subject
	op     string
	at     spot
	tags   map[string]string
	owns   bool
	grants []*estate.Grant
	blocks []*estate.Block
}

func (o *oracle) setting(p estate.Principal, op string, s spot) setting {
	out := setting{p: p, who: o.e.Subject(p), op: op, at: s, tags: o.tags(s), owns: o.owns(p, s)}
	for _, b := range o.e.Blocks {
		denies := false
		for _, t := range b.Deny {
			denies = denies || !t.Not && o.selects(t, op)
		}
		for _, t := range b.Deny {
			denies = denies && !(t.Not && o.selects(t, op))
		}
		if denies && o.memberOf(p, b.To) && o.covers(b.On, s) {
			out.blocks = append(out.blocks, b)
		}
	}
	for _, g := range o.e.Grants {
		if o.memberOf(p, g.To) && o.covers(g.On, s) {
			out.grants = append(out.grants, g)
		}
	}
	return out
}

func (o *oracle) entry(s spot, depth int) *estate.Entry {
	for _, e := range s.system.Resources {
		if e.Address.Path == strings.Join(s.path[:depth], "/") && depth > 0 {
			return e
		}
	}
	return nil
}

func (o *oracle) tags(s spot) map[string]string {
	out := map[string]string{}
	for _, t := range s.system.Tags {
		out[t.Key] = t.Value
	}
	for depth := 1; depth <= len(s.path); depth++ {
		if e := o.entry(s, depth); e != nil {
			for _, t := range e.Tags {
				out[t.Key] = t.Value
			}
		}
	}
	return out
}

func (o *oracle) owner(s spot) *estate.Principal {
	out := s.system.Owner
	for depth := 1; depth <= len(s.path); depth++ {
		if e := o.entry(s, depth); e != nil && e.NoOwner {
			out = nil
		} else if e != nil && e.Owner != nil {
			out = e.Owner
		}
	}
	return out
}

func (o *oracle) typeOf(s spot) string {
	if e := o.entry(s, len(s.path)); e != nil && e.Type != "" {
		return e.Type
	}
	var lineage []*estate.Kind
	for k := o.e.Kinds[s.system.Kind.ID]; k != nil; k = o.e.Kinds[k.BasedOn.ID] {
		lineage = append(lineage, k)
	}
	places := func(list func(*estate.Kind) estate.Tags, key string) string {
		for _, k := range lineage {
			for _, t := range list(k) {
				if t.Key == key && (!k.BuiltIn || o.e.Edition >= 2) {
					return t.Value
				}
			}
		}
		return ""
	}
	if len(s.path) == 1 {
		if t := places(func(k *estate.Kind) estate.Tags { return k.Named }, s.path[0]); t != "" {
			return t
		}
	}
	if n := len(s.path); n > 0 {
		above := o.typeOf(spot{system: s.system, path: s.path[:n-1]})
		if t := places(func(k *estate.Kind) estate.Tags { return k.Inside }, above); t != "" {
			return t
		}
	}
	for _, k := range lineage {
		if k.Types != nil {
			return k.Types[min(len(s.path), len(k.Types)-1)]
		}
	}
	return "system"
}

func (o *oracle) covers(list estate.Resources, s spot) bool {
	in := false
	for _, t := range list {
		in = in || !t.Not && o.fits(t, s)
	}
	for _, t := range list {
		in = in && !(t.Not && o.fits(t, s))
	}
	return in
}

func (o *oracle) fits(t estate.ResourceTerm, s spot) bool {
	if t.Everything {
		return true
	}
	if t.Scope != "" {
		return o.covers(o.e.Scopes[t.Scope].Resources, s)
	}
	if t.In != nil {
		if !regexp.MustCompile("^" + strings.ReplaceAll(regexp.QuoteMeta(t.In.System), `\*`, ".*") +
			"$").MatchString(s.system.ID) {
			return false
		}
		rx := "^"
		if o.e.Kinds[s.system.Kind.ID].Fold {
			rx = "(?i)^"
		}
		for _, seg := range t.In.Segments {
			if seg == "**" {
				rx += "(?:/[^/]*)*"
			} else {
				rx += "/" + strings.ReplaceAll(regexp.QuoteMeta(seg), `\*`, "[^/]*")
			}
		}
		if !t.Exactly {
			rx += "(?:/.*)?"
		}
		path := ""
		for _, p := range s.path {
			path += "/" + p
		}
		if !regexp.MustCompile(rx + "$").MatchString(path) {
			return false
		}
	}
	if len(t.Kinds) > 0 {
		found := false
		for k := o.e.Kinds[s.system.Kind.ID]; k != nil; k = o.e.Kinds[k.BasedOn.ID] {
			found = found || slices.Contains(t.Kinds, k.ID)
		}
		if !found {
			return false
		}
	}
	if len(t.Types) > 0 && !slices.Contains(t.Types, o.typeOf(s)) {
		return false
	}
	for _, m := range t.Tags {
		if v := o.tags(s)[m.Key]; v == "" || !slices.Contains(m.Values, v) {
			return false
		}
	}
	if len(t.Owners) > 0 {
		own := o.owner(s)
		if own == nil || !slices.Contains(t.Owners, *own) {
			return false
		}
	}
	return true
}

// inside says whether a resource is the one at an address, or stands inside it; the address of none holds all.
func (o *oracle) inside(s spot, a estate.Address) bool {
	if a.System == "" || a.Path == "" {
		return a.System == "" || a.System == s.system.ID
	}
	path := strings.Split(a.Path, "/")
	same := func(a, b string) bool { return a == b || o.e.Kinds[s.system.Kind.ID].Fold && strings.EqualFold(a, b) }
	return a.System == s.system.ID && len(s.path) >= len(path) && slices.EqualFunc(s.path[:len(path)], path, same)
}

func (o *oracle) owns(p estate.Principal, s spot) bool {
	own := o.owner(s)
	return own != nil && (*own == p || own.Kind == estate.IsGroup && o.inGroup(p, own.ID))
}

func (o *oracle) holds(c *estate.Condition, s setting, x concrete) bool {
	if c == nil {
		return true
	}
	is := func(want *bool, got bool) bool { return want == nil || *want == got }
	ok := is(c.Owner, s.owns)
	for _, t := range c.Facts {
		if t.Fact == "signed-in-within" {
			ok = ok && recent(t.Values, x.ago)
			continue
		}
		said := map[string]string{"sign-in": x.signIn}
		for name, yes := range map[string]bool{"mfa": x.mfa, "reason": x.reason, "ticket": x.ticket} {
			said[name] = map[bool]string{true: "yes", false: "no"}[yes]
		}
		ok = ok && slices.Contains(t.Values, said[t.Fact])
	}
	if len(c.Network) > 0 {
		found := false
		for _, n := range c.Network {
			found = found || n.Contains(x.from)
		}
		ok = ok && found
	}
	if len(c.Hours) > 0 {
		local := time.UnixMicro(x.at).In(o.zone)
		day, minute := (int(local.Weekday())+6)%7, local.Hour()*60+local.Minute()
		found := false
		for _, h := range c.Hours {
			if h.From < h.To {
				found = found || h.Days[day] && minute >= h.From && minute < h.To
			} else {
				found = found || h.Days[day] && minute >= h.From || h.Days[(day+6)%7] && minute < h.To
			}
		}
		ok = ok && found
	}
	for _, m := range c.Context {
		v, has := x.attrs[m.Key]
		ok = ok && has && slices.Contains(m.Values, v)
	}
	mine, its := s.who.Tags, s.tags
	for _, m := range c.Subject {
		v := tagOf(mine, m.Key)
		ok = ok && v != "" && slices.Contains(m.Values, v)
	}
	for _, m := range c.Resource {
		ok = ok && its[m.Key] != "" && slices.Contains(m.Values, its[m.Key])
	}
	for _, k := range c.Same {
		ok = ok && its[k] != "" && its[k] == tagOf(mine, k)
	}
	if len(c.Any) > 0 {
		found := false
		for i := range c.Any {
			found = found || o.holds(&c.Any[i], s, x)
		}
		ok = ok && found
	}
	return ok && (c.Not == nil || !o.holds(c.Not, s, x))
}

func (o *oracle) within(starts, ends *estate.Moment, at int64) bool {
	if starts == nil && ends == nil {
		return true
	}
	year, month, day := time.UnixMicro(at).In(o.zone).Date()
	today := year*10000 + int(month)*100 + day
	date := func(m *estate.Moment) int { return m.Date.Year*10000 + m.Date.Month*100 + m.Date.Day }
	if starts != nil && (starts.IsDate && today < date(starts) || !starts.IsDate && at < int64(starts.Instant)) {
		return false
	}
	return ends == nil || ends.IsDate && today <= date(ends) || !ends.IsDate && at < int64(ends.Instant)
}

// allowed judges one concrete context in one session; roles nil stands for all.
func (o *oracle) allowed(s setting, x concrete, roles []string) bool {
	if s.who.Status != "active" || !o.within(s.who.Starts, s.who.Ends, x.at) {
		return false
	}
	for _, a := range s.who.Away {
		if o.within(a.Starts, a.Ends, x.at) {
			return false
		}
	}
	for _, b := range s.blocks {
		if o.within(b.Starts, b.Ends, x.at) && o.holds(b.When, s, x) {
			return false
		}
	}
	for _, g := range s.grants {
		if !o.within(g.Starts, g.Ends, x.at) || !o.holds(g.When, s, x) {
			continue
		}
		if g.OnRequest != nil && !slices.ContainsFunc(o.elevations, func(el estate.Elevation) bool {
			return el.Grant == g.ID && el.Subject == s.p && x.at >= int64(el.From) && x.at < int64(el.To) &&
				o.inside(s.at, el.Within)
		}) {
			continue
		}
		for _, ref := range g.Roles {
			if (roles == nil || slices.Contains(roles, ref.ID)) && o.roleHas(ref.ID, s.op, x) {
				return true
			}
		}
	}
	return false
}

func (o *oracle) stands(id, forRole string) bool {
	if id == forRole {
		return true
	}
	return slices.ContainsFunc(o.e.Roles[id].Include, func(ref estate.Ref) bool { return o.stands(ref.ID, forRole) })
}

func (o *oracle) permitted(roles []string) bool {
	for _, sep := range o.e.Separations {
		if !sep.Session {
			continue
		}
		n := 0
		for _, ref := range sep.Roles {
			if slices.ContainsFunc(roles, func(id string) bool { return o.stands(id, ref.ID) }) {
				n++
			}
		}
		if n > sep.AtMost {
			return false
		}
	}
	return true
}

// sessions gives the possible sessions at a moment; ok is false where the named roles are an error.
func (o *oracle) sessions(p estate.Principal, named []string, at int64) (sets [][]string, ok bool) {
	held := map[string]bool{}
	all := map[string]bool{}
	for _, g := range o.e.Grants {
		if !o.memberOf(p, g.To) {
			continue
		}
		lent := slices.ContainsFunc(o.elevations, func(el estate.Elevation) bool {
			return el.Grant == g.ID && el.Subject == p && at >= int64(el.From) && at < int64(el.To)
		})
		for _, ref := range g.Roles {
			all[ref.ID] = true
			role := o.e.Roles[ref.ID]
			if (g.OnRequest == nil || lent) && o.within(g.Starts, g.Ends, at) && o.within(role.Starts, role.Ends, at) {
				held[ref.ID] = true
			}
		}
	}
	if len(named) > 0 {
		for _, id := range named {
			if !all[id] {
				return nil, false
			}
		}
		return [][]string{named}, o.permitted(named)
	}
	var roles []string
	for id := range held {
		roles = append(roles, id)
	}
	if o.permitted(roles) {
		return [][]string{nil}, true
	}
	for bits := range 1 << len(roles) {
		var set []string
		for i, id := range roles {
			if bits>>i&1 == 1 {
				set = append(set, id)
			}
		}
		if !o.permitted(set) {
			continue
		}
		largest := true
		for i, id := range roles {
			largest = largest && (bits>>i&1 == 1 || !o.permitted(append(slices.Clone(set), id)))
		}
		if largest {
			sets = append(sets, append([]string{}, set...))
		}
	}
	return sets, true
}
