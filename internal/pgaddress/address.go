// Package pgaddress reads addresses of databases of PostgreSQL, and tells what is wrong where one cannot be reached.
package pgaddress

import (
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Is says whether a text is such an address, sound or not.
func Is(at string) bool {
	return strings.HasPrefix(at, "postgres://") || strings.HasPrefix(at, "postgresql://")
}

// patience is how long a server may take to answer at first.
const patience = 10 * time.Second

// Read reads where a database is. Unless the address says otherwise, the server's certificate is checked in full,
// except on this machine. An address with a password is refused: it would stand in lists of processes and files.
func Read(at, secret string) (*pgx.ConnConfig, error) {
	if !Is(at) {
		return nil, errors.New("the address of the database cannot be read: write postgres://USER@HOST/DATABASE")
	}
	config, err := pgx.ParseConfig(at)
	if err != nil {
		return nil, errors.New("the address of the database cannot be read: write postgres://USER@HOST/DATABASE")
	}
	_, after, _ := strings.Cut(at, "://")
	user, _, isUser := strings.Cut(after, "@")
	if isUser && strings.Contains(user, ":") || strings.Contains(at, "password=") {
		return nil, errors.New("the address of the database holds a password: take it out, and give it as a secret")
	}
	if !strings.Contains(at, "sslmode=") {
		host := config.Host
		if ip := net.ParseIP(host); !strings.HasPrefix(host, "/") && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			separator := "?"
			if strings.Contains(at, "?") {
				separator = "&"
			}
			if config, err = pgx.ParseConfig(at + separator + "sslmode=verify-full"); err != nil {
				return nil, errors.New("the server's certificate cannot be checked with what is at hand")
			}
		}
	}
	if secret != "" {
		config.Password = secret
	}
	config.ConnectTimeout = patience
	return config, nil
}

// Name names a database without what is secret.
func Name(c *pgx.ConnConfig) string {
	return fmt.Sprintf("postgres://%s@%s/%s", c.User, net.JoinHostPort(c.Host, strconv.Itoa(int(c.Port))), c.Database)
}

// Told gives an error of a server as people are told it: without its parameters, among which a secret could stand.
func Told(c *pgx.ConnConfig, err error) error {
	var said *pgconn.PgError
	if errors.As(err, &said) {
		return fmt.Errorf("%s: %s", Name(c), said.Message)
	}
	var failed *pgconn.ConnectError
	if errors.As(err, &failed) {
		return fmt.Errorf("%s cannot be reached: %w", Name(c), failed.Unwrap())
	}
	return fmt.Errorf("%s: %w", Name(c), err)
}
