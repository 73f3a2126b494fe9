package network

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"hiddengate/internal/standin"
)

const (
	hostKeyName = "host-key"
	// KnownHosts is the file of the folder by which clients know the console.
	KnownHosts = "known_hosts"
	// toSignIn is how long somebody may take to sign in.
	toSignIn = 20 * time.Second
	// mostChannels are how many sessions one connection has.
	mostChannels = 10
	keyPermitted = "key"
)

// hostKey reads the key of the console, or makes one.
func (c *Console) hostKey() (ssh.Signer, error) {
	text, found, err := c.Folder.Read(hostKeyName)
	if err != nil {
		return nil, err
	}
	if !found {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		block, err := ssh.MarshalPrivateKey(key, "")
		if err != nil {
			return nil, err
		}
		text = pem.EncodeToMemory(block)
		if err := c.Folder.Write(hostKeyName, text); err != nil {
			return nil, err
		}
	}
	return ssh.ParsePrivateKey(text)
}

// Introduce makes the console known at an address: it writes the file of known hosts.
func (c *Console) Introduce(at net.Addr) error {
	key, err := c.hostKey()
	if err != nil {
		return err
	}
	line := knownhosts.Line([]string{at.String()}, key.PublicKey())
	return c.Folder.Write(KnownHosts, []byte(line+"\n"))
}

// Serve lets people sign in by SSH (RFC 4252) until the context ends.
func (c *Console) Serve(ctx context.Context, l net.Listener) error {
	key, err := c.hostKey()
	if err != nil {
		return err
	}
	config := &ssh.ServerConfig{MaxAuthTries: 6, PublicKeyCallback: c.byKey, PasswordCallback: c.byPassword,
		ServerVersion:  "SSH-2.0-simulated-network-console",
		BannerCallback: func(ssh.ConnMetadata) string { return standin.Said + "\r\n" }}
	config.AddHostKey(key)
	var open sync.WaitGroup
	defer open.Wait()
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	for {
		conn, err := l.Accept()
		if err != nil {
			if ctx.Err() != nil || errors.Is(err, net.ErrClosed) {
				return nil
			}
			time.Sleep(50 * time.Millisecond) // as when no file can be opened for now
			continue
		}
		open.Go(func() { c.connection(ctx, conn, config) })
	}
}

// byKey lets an account in by one of its keys.
func (c *Console) byKey(meta ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
	c.Lock()
	defer c.Unlock()
	if c.Settings.Open(meta.User(), c.Now()) {
		for _, text := range c.Settings.Accounts[meta.User()].Keys {
			known, _, _, _, err := ssh.ParseAuthorizedKey([]byte(text))
			if err == nil && slices.Equal(known.Marshal(), key.Marshal()) {
				return &ssh.Permissions{Extensions: map[string]string{keyPermitted: "yes"}}, nil
			}
		}
	}
	return nil, errors.New("no such key")
}

// byPassword lets an account in by its password.
func (c *Console) byPassword(meta ssh.ConnMetadata, text []byte) (*ssh.Permissions, error) {
	if err := c.SignIn(meta.User(), string(text)); err != nil {
		return nil, err
	}
	c.SignedIn(meta.User())
	return &ssh.Permissions{}, nil
}

// connection serves one connection.
func (c *Console) connection(ctx context.Context, conn net.Conn, config *ssh.ServerConfig) {
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	if err := conn.SetDeadline(time.Now().Add(toSignIn)); err != nil {
		return
	}
	server, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	if err := conn.SetDeadline(time.Time{}); err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	free := make(chan struct{}, mostChannels)
	var open sync.WaitGroup
	defer open.Wait()
	quiet := time.AfterFunc(c.Idle, func() { conn.Close() }) // no session at all
	defer quiet.Stop()
	for one := range channels {
		if one.ChannelType() != "session" {
			if one.Reject(ssh.UnknownChannelType, "this console has sessions and nothing else") != nil {
				return
			}
			continue
		}
		select {
		case free <- struct{}{}:
		default:
			if one.Reject(ssh.ResourceShortage, fmt.Sprintf("%d sessions at once", mostChannels)) != nil {
				return
			}
			continue
		}
		channel, asked, err := one.Accept()
		if err != nil {
			return
		}
		quiet.Stop()
		s := &session{
			Console: c,
			channel: channel,
			account: server.User(),
			keyed:   server.Permissions.Extensions[keyPermitted] != "",
		}
		open.Go(func() {
			s.serve(asked)
			<-free
			quiet.Reset(c.Idle)
		})
	}
}
