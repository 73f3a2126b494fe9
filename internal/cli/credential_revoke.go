package cli

import (
	"crypto/x509"
	"fmt"
	"math/big"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/lending"
	"hiddengate/internal/view"
)

func (a *app) credentialRenew() *cobra.Command {
	var w credentialWish
	var by acting
	c := &cobra.Command{
		Use: "renew NUMBER", Short: "Ask for the same credential again, for a new key, before it ends",
		Long: `Asks for what a credential was given for once more, with a new key. It needs its approvals again, unless who
holds it may do credential.renew. What was issued before counts to its end.`,
		Example: signFirst + "  hgate credential renew 3 --key-out ~/ines-2.key --by ines.okafor --key .keys/ines.okafor",
		Args:    takes(1, 1), ValidArgsFunction: a.credentialNumbers,
	}
	w.keyFlags(c)
	c.Flags().
		StringVar(&w.lasts, "lasts", "", "for how long, as a `duration` (as long as the profile allows, where left out)")
	c.Flags().StringVar(&w.reason, "reason", "", "`why` it is needed")
	by.flags(a, c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		number, err := requestNumber(args[0])
		if err != nil {
			return err
		}
		return a.inTheNameOf(&by, func(b *book, who actor) error {
			err := b.store.View(a.ctx, func(in *store.Reader) error {
				r, err := b.credentialOf(in, number)
				if err != nil {
					return err
				}
				c, now := r.Credential, a.present()
				switch {
				case c.Issued == nil:
					return &draft.Error{Message: fmt.Sprintf("the credential of request %d is not signed", number)}
				case c.Revoked != nil:
					return &draft.Error{Message: fmt.Sprintf("credential %d is revoked: ask anew", number),
						Help: "hgate request credential " + c.ProfileID}
				case now >= c.Issued.Until:
					return &draft.Error{Message: fmt.Sprintf("credential %d has ended: ask anew", number),
						Help: "hgate request credential " + c.ProfileID}
				}
				w.profile, w.holder, w.loan = c.ProfileID, r.Subject.String(), c.Loan
				w.renews = &ledger.Other{Number: number, ID: r.ID}
				return nil
			})
			if err != nil {
				return asRefused(err)
			}
			return a.askForCredential(b, &by, who, w)
		})
	}
	a.formats(c, "text", "json")
	return c
}

func (a *app) credentialRevoke() *cobra.Command {
	var reason, why string
	var by acting
	c := &cobra.Command{
		Use: "revoke NUMBER", Short: "Revoke a credential: it counts no more",
		Long: `Revokes what was signed. Who holds it may, who asked for it, and whoever may do credential.revoke on its
profile. Systems learn of it by the list that hgate credential revocations writes.`,
		Example: signFirst + "  hgate credential revoke 3 --reason key-compromise --by vera.stahl --key .keys/vera.stahl",
		Args:    takes(1, 1), ValidArgsFunction: a.credentialNumbers,
	}
	c.Flags().StringVar(&reason, "reason", credential.Reasons[0], "the `reason`: "+strings.Join(credential.Reasons, ", "))
	c.Flags().StringVar(&why, "why", "", "the same in `words`")
	_ = c.RegisterFlagCompletionFunc("reason",
		cobra.FixedCompletions(credential.Reasons, cobra.ShellCompDirectiveNoFileComp))
	by.flags(a, c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		number, err := requestNumber(args[0])
		if err != nil {
			return err
		}
		if !slices.Contains(credential.Reasons, reason) {
			return unknown("reason", reason, credential.Reasons)
		}
		return a.inTheNameOf(&by, func(b *book, who actor) error {
			return a.revokeCredential(b, &by, who, number, ledger.RevokedBody{Reason: reason, Why: why})
		})
	}
	a.formats(c, "text", "json")
	return c
}

func (a *app) revokeCredential(b *book, by *acting, who actor, number int64, body ledger.RevokedBody) error {
	var r *lending.Request
	look := func(in *store.Reader) (err error) {
		if r, err = b.credentialOf(in, number); err != nil {
			return err
		}
		if why := b.MayRevoke(r, who.who, a.present()); why != nil {
			return &draft.Error{Message: fmt.Sprintf("request %d: %s", number, why)}
		}
		return nil
	}
	if err := b.store.View(a.ctx, look); err != nil {
		return asRefused(err)
	}
	body.Request, body.Serial = r.ID, r.Credential.Issued.Serial
	if _, err := a.say(b, by, who, spoken{kind: ledger.Revoked, about: number, body: body, check: look}); err != nil {
		return asRefused(err)
	}
	if err := b.store.View(a.ctx, func(in *store.Reader) (err error) {
		r, err = b.credentialOf(in, number)
		return err
	}); err != nil {
		return asRefused(err)
	}
	if a.format == "json" {
		return a.json(requestObject(b.Gate.Estate(), r, a.present()))
	}
	p := a.page(a.Out)
	p.Line("%s", p.Paint(view.No, fmt.Sprintf("Credential %d of %s is revoked.", number, r.Subject)))
	p.Line("  for systems to learn of it: hgate credential revocations %s --out FILE", r.Credential.Issued.Authority)
	return nil
}

func (a *app) credentialRevocations() *cobra.Command {
	var out, next string
	var by acting
	c := &cobra.Command{
		Use: "revocations AUTHORITY", Short: "Publish what an authority has revoked",
		Long: `Signs the list of what is revoked (RFC 5280), for systems to read. It holds too what does not count because
its holder has left, is suspended or may not hold it any more. For ssh the list is a file of public keys, as
sshd reads it by RevokedKeys. Who acts has to be allowed revocations.publish on the authority.`,
		Example: "  hgate credential authority make base-ca --identity .keys/ines.okafor --yes\n" +
			"  hgate credential revocations base-ca --out ~/revoked.pem \\\n" +
			"    --by ines.okafor --key .keys/ines.okafor",
		Args: takes(1, 1), ValidArgsFunction: a.completeSection("systems"),
	}
	c.Flags().StringVar(&out, "out", "", "the `file` to write, which is replaced")
	c.Flags().StringVar(&next, "next", "7d", "after which `duration` the next list is due")
	_ = c.MarkFlagRequired("out")
	by.flags(a, c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		due, err := estate.ParseDuration(next)
		if err != nil {
			return fmt.Errorf("--next %s: %w", next, err)
		}
		return a.inTheNameOf(&by, func(b *book, who actor) error {
			s, err := authorityNamed(b.Gate.Estate(), args[0])
			if err != nil {
				return err
			}
			if err := b.MayPublish(s, who.who, a.present()); err != nil {
				return &draft.Error{Message: err.Error(),
					Help: fmt.Sprintf("hgate try %s revocations.publish %s", who.who, s.ID)}
			}
			return a.publish(b, &by, who, s, out, due)
		})
	}
	return c
}

// revokedNow gathers what an authority lists as revoked at an instant, by the number of the request.
func (a *app) revokedNow(b *book, in *store.Reader, s *estate.System, now clock.Instant) (out []*lending.Request,
	reasons []string, err error) {
	list, err := a.credentials(b, in, false)
	for _, r := range list {
		c := r.Credential
		if c.Issued == nil || c.Issued.Authority != s.ID || now >= c.Issued.Until {
			continue
		}
		reason, _ := b.Barring(r, now)
		if c.Revoked != nil {
			reason = c.Revoked.Reason
		}
		if reason != "" {
			out, reasons = append(out, r), append(reasons, reason)
		}
	}
	return out, reasons, err
}

// publish writes the list of what is revoked, and puts into the log that it did.
func (a *app) publish(b *book, by *acting, who actor, s *estate.System, out string, due time.Duration) error {
	now := a.present()
	anchors, err := credential.AnchorsOf(s)
	if err != nil {
		return err
	}
	if len(anchors) == 0 {
		_, err := anchorInUse(s)
		return err
	}
	var list []*lending.Request
	var reasons []string
	var head ledger.Head
	err = b.store.View(a.ctx, func(in *store.Reader) (err error) {
		if head, err = in.Head(); err == nil {
			list, reasons, err = a.revokedNow(b, in, s, now)
		}
		return err
	})
	if err != nil {
		return outside{err}
	}
	until := now + clock.Instant(due.Microseconds())
	text, err := a.revocationsOf(s, anchors, list, reasons, big.NewInt(head.Number+1), now, until)
	if err != nil {
		return err
	}
	name, err := filepath.Abs(out)
	if err != nil {
		return outside{err}
	}
	if err := replaceFile(name, text, nil); err != nil {
		return err
	}
	body := ledger.PublishedBody{Authority: s.ID, Count: len(list), Until: ledger.Time(until)}
	if _, err := a.say(b, by, who, spoken{kind: ledger.Published, body: body}); err != nil {
		return asRefused(err)
	}
	p := a.page(a.Out)
	p.Line("Wrote %s.", out)
	p.Line("%s of authority %s %s revoked; the next list is due %s.", count(len(list), "credential"), s.ID,
		map[bool]string{true: "is", false: "are"}[len(list) == 1], clockText(b.Gate.Estate().Zone, now, until))
	return nil
}

// revocationsOf makes the list of what is revoked: one after another for each certificate of the authority that has
// signed something and whose key is at hand.
func (a *app) revocationsOf(s *estate.System, anchors []credential.Anchor, list []*lending.Request, reasons []string,
	number *big.Int, now, until clock.Instant) ([]byte, error) {
	if s.Makes == estate.MakesSSH {
		return revokedKeys(list)
	}
	by := map[string][]credential.Revoked{}
	for i, r := range list {
		c, err := r.Credential.Issued.X509()
		if err != nil {
			return nil, err
		}
		anchor, err := credential.SignedBy(anchors, c)
		if err != nil {
			return nil, err
		}
		at := now
		if r.Credential.Revoked != nil {
			at = r.Credential.Revoked.At
		}
		by[anchor.String()] = append(by[anchor.String()],
			credential.Revoked{Serial: c.SerialNumber, At: at.Time(), Reason: reasons[i]})
	}
	var text []byte
	for i, anchor := range anchors {
		revoked := by[anchor.String()]
		if i > 0 && len(revoked) == 0 {
			continue // an old key that has nothing to revoke
		}
		authority, err := a.signer(s, anchor)
		if err != nil {
			return nil, outside{fmt.Errorf("authority %s cannot sign here: %w", s.ID, err)}
		}
		one, err := authority.Revocations(revoked, number, now.Time(), until.Time())
		if err != nil {
			return nil, err
		}
		text = append(text, one...)
	}
	return text, nil
}

// revokedKeys lists the public keys of certificates for SSH that are revoked, as sshd_config(5) says of RevokedKeys.
func revokedKeys(list []*lending.Request) ([]byte, error) {
	var out strings.Builder
	for _, r := range list {
		key, err := x509.ParsePKIXPublicKey(r.Credential.Key)
		if err != nil {
			return nil, err
		}
		public, err := ssh.NewPublicKey(key)
		if err != nil {
			return nil, err
		}
		out.Write(ssh.MarshalAuthorizedKey(public))
	}
	return []byte(out.String()), nil
}
