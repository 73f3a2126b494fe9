package linux

import (
	"bytes"
	"context"
	"errors"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"hiddengate/internal/sshreach"
	"hiddengate/internal/target"
)

// person is somebody who has signed in.
type person struct {
	client *ssh.Client
	shell  bool   // they have a command line, and not one command alone
	forced string // the command that their certificate lets them run; "": any
}

// echo is what somebody who has a command line can have said.
const echo = "hgate is here"

// patience is how long a try may take; an application that still runs by then was opened.
const patience = 10 * time.Second

// signIn signs in as somebody with a key and its certificate.
func signIn(ctx context.Context, to target.Connection, who target.Identity) (target.Person, error) {
	at, err := sshreach.Read(to.At)
	if err != nil {
		return nil, err
	}
	at.User = who.Account
	client, err := sshreach.DialCertified(ctx, at, who.Key, who.Certificate)
	if err != nil {
		return nil, err
	}
	p := &person{client: client}
	if public, _, _, _, err := ssh.ParseAuthorizedKey(who.Certificate); err == nil {
		if cert, ok := public.(*ssh.Certificate); ok {
			p.forced = cert.CriticalOptions["force-command"]
		}
	}
	said, err := p.run(ctx, "printf %s "+quote(echo))
	p.shell = err == nil && said == echo
	return p, nil
}

func (p *person) Close() { p.client.Close() }

// run runs a command, and gives what it prints.
func (p *person) run(ctx context.Context, command string) (string, error) {
	s, err := p.client.NewSession()
	if err != nil {
		return "", err
	}
	defer s.Close()
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { s.Close() })
	defer stop()
	out := &bounded{}
	s.Stdin, s.Stdout, s.Stderr = bytes.NewReader(nil), out, &bounded{}
	err = s.Run(command)
	return out.String(), err
}

// Try asks the server's own commands. Whoever has one command alone opens the application with it, and does nothing
// else.
func (p *person) Try(ctx context.Context, operation string, at target.Place) (target.Tried, error) {
	name := target.Unescaped(path.Base(at.Path))
	file, isFile := pathOf(at.Path)
	switch {
	case operation == "host.sign-in" && at.Type == "host":
		return tried(p.shell), nil
	case operation == "application.open" && at.Type == "application" && unitName.MatchString(name):
		if p.shell {
			return p.answers(ctx, "test -x "+programsIn+"/"+name)
		}
		return p.opens(ctx, name)
	case operation == "file.read" && isFile && p.shell:
		return p.answers(ctx, "test -r "+quote(file))
	case operation == "file.write" && isFile && p.shell:
		return p.answers(ctx, "test -w "+quote(file))
	case (operation == "file.read" || operation == "file.write") && isFile:
		return target.Refused, nil
	}
	return target.NotTried, nil
}

func tried(done bool) target.Tried {
	if done {
		return target.Allowed
	}
	return target.Refused
}

// answers runs a command that says yes or no.
func (p *person) answers(ctx context.Context, command string) (target.Tried, error) {
	_, err := p.run(ctx, command)
	var exit *ssh.ExitError
	if err != nil && !errors.As(err, &exit) {
		return target.NotTried, err
	}
	return tried(err == nil), nil
}

// opens asks for an application, where one command opens it, whatever is asked for.
func (p *person) opens(ctx context.Context, name string) (target.Tried, error) {
	words := strings.FieldsFunc(p.forced, func(r rune) bool { return r == ' ' || r == ';' })
	if p.forced != "" && !slices.Contains(words, programsIn+"/"+name) {
		return target.Refused, nil
	}
	_, err := p.run(ctx, name)
	var exit *ssh.ExitError
	switch {
	case errors.As(err, &exit):
		return tried(exit.ExitStatus() < 126), nil // what was not found, or may not be run, ends with those from there on
	case err != nil && ctx.Err() != nil:
		return target.NotTried, ctx.Err()
	}
	return target.Allowed, nil // it ended well, or still runs
}
