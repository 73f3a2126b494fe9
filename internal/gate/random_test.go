package gate_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// draw makes up estates that use every notation. The same seed gives the same estate.
type draw struct {
	*rand.Rand
	plain  bool // no condition asks about tags
	recent bool // some ask how long ago the subject signed in, which takes the oracle long
}

func newDraw(seed uint64) draw {
	return draw{Rand: rand.New(rand.NewPCG(seed, 7)), recent: seed%4 == 0}
}

func (d draw) one(of ...string) string { return of[d.IntN(len(of))] }

func (d draw) chance(percent int) bool { return d.IntN(100) < percent }

// some picks between least and most of the texts, in any order, and joins them.
func (d draw) some(least, most int, of ...string) string {
	n := least + d.IntN(most-least+1)
	var out []string
	for _, i := range d.Perm(len(of))[:min(n, len(of))] {
		out = append(out, of[i])
	}
	return "[" + strings.Join(out, ", ") + "]"
}

var (
	drawnPeople  = []string{"ana", "bo", "cai", "dee"}
	drawnGroups  = []string{"g0", "g1", "g2", "g3"}
	drawnRoles   = []string{"r0", "r1", "r2", "r3"}
	drawnSystems = []string{"db", "dbx", "app"}
	drawnPaths   = []string{"a", "a/b", "a/b/c", "d", "a%2Fb", "A/x"}
	drawnOps     = []string{"table.read", "table.drop", "session.open", "server.stop", "role.assign", "backup.view",
		"content.edit", "thing.turn", "thing.hide"}
	drawnDates = []string{"2026-10-24", "2026-10-25", "2027-03-27", "2027-03-28"}
	drawnTimes = []string{"2026-10-24T23:30:00Z", "2026-10-25T00:30Z", "2026-10-25T01:30:00.5Z", "2027-03-28T02:00",
		"2027-03-27T23:30-01:00", "2026-12-05T12:00"}
	drawnNets  = []string{"10.0.0.0/8", "10.40.0.0/16", "2001:db8::/32", "0.0.0.0/0", "10.40.3.7/32"}
	drawnHours = []string{"daily 17:00-08:00", "mon-fri 07:00-19:00", "sun 00:00-01:00", "sat-mon 23:00-24:00",
		"00:30-02:00", `"wed,fri 00:00-24:00"`, "sun 22:00-00:30"}
)

func (d draw) estate() string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("hidden-gate: 1")
	line("edition: 2")
	line("timezone: %s", d.one("Atlantic/Azores", "Atlantic/Azores", "UTC", "America/St_Johns"))
	line("catalogs:")
	line("  widget: {based-on: application, types: [application, widget], named: {a: area, d: account}, " +
		"inside: {area: widget}, operations: {thing.turn: {level: change, " +
		"types: [widget]}, thing.hide: {level: use}}}")
	line("  folded: {case: fold, types: [top, sub], named: {A: top}, inside: {top: sub}, " +
		"operations: {thing.fold: {level: view}}}")
	line("systems:")
	kinds := map[string]string{"db": "database", "dbx": d.one("database", "folded"), "app": d.one("widget", "application")}
	for _, s := range drawnSystems {
		line("  %s:", s)
		line("    kind: %s", kinds[s])
		line("    unlisted: %s", d.one("judge", "refuse"))
		if d.chance(60) {
			line("    tags: %s", d.tags())
		}
		if d.chance(40) {
			line("    owner: %s", d.one("ana", "group:g1", "service:bot"))
		}
		line("    resources:")
		for _, i := range d.Perm(len(drawnPaths))[:1+d.IntN(4)] {
			line("      %q: {%s}", drawnPaths[i], d.resource(kinds[s]))
		}
	}
	line("people:")
	for _, p := range drawnPeople {
		line("  %s: {tags: %s, status: %s%s%s}", p, d.tags(),
			d.one("active", "active", "active", "active", "active", "active", "active", "suspended"), d.dates(12), d.away())
	}
	line("services: {bot: {tags: %s}}", d.tags())
	line("groups:")
	for i, g := range drawnGroups {
		line("  %s:", g)
		line("    members: %s", d.subjects(i, true))
		if d.chance(40) {
			line("    match: {team: %s}", d.one("x", "[x, y]"))
		}
	}
	line("roles:")
	for i, r := range drawnRoles {
		include := ""
		if i > 0 && d.chance(50) {
			include = "include: " + d.some(1, 2, drawnRoles[:i]...) + ", "
		}
		dates := d.dates(12)
		if d.recent && d.chance(20) {
			dates += ", signed-in-within: " + d.one("15m", "1h")
		}
		line("  %s: {%sallow: %s%s}", r, include, d.operations(), dates)
	}
	line("scopes:")
	for i := range 3 {
		line("  s%d: %s", i, d.places(i))
	}
	line("grants:")
	for i := range 4 + d.IntN(6) {
		line("  grant%d: {to: %s, roles: %s, on: %s%s%s%s}", i, d.subjects(len(drawnGroups), false),
			d.some(1, 2, drawnRoles...), d.places(3), d.when(60), d.dates(12),
			d.one("", "", "", ", on-request: {longest: 4h, approvers: ana}"))
	}
	line("blocks:")
	for i := range d.IntN(4) {
		to := ""
		if d.chance(60) {
			to = "to: " + d.subjects(len(drawnGroups), false) + ", "
		}
		line("  block%d: {%sdeny: %s, on: %s%s%s}", i, to, d.operations(), d.places(3), d.when(70), d.dates(25))
	}
	line("  last: {deny: [table.drop], on: db:nowhere}")
	if d.chance(50) {
		line("separations: {apart: {roles: %s, within: session}}", d.some(2, 3, drawnRoles...))
	}
	return b.String()
}

// away draws times in which somebody is away, mostly none.
func (d draw) away() string {
	if !d.chance(12) {
		return ""
	}
	return ", away: [{starts: " + d.one("2026-10-25", "2026-10-24T23:30:00Z") + ", ends: " +
		d.one("2026-12-05", "2027-03-28T02:00") + "}]"
}

func (d draw) tags() string {
	return fmt.Sprintf("{team: %s, env: %s}", d.one("x", "y", `""`, "yes"), d.one("x", "prod", "1"))
}

func (d draw) resource(kind string) string {
	var parts []string
	if d.chance(50) {
		parts = append(parts, "tags: "+d.tags())
	}
	if d.chance(50) {
		parts = append(parts, "owner: "+d.one("bo", "group:g0", `""`))
	}
	if kind == "database" && d.chance(30) {
		parts = append(parts, "type: "+d.one("view", "schema", "function"))
	}
	if kind == "widget" && d.chance(30) {
		parts = append(parts, "type: "+d.one("widget", "area"))
	}
	return strings.Join(parts, ", ")
}

func (d draw) dates(percent int) string {
	out := ""
	if d.chance(percent) {
		out += ", starts: " + d.one(append(drawnDates, drawnTimes...)...)
	}
	if d.chance(percent) {
		out += ", ends: " + d.one(append(drawnDates, drawnTimes...)...)
	}
	return out
}

func (d draw) subjects(groups int, members bool) string {
	pool := append([]string{"service:bot", "person:cai", "everyone", "anonymous", "not bo", "not service:bot"},
		drawnPeople...)
	for _, g := range drawnGroups[:groups] {
		pool = append(pool, "group:"+g, "group:"+g, "not group:"+g)
	}
	list := d.some(1, 3, pool...)
	return strings.Replace(list, "[", "["+d.one("ana", "bo", "everyone")+", ", 1)
}

func (d draw) operations() string {
	pool := append([]string{"all", "only change", "only view", "up to use", "from change", "from govern", "table.*",
		`"*.view"`, "not table.drop", "not from govern", `not "t*.r*d"`}, drawnOps...)
	return strings.Replace(strings.ReplaceAll(d.some(1, 3, pool...), `not "t*.r*d"`, "not t*.r*d"), "[",
		"["+d.one(append(drawnOps, "all", "all", "up to change", "up to change", "from use")...)+", ", 1)
}

func (d draw) places(scopes int) string {
	pool := []string{"db", "dbx", "app:a", "db:a/b", `"*:**/b"`, `"db*"`, `"*:a*/*"`, "everything", "not db:a", "not app",
		"{in: db, type: [table, schema]}", "{kind: application}", "{tags: {team: [x, y]}}", "{owner: ana}",
		"{owner: [group:g0, bo]}",
		`{in: "*:a", exactly: true}`, "{not: {tags: {env: prod}}}", "{not: {type: table}}", "dbx:A/X", "db:a%2fb", `"db:**"`}
	for i := range scopes {
		pool = append(pool, fmt.Sprintf("scope:s%d", i), fmt.Sprintf("not scope:s%d", i))
	}
	return strings.Replace(d.some(0, 3, pool...), "[", "["+d.one("db", "everything", "app", "dbx")+", ", 1)
}

func (d draw) when(percent int) string {
	if !d.chance(percent) {
		return ""
	}
	return ", when: " + d.condition(2)
}

func (d draw) condition(depth int) string {
	pool := []string{
		"mfa: " + d.one("true", "false"),
		"sign-in: " + d.some(1, 4, "password", "passkey", "certificate", "key", "token"),
		"network: " + d.some(1, 2, drawnNets...),
		"hours: " + d.some(1, 2, drawnHours...),
		"reason: " + d.one("true", "false"),
		"ticket: true",
		"context: {device: " + d.some(1, 2, "managed", "own", `""`) + "}",
		"subject: {team: [x, yes]}",
		"resource: {env: " + d.one("prod", `["1", x]`) + "}",
		"same: " + d.one("team", "[team, env]"),
		"owner: " + d.one("true", "false"),
	}
	if d.recent {
		pool = append(pool, "signed-in-within: "+d.one("15m", "1h", "8h"))
	}
	if d.plain {
		pool = slices.DeleteFunc(pool,
			func(c string) bool { return strings.Contains(c, "team") || strings.Contains(c, "env") })
	}
	if depth > 0 {
		pool = append(pool, "not: "+d.condition(depth-1), "not: "+d.condition(depth-1),
			"any: ["+d.condition(depth-1)+", "+d.condition(depth-1)+"]")
	}
	list := d.some(1, 3, pool...)
	list = strings.TrimSuffix(strings.TrimPrefix(list, "["), "]")
	if strings.Count(list, "not: ") > 1 { // a key may stand once
		return "{" + d.one("mfa: true", "owner: false") + "}"
	}
	return "{" + list + "}"
}
