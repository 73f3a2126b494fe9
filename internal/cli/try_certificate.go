package cli

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/view"
)

// shown is a certificate that somebody shows: whom it was signed for, and why it does not count, "" if it does.
type shown struct {
	holder estate.Principal
	number int64
	bars   string
}

// holderOf finds in the log for whom a certificate was signed. What it says of its holder is not believed: the log
// knows what an authority of the policy signed, and whether it was revoked.
func (a *app) holderOf(g *gate.Gate, file string, at clock.Instant) (*shown, error) {
	told, err := certificateIn(file)
	if err != nil {
		return nil, outside{fmt.Errorf("--certificate: %w", err)}
	}
	var out *shown
	err = a.reading(g, func(b *book, in *store.Reader) error {
		list, err := a.credentials(b, in, true)
		for _, r := range list {
			if i := r.Credential.Issued; i != nil && i.Certificate == told {
				out = &shown{holder: r.Subject, number: r.Number, bars: b.Failing(r, at)}
			}
		}
		return err
	})
	if err != nil {
		return nil, asRefused(err)
	}
	if out == nil {
		return nil, &draft.Error{Message: fmt.Sprintf("no authority of the policy has signed the certificate in %s, as far "+
			"as the log knows", file), Help: "see `hgate credential list --all`"}
	}
	return out, nil
}

// certificateIn reads a certificate as the log keeps it: the first of a file in PEM as DER in base64, or a line of
// OpenSSH.
func certificateIn(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, credential.MostRequest+1))
	if err != nil {
		return "", err
	}
	if len(text) > credential.MostRequest {
		return "", fmt.Errorf("%s has more than %d bytes", file, credential.MostRequest)
	}
	if words := strings.Fields(string(text)); len(words) > 1 && strings.HasSuffix(words[0], "-cert-v01@openssh.com") {
		return words[0] + " " + words[1], nil
	}
	chain, err := credential.DecodeCertificates(text)
	if err != nil {
		return "", err
	}
	if len(chain) == 0 {
		return "", errors.New(file + " holds no certificate")
	}
	return base64.StdEncoding.EncodeToString(chain[0].Raw), nil
}

// signedInBy says in a request that its subject signed in with a certificate, unless it says otherwise itself.
func signedInBy(c *cobra.Command, ctx *gate.Context, said *string, s *shown) error {
	const how = "sign-in"
	if c.Flags().Changed(how) {
		return fmt.Errorf("--%s is the certificate already: leave it out", how)
	}
	ctx.Say(estate.FactNamed(how), "certificate")
	*said += fmt.Sprintf(", signed in by the certificate of request %d", s.number)
	return nil
}

// refuse answers for a certificate that does not count.
func (a *app) refuse(s *shown, req gate.Request) error {
	if a.format == "json" {
		if err := a.json(object{{"subject", s.holder.String()}, {"operation", req.Operation}, {"resource", req.Resource},
			{"decision", gate.Deny.String()}, {"certificate", s.number}, {"why", s.bars}}); err != nil {
			return err
		}
		return answered(exitNo)
	}
	p := a.page(a.Out)
	p.Line("%s  %s  %s  %s", p.Paint(view.No, verdicts[gate.Deny].word), s.holder, req.Operation, req.Resource)
	p.Line("")
	p.Line("The certificate of request %d does not count: %s.", s.number, s.bars)
	return answered(exitNo)
}
