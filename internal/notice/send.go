package notice

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/smtp"
	"os"
	"strings"
	"time"
)

// patience is how long one try may take.
const patience = 15 * time.Second

// maxAnswer bounds what is read of an answer, in bytes.
const maxAnswer = 4096

// client follows nobody elsewhere.
var client = &http.Client{
	Timeout:       patience,
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

func (w Way) toWeb(ctx context.Context, m Message) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, w.To, bytes.NewReader(m.Event))
	if err != nil {
		return errors.New("the address cannot be read")
	}
	r.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	r.Header.Set("User-Agent", "hgate")
	if w.Secret != "" {
		seconds := m.At.Unix()
		r.Header.Set("Hgate-Time", fmt.Sprint(seconds))
		r.Header.Set("Hgate-Signature", "sha256="+Sign(w.Secret, seconds, m.Event))
	}
	answer, err := client.Do(r)
	if err != nil {
		var timeout interface{ Timeout() bool }
		if errors.As(err, &timeout) && timeout.Timeout() {
			return fmt.Errorf("%s does not answer in time", r.URL.Host)
		}
		return fmt.Errorf("%s cannot be reached", r.URL.Host)
	}
	defer answer.Body.Close()
	_, _ = io.CopyN(io.Discard, answer.Body, maxAnswer)
	if answer.StatusCode < 200 || answer.StatusCode > 299 {
		return fmt.Errorf("%s answers %d", r.URL.Host, answer.StatusCode)
	}
	return nil
}

// toMail sends a message by SMTP (RFC 5321). The connection is made secret by STARTTLS (RFC 3207), unless the user says
// that it need not be.
func (w Way) toMail(ctx context.Context, to string, m Message) (err error) {
	host, _, err := net.SplitHostPort(w.Mail.Server)
	if err != nil {
		return fmt.Errorf("the mail server is %q: write HOST:PORT", w.Mail.Server)
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", w.Mail.Server)
	if err != nil {
		return fmt.Errorf("the mail server %s cannot be reached", w.Mail.Server)
	}
	defer conn.Close()
	if until, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(until)
	}
	defer func() {
		if err != nil {
			err = fmt.Errorf("the mail server %s: %s", w.Mail.Server, strings.ReplaceAll(err.Error(), "\n", " "))
		}
	}()
	c, err := smtp.NewClient(conn, host)
	if err != nil {
		return err
	}
	if ok, _ := c.Extension("STARTTLS"); ok {
		if err := c.StartTLS(&tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}); err != nil {
			return err
		}
	} else if !w.Mail.NoTLS {
		return errors.New("it offers no STARTTLS, and others could read what is sent")
	}
	if w.Mail.User != "" {
		if err := c.Auth(smtp.PlainAuth("", w.Mail.User, w.Secret, host)); err != nil {
			return errors.New("it does not let the user in")
		}
	}
	if err := c.Mail(w.Mail.From); err != nil {
		return err
	}
	if err := c.Rcpt(to); err != nil {
		return err
	}
	body, err := c.Data()
	if err != nil {
		return err
	}
	if _, err := body.Write(letter(w.Mail.From, to, m)); err != nil {
		return err
	}
	if err := body.Close(); err != nil {
		return err
	}
	_ = c.Quit() // it has been taken
	return nil
}

// letter writes a message as mail (RFC 5322, RFC 2045). Sent twice, it has the same id.
func letter(from, to string, m Message) []byte {
	var b bytes.Buffer
	_, host, _ := strings.Cut(from, "@")
	for _, line := range [][2]string{{"From", from}, {"To", to},
		{"Subject", mime.QEncoding.Encode("utf-8", oneLine(m.Subject))},
		{"Date", m.At.UTC().Format(time.RFC1123Z)}, {"Message-ID", "<" + m.ID + "@" + host + ">"},
		{"Auto-Submitted", "auto-generated"},
		{"MIME-Version", "1.0"}, {"Content-Type", "text/plain; charset=utf-8"},
		{"Content-Transfer-Encoding", "quoted-printable"}} {
		fmt.Fprintf(&b, "%s: %s\r\n", line[0], line[1])
	}
	b.WriteString("\r\n")
	w := quotedprintable.NewWriter(&b)
	_, _ = w.Write([]byte(strings.ReplaceAll(m.Text, "\n", "\r\n"))) // into memory
	_ = w.Close()
	return b.Bytes()
}

func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' {
			return ' '
		}
		return r
	}, text)
}

// toFile appends the event to a file that is the user's alone.
func toFile(name string, m Message) error {
	f, err := os.OpenFile(name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(append(bytes.TrimRight(m.Event, "\n"), '\n'))
	return errors.Join(err, f.Sync(), f.Close())
}
