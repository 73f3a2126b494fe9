package simulated

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"

	"hiddengate/internal/standin"
	"hiddengate/internal/standin/application"
	"hiddengate/internal/standin/web"
	"hiddengate/internal/target"
)

// applicationClient speaks with an application, whose roles stand for teams.
type applicationClient struct {
	*webClient
	was application.Settings // as they were read last: it has what a policy says nothing of
}

func reachApplication(ctx context.Context, to target.Connection) (client, error) {
	c, err := reachWeb(ctx, to, byPassword)
	if err != nil {
		return nil, err
	}
	return &applicationClient{webClient: c}, nil
}

func (c *applicationClient) read(ctx context.Context) (*view, error) {
	var is standin.View[*application.Settings]
	if err := c.send(ctx, http.MethodGet, "/settings", nil, &is); err != nil {
		return nil, err
	}
	out := &view{Revision: is.Revision, Places: is.Places}
	if is.Settings == nil {
		return out, nil // which is told
	}
	c.was = *is.Settings
	out.Settings = accessOf(is.Settings)
	return out, nil
}

// accessOf writes the settings of an application as those of other stand-ins.
func accessOf(s *application.Settings) *standin.Access {
	out := &standin.Access{
		Accounts:  map[string]*standin.Account{},
		Teams:     map[string]*standin.Team{},
		Everybody: s.Everybody,
	}
	for name, r := range s.Roles {
		if r != nil {
			out.Teams[name] = &standin.Team{Note: r.Note, Permits: r.Permits, Limits: r.Limits}
		}
	}
	for name, a := range s.Accounts {
		if a == nil {
			continue
		}
		out.Accounts[name] = &standin.Account{Note: a.Note, Ends: a.Ends, Locked: a.Locked, Keeper: a.Keeper,
			Limits: a.Limits}
		for _, role := range a.Roles {
			if t := out.Teams[role]; t != nil && !slices.Contains(t.Members, name) {
				t.Members = append(t.Members, name)
			}
		}
	}
	for _, t := range out.Teams {
		slices.Sort(t.Members)
	}
	return out
}

func (c *applicationClient) replace(ctx context.Context, next *replacement) error {
	var x standin.Access
	if err := json.Unmarshal(next.Settings, &x); err != nil {
		return err
	}
	s := &application.Settings{Accounts: map[string]*application.Account{}, Roles: map[string]*application.Role{},
		Everybody: x.Everybody}
	for name, a := range x.Accounts {
		s.Accounts[name] = &application.Account{Note: a.Note, Ends: a.Ends, Locked: a.Locked, Keeper: a.Keeper,
			Limits: a.Limits}
		if is := c.was.Accounts[name]; is != nil {
			s.Accounts[name].Factor = is.Factor
		}
	}
	for name, t := range x.Teams {
		s.Roles[name] = &application.Role{Note: t.Note, Permits: t.Permits, Limits: t.Limits}
		for _, account := range t.Members {
			s.Accounts[account].Roles = append(s.Accounts[account].Roles, name)
		}
	}
	for _, a := range s.Accounts {
		slices.Sort(a.Roles)
	}
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	told := *next
	told.Settings = text
	return c.webClient.replace(ctx, &told)
}

// Equip gives an account a second factor, or takes it away.
func (s *system) Equip(ctx context.Context, account, secret string, recovery []string) error {
	c, ok := s.client.(*applicationClient)
	if !ok {
		return errors.New("it asks for no second factor")
	}
	text, err := json.Marshal(application.Equipped{Account: account, Secret: secret, Recovery: recovery})
	if err != nil {
		return err
	}
	var reply web.Reply
	return c.send(ctx, http.MethodPut, "/second-factors", text, &reply)
}
