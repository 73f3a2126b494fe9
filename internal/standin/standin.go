// Package standin is what the simulated systems that hgate ships share: their folder, their passwords and how they
// listen. A stand-in decides by its own plain rules and knows nothing of a policy.
package standin

import (
	"errors"
	"fmt"
	"net"
	"regexp"
	"sync"
	"time"
)

// Said is what every stand-in says of itself to whoever comes.
const Said = "This is a simulation that ships with hgate. Nothing here is real."

// Place is something there is in a stand-in, as the segments of its path say where: "" is the stand-in itself.
type Place struct {
	Path string `json:"path"`
	Type string `json:"type"`
}

// Options say how a stand-in runs.
type Options struct {
	Data   string        // the folder that holds its state
	Places []Place       // what there is, the first time
	Idle   time.Duration // after so long without a command, whoever signed in is signed out
	Now    func() time.Time
	// Trust is a file with certificates of authorities whose clients may sign in too, Revoked one with what they have
	// revoked; "" for none.
	Trust, Revoked string
	Quick          bool // hash passwords quickly, as tests want it
}

// accountName is what accounts of stand-ins may be called.
var accountName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._@+-]{0,63}$`)

// CheckAccount says what is wrong with the name of an account; nil for nothing.
func CheckAccount(name string) error {
	if !accountName.MatchString(name) {
		return fmt.Errorf("%.80q is no name of an account: write letters, digits and . _ @ + -, 64 at most", name)
	}
	return nil
}

// CheckTeam says what is wrong with the name of a group of accounts, whatever a stand-in calls it; nil for nothing.
func CheckTeam(name string) error {
	if name == "" || len(name) > 200 {
		return fmt.Errorf("%.80q is no name: write 1 to 200 characters", name)
	}
	for _, c := range name {
		if c < ' ' || c == 0x7f {
			return fmt.Errorf("%.80q is no name: it has characters that cannot be seen", name)
		}
	}
	return nil
}

// ErrNotHere says that an address is not one of this machine's own.
var ErrNotHere = errors.New("a stand-in listens on this machine alone, unless --open-to-others says otherwise")

// Listen listens on an address; on one that others reach only if others may.
func Listen(address string, others bool) (net.Listener, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fmt.Errorf("%q is no address: write HOST:PORT, as 127.0.0.1:0", address)
	}
	if ip := net.ParseIP(host); !others && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, ErrNotHere
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	return &limited{Listener: l, free: make(chan struct{}, mostClients)}, nil
}

// mostClients are how many connections a stand-in has at once; others wait.
const mostClients = 512

// limited accepts so many connections at once.
type limited struct {
	net.Listener
	free chan struct{}
}

func (l *limited) Accept() (net.Conn, error) {
	l.free <- struct{}{}
	c, err := l.Listener.Accept()
	if err != nil {
		<-l.free
		return nil, err
	}
	return &counted{Conn: c, done: func() { <-l.free }}, nil
}

// counted is a connection that makes room for another when it is closed.
type counted struct {
	net.Conn
	once sync.Once
	done func()
}

func (c *counted) Close() error {
	c.once.Do(c.done)
	return c.Conn.Close()
}
