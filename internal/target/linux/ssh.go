package linux

import (
	"bytes"
	"context"
	"strings"

	"golang.org/x/crypto/ssh"

	"hiddengate/internal/sshreach"
)

// remote runs scripts over SSH (RFC 4254, section 6.5).
type remote struct {
	client  *ssh.Client
	command string
}

// newRemote signs in to a server.
func newRemote(ctx context.Context, at sshreach.Address, secret string) (shell, error) {
	client, err := sshreach.Dial(ctx, at, secret)
	if err != nil {
		return nil, err
	}
	r := &remote{client: client, command: "/bin/sh -s"}
	if at.User != "root" {
		r.command = "sudo -n /bin/sh -s"
	}
	return r, nil
}

func (r *remote) run(ctx context.Context, script string) ([]byte, error) {
	s, err := r.client.NewSession()
	if err != nil {
		return nil, err
	}
	defer s.Close()
	stop := context.AfterFunc(ctx, func() { r.client.Close() })
	defer stop()
	s.Stdin = strings.NewReader(whole(script))
	var said bytes.Buffer
	out := &bounded{}
	s.Stdout, s.Stderr = out, &said
	if err = s.Run(r.command); ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	return out.Bytes(), explained(err, said.String())
}

func (r *remote) hold(_ context.Context, script string) (string, func(), error) {
	s, err := r.client.NewSession()
	if err != nil {
		return "", nil, err
	}
	in, err := s.StdinPipe()
	if err != nil {
		return "", nil, err
	}
	out, err := s.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	if err := s.Start(strings.TrimSuffix(r.command, "-s") + "-c " + quote(script)); err != nil {
		return "", nil, err
	}
	line := firstLine(out)
	return line, func() { in.Close(); s.Wait(); s.Close() }, nil
}

func (r *remote) close() { r.client.Close() }
