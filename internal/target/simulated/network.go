package simulated

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"golang.org/x/crypto/ssh"

	"hiddengate/internal/sshreach"
	"hiddengate/internal/standin"
	"hiddengate/internal/standin/network"
	"hiddengate/internal/target"
)

// networkWords are the commands of the console that stand for the operations of the policy. Where several commands need
// one right, one of them stands for all.
var networkWords = []pair{
	{"device.view", "see devices"},
	{"device.add", "add device"},
	{"device.restart", "restart device"},
	{"interface.view", "see interfaces"},
	{"interface.change", "change interface"},
	{"interface.switch", "switch interface"},
	{"route.view", "see routes"},
	{"route.change", "add route"},
	{"access-list.view", "see access lists"},
	{"access-list.change", "change access list"},
	{"zone.view", "see records"},
	{"zone.set-address", "set address"},
	{"zone.set-alias", "set alias"},
	{"zone.set-mail", "set mail"},
	{"zone.delegate", "delegate zone"},
	{"zone.remove-record", "remove record"},
	{"pool.view", "see pools"},
	{"pool.change", "change pool"},
	{"reservation.set", "reserve address"},
	{"lease.release", "release lease"},
	{"configuration.view", "see configuration"},
	{"configuration.stage", "stage configuration"},
	{"configuration.commit", "commit configuration"},
	{"configuration.save", "save configuration"},
	{"path.trace", "trace path"},
	{"log.view", "see log"},
	{"log.export", "export log"},
	{"software.view", "see software"},
	{"software.update", "update software"},
	{"role.view", "see teams"},
	{"account.view", "see accounts"},
}

// networkKind is how a network console is spoken with.
var networkKind = newKind(kind{name: "network", about: "the simulated console of a network", serves: "network-console",
	address: "ssh://keeper@127.0.0.1:PORT?known-hosts=FILE", team: "team", keys: true, alone: true, sessions: true,
	reach: reachNetwork},
	network.Commands, networkWords,
	[]string{"account.create", "account.remove", "account.set-password", "role.assign", "role.alter"})

func reachNetwork(ctx context.Context, to target.Connection) (client, error) {
	at, err := sshreach.Read(to.At)
	if errors.Is(err, sshreach.ErrNoAddress) {
		return nil, fmt.Errorf("%q is no address of a console: %w", to.At, err)
	}
	if err != nil {
		return nil, err
	}
	c, err := sshreach.Dial(ctx, at, to.Secret)
	if err != nil {
		return nil, err
	}
	return &networkClient{c, at.User}, nil
}

// networkClient speaks with a console over SSH, with one command for each thing it says.
type networkClient struct {
	ssh  *ssh.Client
	user string
}

func (c *networkClient) self() string { return c.user }
func (c *networkClient) close()       { c.ssh.Close() }

// mostSaid is how much a stand-in may answer.
const mostSaid = standin.MostState

// say sends a command with a body, and gives the answer; an error where the console refuses.
func (c *networkClient) say(ctx context.Context, line string, body any) (string, error) {
	s, err := c.ssh.NewSession()
	if err != nil {
		return "", err
	}
	defer s.Close()
	stop := context.AfterFunc(ctx, func() { c.ssh.Close() })
	defer stop()
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return "", err
		}
		s.Stdin = bytes.NewReader(text)
	}
	out, err := s.StdoutPipe()
	if err != nil {
		return "", err
	}
	if err := s.Start(line); err != nil {
		return "", err
	}
	text, err := io.ReadAll(io.LimitReader(out, mostSaid+1))
	if err == nil && len(text) > mostSaid {
		return "", errors.New("the console answers without end")
	}
	said := strings.TrimSpace(string(text))
	ended := s.Wait()
	switch {
	case ctx.Err() != nil:
		return "", context.Cause(ctx)
	case err != nil:
		return "", err
	case ended != nil && said == standin.Changed:
		return "", target.ErrChanged
	case ended != nil:
		return "", refusal(said)
	}
	return said, nil
}

func (c *networkClient) read(ctx context.Context) (*view, error) {
	said, err := c.say(ctx, "settings", nil)
	if err != nil {
		return nil, err
	}
	var out view
	if err := standin.Strictly([]byte(said), &out); err != nil {
		return nil, fmt.Errorf("what it says cannot be read: %w", err)
	}
	return &out, nil
}

func (c *networkClient) replace(ctx context.Context, next *replacement) error {
	_, err := c.say(ctx, "replace settings", next)
	return err
}

func (c *networkClient) rehearse(ctx context.Context, account string, lines []string) ([]bool, error) {
	said, err := c.say(ctx, "rehearse", standin.Rehearsal{Account: account, Lines: lines})
	if err != nil {
		return nil, err
	}
	return couldOf(said), nil
}
