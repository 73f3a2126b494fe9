package postgres

import (
	"context"
	"crypto/tls"
	"errors"
	"slices"
	"strings"

	"hiddengate/internal/pgaddress"
	"hiddengate/internal/target"
)

// person is somebody who has signed in, with the database as they read it.
type person struct {
	*system
	was     *snapshot
	account string
}

// signIn signs in as somebody with a certificate. The server asks for it within TLS, which every connection has
// therefore.
func signIn(ctx context.Context, to target.Connection, who target.Identity) (target.Person, error) {
	config, err := pgaddress.Read(to.At, "")
	if err != nil {
		return nil, err
	}
	if strings.HasPrefix(config.Host, "/") {
		return nil, errors.New("the database is reached by a socket, which asks for no certificate: connect to its host")
	}
	if config.TLSConfig == nil {
		return nil, errors.New("the address says that there is no TLS (sslmode), and without it nobody shows a certificate")
	}
	pair, err := tls.X509KeyPair(who.Certificate, who.Key)
	if err != nil {
		return nil, errors.New("the key and the certificate cannot be used together")
	}
	config.User, config.TLSConfig.Certificates = who.Account, []tls.Certificate{pair}
	config.Fallbacks = nil // without TLS, or as the address says otherwise
	s, err := open(ctx, to, config)
	if err != nil {
		return nil, err
	}
	is, err := s.Read(ctx)
	if err != nil {
		s.Close()
		return nil, err
	}
	return &person{s, is.(*snapshot), who.Account}, nil
}

// Try asks as a probe does. What a row policy tells apart is not tried: no statement tells without rows.
func (p *person) Try(ctx context.Context, operation string, at target.Place) (out target.Tried, err error) {
	place := slices.IndexFunc(p.was.state.Places, func(is target.Place) bool {
		return is.Path == at.Path && is.Type == at.Type
	})
	native := nativeOf(operation, at.Type)
	if place < 0 || native < 0 || p.was.objects[place].guarded && natives[native].OnRows {
		return target.NotTried, nil
	}
	q := target.Question{Holder: &target.Holder{Account: p.account}, Operation: operation, Place: place}
	_, err = p.askAs(ctx, p.was, []target.Question{q}, func(a target.Answer) bool {
		out = map[bool]target.Tried{true: target.Allowed, false: target.Refused}[a.Allowed]
		return true
	})
	return out, err
}
