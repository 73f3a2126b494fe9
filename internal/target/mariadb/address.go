package mariadb

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"time"

	"github.com/go-sql-driver/mysql"
)

// How long a server may take to be reached, and to do what it is told.
const (
	patience = 10 * time.Second
	toDo     = 10 * time.Minute
)

const usualPort = "3306"

var errAddress = errors.New("the address of the server cannot be read: write mariadb://USER@HOST, " +
	"or mariadb://USER@localhost?socket=/PATH")

// configOf reads where a server is. Its certificate is checked in full, except on this machine or where the address
// says `tls=off`. An address with a password is refused: it would stand in lists of processes and files.
func configOf(at, secret string) (*mysql.Config, error) {
	u, err := url.Parse(at)
	if err != nil || u.Scheme != "mariadb" || u.User == nil || u.User.Username() == "" || u.Hostname() == "" ||
		u.Path != "" && u.Path != "/" || u.Fragment != "" {
		return nil, errAddress
	}
	if _, has := u.User.Password(); has {
		return nil, errors.New("the address of the server holds a password: take it out, and give it as a secret")
	}
	options, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return nil, errAddress
	}
	for name, values := range options {
		if name != "socket" && name != "ca" && name != "tls" || len(values) != 1 || name == "tls" && values[0] != "off" {
			return nil, fmt.Errorf("the address of the server has %q: `socket`, `ca` and `tls=off` alone are known", name)
		}
	}
	config := mysql.NewConfig()
	config.User, config.Passwd = u.User.Username(), secret
	config.Net, config.Addr = "tcp", net.JoinHostPort(u.Hostname(), usualPort)
	if u.Port() != "" {
		config.Addr = u.Host
	}
	if path := options.Get("socket"); path != "" {
		config.Net, config.Addr = "unix", path
	}
	config.Timeout, config.ReadTimeout, config.WriteTimeout = patience, toDo, toDo
	config.Collation = "utf8mb4_bin"
	// Nothing stands between a constant and what it means, and no grant makes an account without saying how it signs in.
	config.Params = map[string]string{"sql_mode": "'NO_BACKSLASH_ESCAPES,NO_AUTO_CREATE_USER'"}
	config.Logger = silent{}
	ip := net.ParseIP(u.Hostname())
	near := config.Net == "unix" || u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()
	if options.Get("tls") == "off" || near && !options.Has("ca") {
		return config, nil
	}
	config.TLS = &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}
	if file := options.Get("ca"); file != "" {
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("the authorities cannot be read: %w", err)
		}
		config.TLS.RootCAs = x509.NewCertPool()
		if !config.TLS.RootCAs.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("%s has no certificate", file)
		}
	}
	return config, nil
}

// silent keeps the library from writing to standard error what comes back as an error anyway.
type silent struct{}

// Print does nothing.
func (silent) Print(...any) {}
