package simulated

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"slices"

	"hiddengate/internal/standin/web"
	"hiddengate/internal/target"
)

// person is somebody who has signed in with a certificate.
type person struct {
	kind   *kind
	client *webClient
}

// signIn signs in as somebody with a certificate.
func (k *kind) signIn(ctx context.Context, to target.Connection, who target.Identity) (target.Person, error) {
	u, err := url.Parse(to.At)
	if err != nil {
		return nil, errors.New("the address of the stand-in cannot be read")
	}
	u.User = url.User(who.Account)
	to.At, to.Secret = u.String(), string(who.Certificate)+string(who.Key)
	c, err := reachWeb(ctx, to, byCertificate)
	if err != nil {
		return nil, err
	}
	var reply web.Reply
	if err := c.send(ctx, http.MethodGet, "/whoami", nil, &reply); err != nil {
		c.close()
		return nil, err
	}
	return &person{k, c}, nil
}

func (p *person) Close() { p.client.close() }

// Try has the stand-in tell whether it would do what stands for an operation.
func (p *person) Try(ctx context.Context, operation string, at target.Place) (target.Tried, error) {
	command := p.kind.commands[operation]
	if command == nil || !slices.Contains(command.On, at.Type) {
		return target.NotTried, nil
	}
	path := at.Path
	if path == "" {
		path = "."
	}
	text, err := json.Marshal(map[string]any{"line": p.kind.line(operation, path), "try": true})
	if err != nil {
		return target.NotTried, err
	}
	var reply web.Reply
	err = p.client.send(ctx, http.MethodPost, "/do", text, &reply)
	if refused := refusal(""); errors.As(err, &refused) {
		return target.Refused, nil
	}
	if err != nil {
		return target.NotTried, err
	}
	return target.Allowed, nil
}
