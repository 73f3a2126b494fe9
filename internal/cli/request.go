package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// circumstances are the flags with which a command says how a request is made.
type circumstances struct {
	facts          map[string]*string // by name
	context, roles []string
}

func (a *app) circumstances(c *cobra.Command) *circumstances {
	s := &circumstances{facts: map[string]*string{}}
	a.moment(c)
	f := c.Flags()
	for _, fact := range estate.Facts {
		s.facts[fact.Name] = f.String(fact.Name, "", fact.Flag)
		words := fact.Words
		if fact.Kind == estate.YesNo {
			words = []string{estate.Yes, estate.No}
		}
		if words != nil {
			_ = c.RegisterFlagCompletionFunc(fact.Name, cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp))
		}
	}
	f.StringArrayVar(&s.context, "context", nil, "an attribute of the request, as `key=value`; may be repeated")
	f.StringArrayVar(&s.roles, "role", nil, "a `role` that the session names; may be repeated")
	_ = c.RegisterFlagCompletionFunc("role", a.completeSection("roles"))
	return s
}

// given names one of the flags that was given; "" if none was. --at is none of them.
func (s *circumstances) given(c *cobra.Command) string {
	names := []string{"context", "role"}
	for _, fact := range estate.Facts {
		names = append(names, fact.Name)
	}
	return givenOf(c, names...)
}

// givenOf names one of some flags that was given; "" if none was.
func givenOf(c *cobra.Command, names ...string) string {
	for _, name := range names {
		if c.Flags().Changed(name) {
			return name
		}
	}
	return ""
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
	for _, fact := range estate.Facts {
		text := *s.facts[fact.Name]
		if !c.Flags().Changed(fact.Name) || text == "" && fact.Kind != estate.Carried {
			continue
		}
		value, err := fact.Parse(text)
		if err != nil {
			return nil, "", fmt.Errorf("--%s: %w", fact.Name, err)
		}
		ctx.Say(fact, value)
		said = append(said, fact.Say(value))
	}
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
