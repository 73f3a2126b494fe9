// Package starting starts stand-ins of every kind, and tells how each is reached.
package starting

import (
	"context"
	"net"
	"path/filepath"

	"hiddengate/internal/standin"
	"hiddengate/internal/standin/application"
	"hiddengate/internal/standin/cloud"
	"hiddengate/internal/standin/cluster"
	"hiddengate/internal/standin/device"
	"hiddengate/internal/standin/network"
	"hiddengate/internal/standin/web"
)

// Kind is a kind of stand-in.
type Kind struct {
	Name     string
	About    string
	Serves   string // the kind of system that it stands in for
	Commands []standin.Command
	// Places are what one has that is started without others.
	Places []standin.Place
	scheme string
	secret string // the file with which the keeper signs in
	signIn func(at, folder string) []string
	open   func(how standin.Options) (serving, error)
}

// serving is a stand-in that can serve.
type serving interface {
	Serve(ctx context.Context, l net.Listener) error
	Close() error
}

// introduced is one that has to be made known at its address before clients trust it.
type introduced interface {
	Introduce(at net.Addr) error
}

func opened[R serving](open func(standin.Options) (R, error)) func(standin.Options) (serving, error) {
	return func(how standin.Options) (serving, error) { return open(how) }
}

// Kinds are all that there are.
var Kinds = []*Kind{
	{
		Name:     "cloud",
		Commands: cloud.Commands,
		About:    "account with a provider of storage and machines",
		Serves:   "cloud-account",
		scheme:   "https",
		secret:   cloud.KeeperFile,
		signIn:   secureSignIn,
		open:     opened(cloud.Open),
		Places: []standin.Place{
			{Path: "storage", Type: "area"}, {Path: "storage/raw", Type: "store"}, {Path: "storage/calibrated", Type: "store"}},
	},
	{
		Name:     "cluster",
		Commands: cluster.Commands,
		About:    "cluster that runs workloads",
		Serves:   "cluster",
		scheme:   "https",
		secret:   cluster.KeeperFile,
		signIn:   certifiedSignIn,
		open:     opened(cluster.Open),
		Places: []standin.Place{{Path: "nightly", Type: "space"},
			{Path: "nightly/calibrate", Type: "workload"}, {Path: "survey", Type: "space"}},
	},
	{
		Name:     "network",
		Commands: network.Commands,
		About:    "console of a network",
		Serves:   "network-console",
		scheme:   "ssh",
		secret:   standin.Keeper,
		signIn:   shellSignIn,
		open:     opened(network.Open),
		Places: []standin.Place{{Path: "summit", Type: "site"},
			{Path: "base", Type: "site"}, {Path: "zones/ridge", Type: "zone"}, {Path: "summit/pool", Type: "pool"}},
	},
	{
		Name:     "device",
		Commands: device.Commands,
		About:    "console of a device",
		Serves:   "device-console",
		scheme:   "http",
		secret:   standin.Keeper,
		signIn:   plainSignIn,
		open:     opened(device.Open),
		Places:   []standin.Place{{Path: "mount", Type: "part"}},
	},
	{
		Name:     "application",
		Commands: application.Commands,
		About:    "application in which people work on content",
		Serves:   "application",
		scheme:   "http",
		secret:   standin.Keeper,
		signIn:   plainSignIn,
		open:     opened(application.Open),
		Places: []standin.Place{
			{Path: "cycle-9", Type: "area"}, {Path: "cycle-9/dark-halo", Type: "item"}},
	},
}

// Running is a stand-in that runs.
type Running struct {
	At         string   // host and port
	Address    string   // as a connection has it
	SecretFile string   // with which the keeper signs in
	SignIn     []string // how a person signs in: commands for a shell, with NAME and PASSWORD to be filled in
	stop       context.CancelFunc
	done       chan error
	stands     serving
}

// Start starts a stand-in, which listens on an address: on one that other machines reach only if they may.
func (k *Kind) Start(ctx context.Context, how standin.Options, listen string, others bool) (*Running, error) {
	l, err := standin.Listen(listen, others)
	if err != nil {
		return nil, err
	}
	stands, err := k.open(how)
	if err != nil {
		l.Close()
		return nil, err
	}
	if c, ok := stands.(introduced); ok {
		if err := c.Introduce(l.Addr()); err != nil {
			l.Close()
			stands.Close()
			return nil, err
		}
	}
	r := &Running{
		At:         l.Addr().String(),
		SecretFile: filepath.Join(how.Data, k.secret),
		stands:     stands,
		done:       make(chan error, 1),
	}
	r.Address = k.scheme + "://" + standin.Keeper + "@" + r.At
	switch k.scheme {
	case "ssh":
		r.Address += "?known-hosts=" + filepath.Join(how.Data, network.KnownHosts)
	case "https":
		r.Address += "?authority=" + filepath.Join(how.Data, web.AuthorityFile)
	}
	r.SignIn = k.signIn(r.At, how.Data)
	ctx, r.stop = context.WithCancel(ctx)
	go func() { r.done <- stands.Serve(ctx, l) }()
	return r, nil
}

// Done tells when it has ended.
func (r *Running) Done() <-chan error { return r.done }

// Close stops it, and lets go of its folder.
func (r *Running) Close() error {
	r.stop()
	return r.stands.Close()
}
