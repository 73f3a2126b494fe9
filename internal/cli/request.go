package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
)

// circumstances are the flags with which a command says how a request is made.
type circumstances struct {
	network, mfa, signIn, reason, ticket string
	context, roles                       []string
}

func (a *app) circumstances(c *cobra.Command) *circumstances {
	s := &circumstances{}
	a.moment(c)
	f := c.Flags()
	f.StringVar(&s.network, "network", "", "the `address` it comes from")
	f.StringVar(&s.mfa, "mfa", "", "with a second factor: yes or no")
	f.StringVar(&s.signIn, "sign-in", "", "how the subject signed in: "+strings.Join(estate.SignIns, ", "))
	f.StringVar(&s.reason, "reason", "", "the reason it carries; an empty one is none")
	f.StringVar(&s.ticket, "ticket", "", "the ticket it carries; an empty one is none")
	f.StringArrayVar(&s.context, "context", nil, "an attribute of the request, as `key=value`; may be repeated")
	f.StringArrayVar(&s.roles, "role", nil, "a `role` that the session names; may be repeated")
	_ = c.RegisterFlagCompletionFunc("mfa", cobra.FixedCompletions([]string{"yes", "no"}, cobra.ShellCompDirectiveNoFileComp))
	_ = c.RegisterFlagCompletionFunc("sign-in", cobra.FixedCompletions(policyfile.Words("given", "sign-in"), cobra.ShellCompDirectiveNoFileComp))
	_ = c.RegisterFlagCompletionFunc("role", a.completeSection("roles"))
	return s
}

// build makes the context that the flags describe, and writes it in words.
func (s *circumstances) build(a *app, c *cobra.Command, g *gate.Gate) (*gate.Context, string, error) {
	ctx := g.NewContext()
	var said []string
	at, open, err := a.instant(g.Estate().Zone)
	if err != nil {
		return nil, "", err
	}
	if open {
		said = append(said, "at any time")
	} else {
		ctx.Time(at)
		said = append(said, "at "+g.Estate().Zone.Format(at))
	}
	if s.network != "" {
		addr, err := estate.ParseAddr(s.network)
		if err != nil {
			return nil, "", fmt.Errorf("--network: %w", err)
		}
		ctx.Network(addr)
		said = append(said, "from "+addr.String())
	}
	switch s.mfa {
	case "":
	case "yes", "no":
		ctx.MFA(s.mfa == "yes")
		said = append(said, map[string]string{"yes": "with a second factor", "no": "without a second factor"}[s.mfa])
	default:
		return nil, "", fmt.Errorf("--mfa %s: write yes or no", s.mfa)
	}
	if s.signIn != "" {
		if !slices.Contains(estate.SignIns, s.signIn) {
			return nil, "", fmt.Errorf("--sign-in %s: the ways to sign in are %s", s.signIn, strings.Join(estate.SignIns, ", "))
		}
		ctx.SignIn(s.signIn)
		said = append(said, "signed in by "+s.signIn)
	}
	carried := func(name, text string, set func(bool)) {
		if c.Flags().Changed(name) {
			set(text != "")
			said = append(said, map[bool]string{true: "with", false: "without"}[text != ""]+" a "+name)
		}
	}
	carried("reason", s.reason, ctx.Reason)
	carried("ticket", s.ticket, ctx.Ticket)
	for _, pair := range s.context {
		key, value, found := strings.Cut(pair, "=")
		if !found {
			return nil, "", fmt.Errorf("--context %s: write key=value", pair)
		}
		if err := estate.CheckAttribute(key); err != nil {
			return nil, "", fmt.Errorf("--context: %w", err)
		}
		ctx.Attribute(key, value)
		said = append(said, key+" "+value)
	}
	for _, id := range s.roles {
		if g.Estate().Roles[id] == nil {
			return nil, "", unknown("role", id, ids(g.Estate().Section("roles")))
		}
		ctx.Roles = append(ctx.Roles, id)
	}
	if len(s.roles) > 0 {
		said = append(said, "in a session as "+strings.Join(s.roles, " and "))
	}
	return ctx, strings.Join(said, ", "), nil
}
