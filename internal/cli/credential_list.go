package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/lending"
	"hiddengate/internal/view"
)

// credentials reads the requests for credentials that may matter from now on, or all there ever were.
func (a *app) credentials(b *book, in *store.Reader, all bool) (out []*lending.Request, err error) {
	if all {
		out, err = b.everyRequest(in)
	} else {
		out, err = b.requests(in, a.present(), ledger.Wanted)
	}
	return slices.DeleteFunc(out, func(r *lending.Request) bool { return r.Credential == nil }), err
}

// credentialState says in a word or two how far a credential has come, and why it does not count where it does not.
func credentialState(b *book, r *lending.Request, now clock.Instant) (word, why string, style view.Style) {
	c, state := r.Credential, r.StateAt(now)
	switch {
	case c.Revoked != nil && c.Issued != nil:
		return "revoked", c.Revoked.Reason, view.No
	case c.Issued == nil && state == lending.InForce:
		return "to be issued", "", view.Maybe
	case c.Issued == nil && state == lending.Void:
		return "void", b.MayIssue(r, now).Error(), view.Faint
	case c.Issued == nil:
		return state.String(), "", map[lending.State]view.Style{lending.Waiting: view.Maybe}[state]
	case now >= c.Issued.Until:
		return "over", "", view.Faint
	}
	if _, why := b.Barring(r, now); why != "" {
		return "does not count", why, view.No
	}
	if now < c.Issued.From {
		return "coming", "", view.Yes
	}
	return "holds", "", view.Yes
}

func (a *app) credentialList() *cobra.Command {
	var all bool
	var who, profile string
	c := &cobra.Command{
		Use: "list", Short: "List the credentials, who holds each and until when",
		Long: `Lists what was asked for, approved and signed. A credential does not count where its holder has left, is
suspended or may not hold it any more: then the authority lists it as revoked. --all lists those too that
are over.`,
		Example: "  hgate credential list\n  hgate credential list --all --who ines.okafor",
		Args:    takes(0, 0),
	}
	c.Flags().BoolVar(&all, "all", false, "those too that are over, refused or taken back")
	c.Flags().StringVar(&who, "who", "", "those of one `subject` alone")
	c.Flags().StringVar(&profile, "profile", "", "those of one `profile` alone")
	_ = c.RegisterFlagCompletionFunc("who", a.completeSection("people"))
	_ = c.RegisterFlagCompletionFunc("profile", a.completeSection("profiles"))
	c.RunE = func(*cobra.Command, []string) error {
		g, err := a.compiled()
		if err != nil {
			return err
		}
		if profile != "" && g.Estate().Profiles[profile] == nil {
			return unknown("profile", profile, keys(g.Estate().Profiles))
		}
		var only *estate.Principal
		if who != "" {
			p, err := subject(g, who)
			if err != nil {
				return err
			}
			only = &p
		}
		now := a.present()
		var rows [][]view.Cell
		objects := []object{}
		err = a.reading(g, func(b *book, in *store.Reader) error {
			list, err := a.credentials(b, in, all)
			for _, r := range list {
				over := r.Credential.Issued != nil && now >= r.Credential.Issued.Until
				if only != nil && r.Subject != *only || profile != "" && r.Credential.ProfileID != profile ||
					!all && (over || r.Credential.Issued == nil && finished(r, now)) {
					continue
				}
				word, why, style := credentialState(b, r, now)
				when := timesOf(g.Estate(), r, now)
				if c := r.Credential; c.Issued != nil {
					when = span(g.Estate().Zone, now, c.Issued.From, c.Issued.Until)
				}
				rows = append(rows, []view.Cell{{Text: strconv.FormatInt(r.Number, 10)}, {Text: word, Style: style},
					{Text: r.Subject.String()}, {Text: r.Credential.ProfileID}, {Text: when},
					{Text: why, Style: view.Faint}})
				objects = append(objects, append(requestObject(g.Estate(), r, now), member{"credential_state", word},
					member{"state_why", why}))
			}
			return err
		})
		if err != nil {
			return outside{err}
		}
		if a.format == "json" {
			return a.json(object{{"rows", objects}})
		}
		p := a.page(a.Out)
		if len(rows) == 0 {
			p.Line("%s", map[bool]string{true: "Nobody has asked for a credential.",
				false: "No credential holds or waits; --all lists those that are over."}[all])
			return nil
		}
		p.Table(0, []string{"", "state", "who", "profile", "when", "why"}, rows)
		return nil
	}
	a.formats(c, "text", "json")
	return c
}

func (a *app) credentialShow() *cobra.Command {
	var out string
	c := &cobra.Command{
		Use: "show NUMBER", Short: "Show a credential, and have its certificate",
		Long: `Shows what was asked for, who approved it and what was signed. --out writes the certificate, with those of
the authorities above its own behind it, into a new file.`,
		Example: signFirst + "  hgate credential show 3\n  hgate credential show 3 --out ~/ines.pem\n" +
			"  hgate try --certificate ~/ines.pem credential.view base-ca:reduce-client",
		Args: takes(1, 1), ValidArgsFunction: a.credentialNumbers,
	}
	c.Flags().StringVar(&out, "out", "", "the new `file` for the certificate")
	c.RunE = func(_ *cobra.Command, args []string) error {
		b, r, err := a.credentialNumbered(args[0])
		if err != nil {
			return err
		}
		if out != "" {
			return a.writeCertificate(b.Gate.Estate(), r, out)
		}
		return a.credentialText(b, r)
	}
	a.formats(c, "text", "json")
	return c
}

// certificateText gives a certificate as programs take it, with those of the authorities above its own behind it.
func certificateText(e *estate.Estate, r *lending.Request) ([]byte, error) {
	i := r.Credential.Issued
	if i == nil {
		return nil, &draft.Error{Message: fmt.Sprintf("the credential of request %d is not signed", r.Number)}
	}
	s := e.Systems[i.Authority]
	if s.Makes == estate.MakesSSH {
		return []byte(i.Certificate + "\n"), nil
	}
	made, err := i.X509()
	if err != nil {
		return nil, err
	}
	text := credential.EncodeCertificate(made.Raw)
	if len(s.Chain) == 0 {
		return text, nil
	}
	anchors, err := credential.AnchorsOf(s)
	if err != nil {
		return nil, err
	}
	own, err := credential.SignedBy(anchors, made)
	if err != nil {
		return nil, err
	}
	text = append(text, own.Encode()...)
	for _, above := range s.Chain {
		one, err := credential.ParseAnchor(s.Makes, above)
		if err != nil {
			return nil, err
		}
		if one.Certificate.CheckSignatureFrom(one.Certificate) != nil { // whoever checks has the one that signs itself
			text = append(text, one.Encode()...)
		}
	}
	return text, nil
}

func (a *app) writeCertificate(e *estate.Estate, r *lending.Request, out string) error {
	text, err := certificateText(e, r)
	if err != nil {
		return err
	}
	return a.writeNew(out, text)
}

// writeNew writes a file that must not be there, and says so.
func (a *app) writeNew(name string, text []byte) error {
	if err := writeFile(name, text); err != nil {
		return err
	}
	a.page(a.Out).Line("Wrote %s.", name)
	return nil
}

func (a *app) credentialText(b *book, r *lending.Request) error {
	now := a.present()
	e, c := b.Gate.Estate(), r.Credential
	word, why, style := credentialState(b, r, now)
	if a.format == "json" {
		return a.json(append(requestObject(e, r, now), member{"credential_state", word}, member{"state_why", why},
			member{"fingerprint", fingerprint(c.Key)}))
	}
	p := a.page(a.Out)
	if why != "" {
		word += ": " + why
	}
	p.Line("%s", p.Paint(style, fmt.Sprintf("Credential %d of %s: %s", r.Number, r.Subject, word)))
	list := []pair{{"profile", c.ProfileID}, {"fingerprint", fingerprint(c.Key)}, {"asked by", askerText(r)},
		{"reason", r.Reason}, {"ticket", r.Ticket}}
	for _, s := range r.Approvals {
		list = append(list, pair{"approved by", s.By.String()})
	}
	if i := c.Issued; i != nil {
		if len(r.Approvals) < r.Needed {
			list = append(list, pair{"approvals", fmt.Sprintf("signed with %d of %d", len(r.Approvals), r.Needed)})
		}
		list = append(list, pair{"signed by", i.Authority}, pair{"serial", i.Serial},
			pair{"holds", e.Zone.Format(i.From) + " until " + e.Zone.Format(i.Until)})
		said, err := holderIn(e, i)
		if err != nil {
			return err
		}
		list = append(list, said...)
	}
	if c.Revoked != nil {
		list = append(list, pair{"revoked by", c.Revoked.By.String() + ", for " + c.Revoked.Reason},
			pair{"why", c.Revoked.Why})
	}
	facts(p, 2, list)
	return nil
}

// holderIn says what a certificate says of its holder.
func holderIn(e *estate.Estate, i *lending.Issued) ([]pair, error) {
	if e.Systems[i.Authority].Makes == estate.MakesSSH {
		anchors, err := credential.AnchorsOf(e.Systems[i.Authority])
		if err != nil {
			return nil, err
		}
		c, err := credential.ParseSSHCertificate(anchors, i.Certificate)
		if err != nil {
			return nil, err
		}
		return []pair{{"accounts", c.ValidPrincipals}, {"runs only", c.CriticalOptions["force-command"]},
			{"from", c.CriticalOptions["source-address"]}}, nil
	}
	c, err := i.X509()
	if err != nil {
		return nil, err
	}
	return []pair{{"subject", c.Subject.String()}, {"e-mail", strings.Join(c.EmailAddresses, ", ")},
		{"host", strings.Join(c.DNSNames, ", ")}}, nil
}
