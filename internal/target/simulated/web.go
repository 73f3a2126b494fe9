package simulated

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"hiddengate/internal/standin"
	"hiddengate/internal/standin/web"
	"hiddengate/internal/target"
)

// webClient speaks with a stand-in over HTTP.
type webClient struct {
	http *http.Client
	base string
	user string
	auth string // the header by which the stand-in knows who it is; "": by the certificate
}

// webAddress is where a stand-in is.
type webAddress struct {
	base, user, authority, role string
}

func readWebAddress(text string) (webAddress, error) {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.Path != "" && u.Path != "/" ||
		u.User.Username() == "" {
		return webAddress{}, fmt.Errorf(
			"%.200q is no address of a stand-in: write http://ACCOUNT@HOST:PORT, or https for one "+
				"that has certificates",
			text,
		)
	}
	if _, given := u.User.Password(); given {
		return webAddress{}, errors.New(
			"the address holds a password; name where it comes from instead, as with --secret-file",
		)
	}
	if ip := net.ParseIP(u.Hostname()); u.Scheme == "http" && u.Hostname() != "localhost" &&
		(ip == nil || !ip.IsLoopback()) {
		return webAddress{}, errors.New("without TLS a stand-in is reached on this machine alone")
	}
	out := webAddress{base: u.Scheme + "://" + u.Host, user: u.User.Username()}
	for key, values := range u.Query() {
		switch {
		case key == "authority" && len(values) == 1:
			out.authority = values[0]
		case key == "role" && len(values) == 1:
			out.role = values[0]
		default:
			return webAddress{}, fmt.Errorf("an address has authority or role behind its ?, not %s", key)
		}
	}
	return out, nil
}

// signing is how a client shows who it is.
type signing func(ctx context.Context, c *webClient, at webAddress, secret string) error

func reachWith(sign signing) func(context.Context, target.Connection) (client, error) {
	return func(ctx context.Context, to target.Connection) (client, error) {
		c, err := reachWeb(ctx, to, sign)
		if err != nil {
			return nil, err
		}
		return c, nil
	}
}

const patience = time.Minute

func reachWeb(ctx context.Context, to target.Connection, sign signing) (*webClient, error) {
	at, err := readWebAddress(to.At)
	if err != nil {
		return nil, err
	}
	secure := &tls.Config{MinVersion: tls.VersionTLS12}
	if at.authority != "" {
		text, err := os.ReadFile(at.authority)
		if err != nil {
			return nil, fmt.Errorf("the certificate of the authority cannot be read: %w", err)
		}
		secure.RootCAs = x509.NewCertPool()
		if !secure.RootCAs.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("%s has no certificate", at.authority)
		}
	}
	c := &webClient{base: at.base, user: at.user, http: &http.Client{Timeout: patience,
		Transport:     &http.Transport{TLSClientConfig: secure, Proxy: nil},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
	if err := sign(ctx, c, at, strings.TrimSpace(to.Secret)); err != nil {
		c.close()
		return nil, err
	}
	return c, nil
}

func byPassword(ctx context.Context, c *webClient, at webAddress, secret string) error {
	text, err := json.Marshal(web.SigningIn{Account: at.user, Password: secret, Role: at.role})
	if err != nil {
		return err
	}
	var reply web.Reply
	if err := c.send(ctx, http.MethodPost, "/sign-in", text, &reply); err != nil {
		return err
	}
	c.auth = "Bearer " + reply.Token
	return nil
}

func byAccessKey(_ context.Context, c *webClient, at webAddress, secret string) error {
	if strings.ContainsAny(secret, "\r\n") || secret == "" {
		return errors.New("the secret is no access key")
	}
	c.auth = "Key " + at.user + "/" + secret
	return nil
}

func byCertificate(_ context.Context, c *webClient, at webAddress, secret string) error {
	pair, err := tls.X509KeyPair([]byte(secret), []byte(secret))
	if err != nil {
		return errors.New("the secret has to be a certificate and its private key, both in PEM")
	}
	if cert, err := x509.ParseCertificate(pair.Certificate[0]); err != nil || cert.Subject.CommonName != at.user {
		return fmt.Errorf("the certificate is not that of %s", at.user)
	}
	c.http.Transport.(*http.Transport).TLSClientConfig.Certificates = []tls.Certificate{pair}
	return nil
}

func (c *webClient) self() string { return c.user }
func (c *webClient) close()       { c.http.CloseIdleConnections() }

// send sends a request, and reads what is answered into a value; an error where the stand-in refuses.
func (c *webClient) send(ctx context.Context, method, path string, body []byte, into any) error {
	r, err := http.NewRequestWithContext(ctx, method, c.base+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	if c.auth != "" {
		r.Header.Set("Authorization", c.auth)
	}
	answer, err := c.http.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, mostSaid+1))
	switch {
	case err != nil:
		return err
	case len(text) > mostSaid:
		return errors.New("the stand-in answers without end")
	case answer.StatusCode == http.StatusConflict:
		return target.ErrChanged
	case answer.StatusCode != http.StatusOK:
		var reply web.Reply
		if standin.Strictly(text, &reply) != nil || len(reply.Said) == 0 {
			return fmt.Errorf("the stand-in answers %s", answer.Status)
		}
		return refusal(strings.Join(reply.Said, " "))
	}
	if err := standin.Strictly(text, into); err != nil {
		return fmt.Errorf("what it says cannot be read: %w", err)
	}
	return nil
}

func (c *webClient) read(ctx context.Context) (*view, error) {
	var out view
	return &out, c.send(ctx, http.MethodGet, "/settings", nil, &out)
}

func (c *webClient) replace(ctx context.Context, next *replacement) error {
	text, err := json.Marshal(next)
	if err != nil {
		return err
	}
	var reply web.Reply
	return c.send(ctx, http.MethodPut, "/settings", text, &reply)
}

func (c *webClient) rehearse(ctx context.Context, account string, lines []string) ([]bool, error) {
	text, err := json.Marshal(standin.Rehearsal{Account: account, Lines: lines})
	if err != nil {
		return nil, err
	}
	var reply web.Rehearsed
	if err := c.send(ctx, http.MethodPost, "/rehearse", text, &reply); err != nil {
		return nil, err
	}
	return couldOf(reply.Could), nil
}

// couldOf reads the answer to a rehearsal.
func couldOf(said string) []bool {
	out := make([]bool, len(said))
	for i := range said {
		out[i] = said[i] == '+'
	}
	return out
}
