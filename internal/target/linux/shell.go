package linux

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
)

// shell runs scripts as root.
type shell interface {
	// run runs a script of a POSIX shell, and gives what it prints.
	run(ctx context.Context, script string) ([]byte, error)
	// hold runs a script that prints a line and goes on until its input ends. It gives that line, and what ends it.
	hold(ctx context.Context, script string) (line string, release func(), err error)
	close()
}

// most is how much of what a server prints is read, in bytes.
const most = 256 << 20

// whole makes a script that runs from its first line to its last, or not at all: a shell that gets but a part of it
// finds no end of the function, and runs nothing.
func whole(script string) string {
	return "hgate_script() {\n" + script + "\n}\nhgate_script </dev/null\n"
}

// local runs scripts on this machine.
type local struct{ command []string }

func newLocal() (shell, error) {
	if os.Geteuid() == 0 {
		return local{[]string{"/bin/sh", "-s"}}, nil
	}
	return local{[]string{"sudo", "-n", "/bin/sh", "-s"}}, nil
}

func (l local) run(ctx context.Context, script string) ([]byte, error) {
	c := exec.CommandContext(ctx, l.command[0], l.command[1:]...)
	c.Stdin = strings.NewReader(whole(script))
	var said bytes.Buffer
	out := &bounded{}
	c.Stdout, c.Stderr = out, &said
	err := c.Run()
	return out.Bytes(), explained(err, said.String())
}

func (l local) hold(ctx context.Context, script string) (string, func(), error) {
	c := exec.CommandContext(ctx, l.command[0], append(l.command[1:len(l.command)-1:len(l.command)-1], "-c", script)...)
	in, err := c.StdinPipe()
	if err != nil {
		return "", nil, err
	}
	out, err := c.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	if err := c.Start(); err != nil {
		return "", nil, err
	}
	line := firstLine(out)
	return line, func() { in.Close(); c.Wait() }, nil
}

func (local) close() {}

// firstLine reads to the end of a line, or of everything.
func firstLine(r io.Reader) string {
	var line []byte
	for one := make([]byte, 1); len(line) < 1000; {
		n, err := r.Read(one)
		if n == 1 && one[0] == '\n' || err != nil {
			break
		}
		line = append(line, one[:n]...)
	}
	return string(line)
}

// bounded keeps what is written to it, as long as it is not too much.
type bounded struct{ bytes.Buffer }

func (b *bounded) Write(p []byte) (int, error) {
	if b.Len()+len(p) > most {
		return 0, errors.New("it prints more than can be")
	}
	return b.Buffer.Write(p)
}

// explained adds what a script said to an error.
func explained(err error, said string) error {
	if err == nil {
		return nil
	}
	lines := strings.Split(strings.TrimSpace(said), "\n")
	last := printable(lines[len(lines)-1])
	if last == "" {
		return err
	}
	return fmt.Errorf("%s (%w)", last, err)
}
