package cli

import (
	"context"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/lending"
	"hiddengate/internal/target/linux"
	"hiddengate/internal/view"
)

func (a *app) credentialIssue() *cobra.Command {
	var by acting
	c := &cobra.Command{
		Use: "issue NUMBER", Short: "Sign a credential that has all its approvals",
		Long: `Signs what was asked for and approved. hgate approve does so at once where the authority's key is at hand;
else whoever has it does it with this command.`,
		Example: makeFirst + "  hgate approve 3 --by vera.stahl --key .keys/vera.stahl --issue=false\n" +
			"  hgate credential issue 3 --by ines.okafor --key .keys/ines.okafor",
		Args: takes(1, 1), ValidArgsFunction: a.credentialNumbers,
	}
	by.flags(a, c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		number, err := requestNumber(args[0])
		if err != nil {
			return err
		}
		return a.inTheNameOf(&by, func(b *book, who actor) error {
			var r *lending.Request
			err := b.store.View(a.ctx, func(in *store.Reader) (err error) {
				if r, err = b.credentialOf(in, number); err != nil {
					return err
				}
				if why := b.MayIssue(r, a.present()); why != nil {
					return &draft.Error{Message: fmt.Sprintf("request %d: %s", number, why)}
				}
				return nil
			})
			if err != nil {
				return asRefused(err)
			}
			r, err = a.issue(b, &by, who, r)
			if errors.Is(err, errNotHere) {
				return outside{fmt.Errorf("authority %s cannot sign here: %w", r.Credential.Profile.Authority.ID, err)}
			}
			if err != nil {
				return asRefused(err)
			}
			return a.issuedText(b, r)
		})
	}
	a.formats(c, "text", "json")
	return c
}

// issueApproved signs a credential that has all its approvals, where the authority's key is at hand. Where nothing can
// be signed the approvals stand.
func (a *app) issueApproved(b *book, by *acting, who actor, r *lending.Request) error {
	issued, err := a.issue(b, by, who, r)
	why := (*draft.Error)(nil)
	switch {
	case err == nil:
		return a.issuedText(b, issued)
	case errors.Is(err, errNotHere):
		why = &draft.Error{Message: err.Error(),
			Help: fmt.Sprintf("whoever has it: hgate credential issue %d", r.Number)}
	case !errors.As(err, &why):
		return asRefused(err)
	}
	if a.format == "json" {
		return a.json(requestObject(b.Gate.Estate(), r, a.present()))
	}
	p := a.page(a.Out)
	p.Line("%s", p.Paint(view.Maybe, "It is not signed yet: "+why.Message+"."))
	if why.Help != "" {
		p.Line("  do: %s", why.Help)
	}
	if errors.Is(err, errNotHere) {
		return nil
	}
	return answered(exitNo)
}

// issue signs the credential of a request, and puts it into the ledger. It gives the request as it is then.
func (a *app) issue(b *book, by *acting, who actor, r *lending.Request) (*lending.Request, error) {
	e, c := b.Gate.Estate(), r.Credential
	s := e.Systems[c.Profile.Authority.ID]
	anchor, err := anchorInUse(s)
	if err != nil {
		return r, err
	}
	authority, err := a.signer(s, anchor)
	if err != nil {
		return r, err
	}
	look := func(in *store.Reader) (err error) {
		if r, err = b.credentialOf(in, r.Number); err != nil {
			return err
		}
		if why := b.MayIssue(r, a.present()); why != nil {
			return &draft.Error{Message: fmt.Sprintf("request %d: %s", r.Number, why)}
		}
		return nil
	}
	if err := b.store.View(a.ctx, look); err != nil {
		return r, err
	}
	span := r.SpanOf(a.present())
	var g *gate.Gate
	if err := b.store.View(a.ctx, func(in *store.Reader) (err error) {
		g, span, err = b.withLoan(in, r, span, a.present())
		return err
	}); err != nil {
		return r, err
	}
	body, err := b.signedBy(g, authority, s, r, span)
	if refused := (*lending.Refusal)(nil); errors.As(err, &refused) {
		return r, asRefused(refused)
	}
	if err != nil {
		return r, &draft.Error{Message: fmt.Sprintf("request %d is not signed: %s", r.Number, err)}
	}
	if _, err := a.say(b, by, who, spoken{kind: ledger.Issued, about: r.Number, body: body, check: look}); err != nil {
		return r, err
	}
	err = b.store.View(context.WithoutCancel(a.ctx), func(in *store.Reader) (err error) {
		r, err = b.credentialOf(in, r.Number)
		return err
	})
	if err == nil && r.Credential.Issued == nil {
		err = outside{errors.New("the credential was signed, and what the log has of it does not count")}
	}
	return r, err
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func earliest(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// signedBy has an authority sign what a request asks for.
func (b *book) signedBy(g *gate.Gate, authority *credential.Authority, s *estate.System, r *lending.Request,
	span credential.Span) (out ledger.IssuedBody, err error) {
	c := r.Credential
	key, err := x509.ParsePKIXPublicKey(c.Key)
	if err != nil {
		return out, err
	}
	order := credential.Order{Profile: c.Profile, Key: key, Span: span}
	out = ledger.IssuedBody{Request: r.ID, Authority: s.ID}
	if s.Makes == estate.MakesSSH {
		access, err := b.SSHAccess(g, r, span, linux.Opener)
		if err != nil {
			return out, err
		}
		label := fmt.Sprintf("%s request %d", r.Subject, r.Number)
		if out.Certificate, err = authority.IssueSSH(order, access, label); err != nil {
			return out, err
		}
		made, err := credential.ParseSSHCertificate([]credential.Anchor{authority.Anchor}, out.Certificate)
		if err != nil {
			return out, err
		}
		out.Serial, out.Ends = fmt.Sprint(made.Serial), ledger.Time(clock.Instant(made.ValidBefore)*clock.Second)
		return out, nil
	}
	if order.Name, err = b.Named(c.Profile, r.Subject); err != nil {
		return out, err
	}
	der, err := authority.Issue(order)
	if err != nil {
		return out, err
	}
	made, err := x509.ParseCertificate(der)
	if err != nil {
		return out, err
	}
	out.Certificate = base64.StdEncoding.EncodeToString(der)
	out.Serial, out.Ends = made.SerialNumber.Text(16), ledger.Time(made.NotAfter.UnixMicro()+int64(clock.Second))
	return out, nil
}

// issuedText tells of a credential that was signed.
func (a *app) issuedText(b *book, r *lending.Request) error {
	now := a.present()
	e, c := b.Gate.Estate(), r.Credential
	if a.format == "json" {
		return a.json(requestObject(e, r, now))
	}
	p := a.page(a.Out)
	p.Line("%s", p.Paint(view.Yes, fmt.Sprintf("%s has signed it: it holds %s.", c.Issued.Authority,
		span(e.Zone, now, c.Issued.From, c.Issued.Until))))
	p.Line("  to have it: hgate credential show %d --out FILE", r.Number)
	return nil
}
