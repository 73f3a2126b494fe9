package main

import (
	"context"
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/starter"
)

// measureCredentials measures what many credentials cost the commands that go through all of them, each against a tenth
// as many: twice the cost for a credential is more than allowed.
func measureCredentials(t *table, how measuring, short bool) {
	t.shape = "credentials"
	folder, err := os.MkdirTemp("", "credentials-")
	must(err)
	defer os.RemoveAll(folder)
	many := 10_000
	if short {
		many = 400
	}
	say("credentials: signing %d", many)
	dir := filepath.Join(folder, "demo")
	must(starter.Write(starter.Demo(), dir))
	must(starter.WriteKeys(dir))
	now := time.Now().Truncate(time.Second)
	key, err := credential.NewKey("ecdsa-p256")
	must(err)
	authority, err := credential.MakeAuthority("Authority at the base", "", key,
		credential.Span{From: now.Add(-time.Hour), Until: now.Add(10_000 * time.Hour)})
	must(err)
	private, err := credential.EncodeKey(key, false)
	must(err)
	must(os.WriteFile(filepath.Join(folder, "ca.key"), private, 0o600))
	must(os.WriteFile(filepath.Join(folder, "ca.pem"), authority.Encode(), 0o600))
	run := func(at string, args ...string) time.Duration {
		c := exec.Command(how.program, append([]string{"-C", dir}, args...)...)
		c.Env = append(os.Environ(), "HGATE_LEDGER="+at, "XDG_CONFIG_HOME="+folder, "XDG_STATE_HOME="+folder)
		start := time.Now()
		out, err := c.CombinedOutput()
		took := time.Since(start)
		if err != nil {
			panic(fmt.Sprint(args, err, string(out)))
		}
		return took
	}
	ines := filepath.Join(dir, starter.KeysFolder, "ines.okafor")
	run(filepath.Join(folder, "made.db"), "credential", "authority", "make", "base-ca", "--from-key",
		filepath.Join(folder, "ca.key"), "--chain", filepath.Join(folder, "ca.pem"), "--identity", ines, "--yes")
	few, all := filepath.Join(folder, "few.db"), filepath.Join(folder, "all.db")
	sign(few, authority, many/10, now)
	sign(all, authority, many, now)
	list := filepath.Join(folder, "list.pem")
	for name, line := range map[string][]string{"credential list": {"credential", "list"}, "check": {"check"},
		"credential revocations": {"credential", "revocations", "base-ca", "--out", list, "--by", "ines.okafor", "--key",
			ines},
	} {
		var one, ten, ratios []float64
		for i := range how.pairs + 1 {
			a, b := run(few, line...), run(all, line...)
			if i > 0 { // the first finds nothing in memory
				one, ten = append(one, float64(a)), append(ten, float64(b))
				ratios = append(ratios, float64(b)/float64(a)/10)
			}
		}
		t.line(figure{t.shape, fmt.Sprintf("%s, %d credentials", name, many), took(ten),
			fmt.Sprintf("%d, ten times", many/10), took(one), ratio(ratios)})
	}
}

// sign writes a ledger of so many credentials in date.
func sign(name string, authority *credential.Authority, many int, now time.Time) {
	s, err := store.OpenFile(context.Background(), name, true)
	must(err)
	defer s.Close()
	holder, err := credential.NewKey("ed25519")
	must(err)
	der, err := x509.MarshalPKIXPublicKey(holder.Public())
	must(err)
	at := clock.Of(now)
	must(s.Update(context.Background(), func(w *store.Writer) error {
		if err := w.Begin("bench"); err != nil {
			return err
		}
		if _, err := w.Append(made(ledger.Began, at, 0, ledger.BeganBody{Workspace: "bench"})); err != nil {
			return err
		}
		for i := range many {
			asked := made(ledger.Wanted, at, 0, ledger.RequestBody{Seconds: int64(30 * 24 * 3600), DecideBy: ledger.Time(at),
				Credential: &ledger.CredentialBody{Profile: "reduce-client", For: "ines.okafor",
					Key: base64.StdEncoding.EncodeToString(der)}})
			asked.Actor = "ines.okafor"
			e, err := w.Append(asked)
			if err != nil {
				return err
			}
			span := credential.Span{From: now, Until: now.Add(30 * 24 * time.Hour)}
			cert, err := authority.Issue(credential.Order{Profile: &estate.Profile{Use: "client"}, Key: holder.Public(),
				Name: credential.Name{CommonName: "ines.okafor"}, Span: span})
			if err != nil {
				return err
			}
			issued := ledger.IssuedBody{Request: e.ID(), Authority: "base-ca", Serial: fmt.Sprint(i),
				Ends: ledger.Time(clock.Of(span.Until)), Certificate: base64.StdEncoding.EncodeToString(cert)}
			if _, err := w.Append(made(ledger.Issued, at, e.Number, issued)); err != nil {
				return err
			}
			if i%10 > 0 {
				continue
			}
			revoked := ledger.RevokedBody{Request: e.ID(), Reason: "superseded"}
			if _, err := w.Append(made(ledger.Revoked, at, e.Number, revoked)); err != nil {
				return err
			}
		}
		return nil
	}))
}
