package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/credential"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/target"
	"hiddengate/internal/view"
)

func (a *app) credentialTest() *cobra.Command {
	c := &cobra.Command{
		Use: "test DIR", Short: "Sign in with a bundle, and try what its holder may do and may not",
		Long: `Signs in to the real system with nothing but what is in the bundle, and asks it what the tests of the
policy say of its holder there: what they may and what they may not. Then it asks for the rest of what
can be tried without doing it, and compares the answers with the policy. Where the system is reached
stands in your own settings.`,
		Example: "  hgate credential test ~/for-ines",
		Args:    takes(1, 1),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return nil, cobra.ShellCompDirectiveFilterDirs
		},
	}
	c.RunE = func(_ *cobra.Command, args []string) error {
		info, err := os.Lstat(args[0])
		if err != nil || !info.IsDir() {
			return outside{fmt.Errorf("%s is no folder", args[0])}
		}
		root, err := os.OpenRoot(args[0]) // links in it lead nowhere else
		if err != nil {
			return outside{err}
		}
		defer root.Close()
		b, err := credential.ReadBundle(root.FS())
		if err != nil {
			return &draft.Error{Message: fmt.Sprintf("%s is no bundle: %s", args[0], err)}
		}
		return a.tryBundle(b)
	}
	a.formats(c, "text", "json")
	return c
}

// attempt is something that is tried, and what should come of it.
type attempt struct {
	operation string
	place     *estate.Resource
	allowed   bool
	test      string // that says so; "" for the policy itself
	got       target.Tried
}

func (t *attempt) agrees() bool {
	return t.got == target.NotTried || (t.got == target.Allowed) == t.allowed
}

func (a *app) tryBundle(b *credential.Bundle) error {
	dir, err := a.folder()
	if err != nil {
		return err
	}
	op, err := operator(dir)
	if err != nil {
		return settled(err)
	}
	c, err := a.carriedBy(b.System, op.Systems[b.System])
	if err != nil {
		return err
	}
	who, err := estate.ParsePrincipal(b.Subject)
	if err != nil || c.gate.Estate().Subject(who) == nil {
		return &draft.Error{Message: fmt.Sprintf("the policy knows no %s", b.Subject)}
	}
	switch {
	case c.reach == nil:
		return &draft.Error{Message: fmt.Sprintf("your settings do not say how %s is reached", c.id), Help: c.howToConnect()}
	case c.driver.SignIn == nil:
		return &draft.Error{Message: fmt.Sprintf("the driver %s signs in as nobody with a certificate", c.driver.Name)}
	}
	attempts, err := a.attempts(c, who)
	if err != nil {
		return err
	}
	done := a.progress("trying " + b.System)
	defer done()
	to := target.Connection{System: c.id, At: c.reach.At, Listed: inventoryState(c.gate, c.id).Places}
	person, err := c.driver.SignIn(a.ctx, to,
		target.Identity{Account: b.Account, Key: b.Key, Certificate: b.Certificate})
	if err != nil {
		p := a.page(a.Out)
		p.Line("%s", p.Paint(view.No, fmt.Sprintf("%s does not let %s in: %s", b.System, b.Account, firstLineOf(err))))
		return answered(exitNo)
	}
	defer person.Close()
	for _, t := range attempts {
		at := target.Place{Path: t.place.Address.Path, Type: t.place.Type}
		if t.got, err = person.Try(a.ctx, t.operation, at); err != nil {
			return outside{err}
		}
	}
	done()
	return a.triedText(b, attempts)
}

func firstLineOf(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

// mostAttempts bounds what is tried beside the tests.
const mostAttempts = 2000

// attempts lists what is tried: what the tests say of somebody in a system, and the rest that the policy answers
// whatever else a request says.
func (a *app) attempts(c *carrying, who estate.Principal) (out []*attempt, err error) {
	e := c.gate.Estate()
	known := map[string]bool{}
	key := func(o *estate.Operation, r *estate.Resource) string { return o.Name + " " + r.Address.String() }
	var places []*estate.Resource
	first := e.Tree.Find(c.id)
	for i := first; i < e.Tree.End(first); i++ {
		places = append(places, e.Tree.At(i))
	}
	add := func(t *estate.Test, list []estate.Selection, allowed bool) {
		for _, s := range list {
			for _, r := range places {
				if !c.gate.Covers(estate.Resources{s.Place}, r) {
					continue
				}
				for _, o := range e.Offer(r.System.Kind.ID).On(r.Type) {
					if s.Operation.Fits(o, e.Edition) && !known[key(o, r)] {
						known[key(o, r)] = true
						out = append(out, &attempt{operation: o.Name, place: r, allowed: allowed, test: t.ID})
					}
				}
			}
		}
	}
	for _, t := range estate.Sorted(e.Tests) {
		given := t.Given.Time != nil || len(t.Given.Facts)+len(t.Given.Context)+len(t.Given.Roles) > 0
		if !given && c.gate.Selects(t.Who, who) { // what a test takes as given nobody brings along here
			add(t, t.Allowed, true)
			add(t, t.Denied, false)
		}
	}
	ctx := c.gate.NewContext()
	ctx.Time(c.at)
	ctx.Say(estate.FactNamed("sign-in"), "certificate")
	for _, r := range places {
		for _, o := range e.Offer(r.System.Kind.ID).On(r.Type) {
			if known[key(o, r)] || len(out) >= mostAttempts {
				continue
			}
			outcome, err := c.gate.Decide(
				gate.Request{Subject: who, Operation: o.Name, Resource: r.Address.String(), Context: ctx},
			)
			if err == nil && outcome != gate.Depends {
				out = append(out, &attempt{operation: o.Name, place: r, allowed: outcome == gate.Allow})
			}
		}
	}
	return out, nil
}

func (a *app) triedText(b *credential.Bundle, attempts []*attempt) error {
	asked, wrong := 0, 0
	var rows [][]view.Cell
	objects := []object{}
	words := map[bool]string{true: "allowed", false: "refused"}
	for _, t := range attempts {
		if t.got == target.NotTried {
			continue
		}
		asked++
		if !t.agrees() {
			wrong++
		}
		says := "the policy"
		if t.test != "" {
			says = "test " + t.test
		}
		objects = append(objects, object{{"operation", t.operation}, {"resource", t.place.Address.String()},
			{"system", words[t.got == target.Allowed]}, {"expected", words[t.allowed]}, {"test", t.test}})
		if t.agrees() && t.test == "" {
			continue
		}
		style, remark := view.Yes, "as "+says+" says"
		if !t.agrees() {
			style, remark = view.No, says+" says that it is "+words[t.allowed]
		}
		rows = append(rows, []view.Cell{{Text: words[t.got == target.Allowed], Style: style}, {Text: t.operation},
			{Text: t.place.Address.String()}, {Text: remark, Style: view.Faint}})
	}
	if a.format == "json" {
		if err := a.json(object{{"subject", b.Subject}, {"system", b.System}, {"asked", asked}, {"agreed", asked - wrong},
			{"tries", objects}}); err != nil {
			return err
		}
	} else {
		p := a.page(a.Out)
		p.Line("%s", p.Paint(view.Yes, fmt.Sprintf("%s lets %s in as %s.", b.System, b.Subject, b.Account)))
		style := view.Yes
		if wrong > 0 {
			style = view.No
		}
		p.Line("%s", p.Paint(style, fmt.Sprintf("%d of %s as the tests and the policy say.", asked-wrong,
			count(asked, "answer")+map[bool]string{true: " is", false: " are"}[asked == 1])))
		if len(rows) > 0 {
			p.Line("")
			p.Table(2, nil, rows)
		}
	}
	if wrong > 0 || asked == 0 {
		return answered(exitNo)
	}
	return nil
}
