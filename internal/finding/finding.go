// Package finding holds what `check` reports: one file for each finding, with its name, its page and its function.
package finding

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/lending"
	"hiddengate/internal/parallel"
)

// Finding is one thing that `check` looks for.
type Finding struct {
	Code      string
	Severity  diagnostic.Severity // unless the workspace sets another
	Doc       string              // what it means
	Cure      string              // what to do
	find      func(*check)
	expensive bool // it decides for everybody, or goes through all resources again and again
}

// All lists the findings by code.
var All = []*Finding{
	anonymousUnblocked, approversMissing, clockDependentTest, credentialExpiring,
	credentialOutlivesAccess, defaultMembership, directGrant, dormant,
	emptyGroup, expired, farEnd,
	futureWide, governEverywhere,
	idsDifferByCase, idsLookAlike, invitationOpen, leftBehind, levelGap, loanOpenForReview,
	matchesNothing, missingNeed, networksOneFamily,
	neverInForce, noCertificateFits, noEnd, noSecondFactor, noSignIn,
	overCeiling, ownerGone, redundantGrant,
	reserveOnlyOwner, reserveUsed, roleFull, roleShort, secretInPolicy, separationBroken, shadowedGrant, sharedAccount,
	singleHolder,
	standingHighRisk, unacknowledged,
	unknownOperation, unlistedAddress, unusedRole, unusedScope, wayToMore,
}

// Found is a diagnostic that may be accepted.
type Found struct {
	diagnostic.Diagnostic
	Accepted string // why, if it is accepted
}

// check is one run: what is looked at, and what was found.
type check struct {
	ctx       context.Context
	estate    *estate.Estate
	about     *estate.Estate // the entries that are looked at; all of them, or a few
	gate      *gate.Gate
	now       clock.Instant
	loans     []*lending.Request      // that may matter now
	set       *lending.SignIns        // what people sign in with that was set here; nil for none
	over      func(*estate.Test) bool // tests whose results are passed over; nil: none
	finding   *Finding
	found     []Found
	heads     map[string][]*estate.Object                // of the sections that were asked for, by id
	sorted    map[estate.PrincipalKind][]*estate.Subject // the people and services, once somebody asks
	there     map[estate.Principal]bool                  // whether anybody active stands behind an owner
	listed    []namedList                                // once somebody asks for them
	granted   map[string]map[estate.Principal]bool       // who has a grant in a system, once somebody asks
	certified map[string]map[estate.Principal]bool       // who holds a certificate that leads into a system
	owning    map[string]map[estate.Principal]bool       // who owns anything in a system, once somebody asks
}

// Run looks for every finding as of now. Its error says that the context ended.
func Run(ctx context.Context, g *gate.Gate, now clock.Instant) ([]Found, error) {
	return RunWith(ctx, g, now, nil, nil)
}

// RunWith looks for every finding, what was lent and what people sign in with included.
func RunWith(ctx context.Context, g *gate.Gate, now clock.Instant, loans []*lending.Request,
	set *lending.SignIns) ([]Found, error) {
	return run(&check{ctx: ctx, estate: g.Estate(), about: g.Estate(), gate: g, now: now, loans: loans, set: set}, All)
}

// RunButFor looks for every finding but those about the results of tests that are passed over.
func RunButFor(ctx context.Context, g *gate.Gate, now clock.Instant, over func(*estate.Test) bool) ([]Found, error) {
	return run(&check{ctx: ctx, estate: g.Estate(), about: g.Estate(), gate: g, now: now, over: over}, All)
}

// RunAbout looks at a few entries of an estate alone, those that another estate has; it leaves out the findings that
// take long on a large estate, or need a gate that answers for everybody.
func RunAbout(ctx context.Context, g *gate.Gate, about *estate.Estate, now clock.Instant) ([]Found, error) {
	return run(&check{ctx: ctx, estate: g.Estate(), about: about, gate: g, now: now},
		slices.DeleteFunc(slices.Clone(All), func(f *Finding) bool { return f.expensive }))
}

// OfIDs looks for the findings about ids of a section alone.
func OfIDs(e *estate.Estate, section string, now clock.Instant) []Found {
	c := &check{ctx: context.Background(), estate: e, about: e, now: now}
	c.finding = idsDifferByCase
	differByCase(c, section)
	c.finding = idsLookAlike
	lookAlike(c, section)
	return c.found
}

func run(c *check, findings []*Finding) ([]Found, error) {
	var work parallel.Group
	beside := *c // which looks for what takes as long as all the rest
	if i := slices.Index(findings, missingNeed); i >= 0 && parallel.Workers() > 1 {
		beside.gate = c.gate.Fork()
		work.Go(func() { beside.look([]*Finding{missingNeed}) })
		findings = slices.Concat(findings[:i], findings[i+1:])
	}
	c.look(findings)
	work.Wait()
	if c.ctx.Err() != nil {
		return nil, context.Cause(c.ctx)
	}
	c.found = append(c.found, beside.found...)
	slices.SortStableFunc(c.found, func(a, b Found) int {
		if d := b.Severity - a.Severity; d != 0 {
			return int(d)
		}
		if d := strings.Compare(a.Code, b.Code); d != 0 {
			return d
		}
		return a.Position.Compare(b.Position)
	})
	return slices.Compact(c.found), nil
}

// look looks for some findings, until the context ends.
func (c *check) look(findings []*Finding) {
	for _, f := range findings {
		if c.ctx.Err() != nil {
			return
		}
		c.finding = f
		f.find(c)
	}
}

// section lists the entries of a section that are looked at, by id. A large estate has many people, and they are put in
// order once.
func (c *check) section(name string) []*estate.Object {
	if c.heads == nil {
		c.heads = map[string][]*estate.Object{}
	}
	out, known := c.heads[name]
	if !known {
		out = c.about.Section(name)
		c.heads[name] = out
	}
	return out
}

// people and services list those who are looked at, by id.
func (c *check) people() []*estate.Subject   { return c.inOrder(estate.IsPerson, c.about.People) }
func (c *check) services() []*estate.Subject { return c.inOrder(estate.IsService, c.about.Services) }

func (c *check) inOrder(kind estate.PrincipalKind, all map[string]*estate.Subject) []*estate.Subject {
	if c.sorted == nil {
		c.sorted = map[estate.PrincipalKind][]*estate.Subject{}
	}
	out, known := c.sorted[kind]
	if !known {
		out = estate.Sorted(all)
		c.sorted[kind] = out
	}
	return out
}

// report adds what was found about an entry, at a position in it.
func (c *check) report(o *estate.Object, at diagnostic.Position, format string, args ...any) {
	c.weigh(c.finding.Severity, o, at, format, args...)
}

// weigh reports with a severity of its own, which the workspace's setting still overrides.
func (c *check) weigh(s diagnostic.Severity, o *estate.Object, at diagnostic.Position, format string, args ...any) {
	if set, ok := c.estate.Severities[c.finding.Code]; ok {
		s = set
	}
	if s == diagnostic.Off {
		return
	}
	f := Found{Diagnostic: diagnostic.Diagnostic{
		Code: c.finding.Code, Severity: s, Message: fmt.Sprintf(format, args...), Help: c.finding.Cure, Position: at,
	}}
	if o != nil {
		for _, a := range o.Accept {
			if a.Finding == c.finding.Code && (a.Ends == nil || !a.Ends.OverAt(c.estate.Zone, c.now)) {
				f.Accepted = a.Why
			}
		}
	}
	c.found = append(c.found, f)
}

// named writes "grant crew-runs-domes".
func named(what string, o *estate.Object) string { return what + " " + o.ID }

// some writes a few names and how many more there are.
func some(names []string) string {
	return someOf(len(names), func(i int) string { return names[i] })
}

// mostNamed is how many names are written where there are more than one more.
const mostNamed = 3

// someOf is some where only the first four names are asked for.
func someOf(n int, name func(int) string) string {
	shown := n
	if n > mostNamed+1 {
		shown = mostNamed
	}
	names := make([]string, shown)
	for i := range names {
		names[i] = name(i)
	}
	text := strings.Join(names, ", ")
	if n > shown {
		text += fmt.Sprintf(" and %d more", n-shown)
	}
	return text
}

// sortedPrincipals lists the keys of a map, people first, by id.
func sortedPrincipals[T any](m map[estate.Principal]T) []estate.Principal {
	out := make([]estate.Principal, 0, len(m))
	for p := range m {
		out = append(out, p)
	}
	slices.SortFunc(out, estate.Principal.Compare)
	return out
}
