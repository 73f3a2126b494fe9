package cli

import (
	"crypto"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

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

// credentialWish is what the flags of `request credential` say.
type credentialWish struct {
	profile, holder, lasts, reason, ticket string
	csr, keyOut                            string
	open                                   bool
	loan                                   int64
	renews                                 *ledger.Other
}

func (w *credentialWish) keyFlags(c *cobra.Command) {
	c.Flags().StringVar(&w.csr, "csr", "", "`file` with a request to sign a key (PKCS #10); for ssh a public key")
	c.Flags().StringVar(&w.keyOut, "key-out", "", "make the key here, and write it into this new `file`")
}

func (a *app) requestCredential() *cobra.Command {
	var w credentialWish
	var by acting
	c := &cobra.Command{
		Use: "credential PROFILE", Short: "Ask for a credential: a certificate that carries an identity",
		Long: `Asks an authority to sign a key for somebody. The key is made here with --key-out, and written once into
a file that you alone may read; or somebody brings a request that their own key signed, with --csr. What
such a request says of its holder is checked, never believed: the profile says what is signed.
With --open somebody asks who is nobody in the policy, where the profile allows it, and an approver
decides.`,
		Example: strings.TrimSuffix(makeFirst, "\n"),
		Args:    takes(1, 1), ValidArgsFunction: a.completeSection("profiles"),
	}
	f := c.Flags()
	f.StringVar(&w.holder, "for", "", "the `subject` that it names (who acts, where left out)")
	f.StringVar(&w.lasts, "lasts", "", "for how long, as a `duration` (as long as the profile allows, where left out)")
	w.keyFlags(c)
	f.Int64Var(&w.loan, "loan", 0, "the `number` of the request for a loan that it is for, and with which it ends")
	f.StringVar(&w.reason, "reason", "", "`why` it is needed")
	f.StringVar(&w.ticket, "ticket", "", "the `ticket` that it belongs to")
	f.BoolVar(&w.open, "open", false, "ask as somebody whom the policy does not know")
	_ = c.RegisterFlagCompletionFunc("for", a.completeSection("people"))
	by.flags(a, c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		w.profile = args[0]
		if w.open {
			return a.askOpenly(&by, w)
		}
		return a.inTheNameOf(&by, func(b *book, who actor) error { return a.askForCredential(b, &by, who, w) })
	}
	a.formats(c, "text", "json")
	return c
}

// askOpenly asks as somebody whom the policy does not know.
func (a *app) askOpenly(by *acting, w credentialWish) error {
	if by.by != "" || w.holder == "" {
		return &draft.Error{Message: "a stranger asks in nobody's name, and says for whom",
			Help: "leave --by out, and add --for"}
	}
	g, err := a.compiled()
	if err != nil {
		return err
	}
	b, err := a.openBook(g)
	if err != nil {
		return err
	}
	defer b.store.Close()
	return a.askForCredential(b, by, actor{user: a.osUser(), own: true}, w)
}

// asked gives what is asked for: the profile, and whom the credential names.
func (w *credentialWish) asked(e *estate.Estate, who actor) (*estate.Profile, estate.Principal, error) {
	p := e.Profiles[w.profile]
	if p == nil {
		return nil, estate.Principal{}, unknown("profile", w.profile, keys(e.Profiles))
	}
	if w.holder == "" {
		return p, who.who, nil
	}
	holder, err := estate.ParsePrincipal(w.holder)
	if err != nil {
		return nil, holder, fmt.Errorf("--for %s: %w", w.holder, err)
	}
	if e.Subject(holder) == nil || holder.Kind == estate.IsAnonymous {
		return nil, holder, unknown("person", w.holder, keys(e.People))
	}
	return p, holder, nil
}

func (a *app) askForCredential(b *book, by *acting, who actor, w credentialWish) error {
	e := b.Gate.Estate()
	p, holder, err := w.asked(e, who)
	if err != nil {
		return err
	}
	s := e.Systems[p.Authority.ID]
	lasts := p.Longest
	if w.lasts != "" {
		if lasts, err = estate.ParseDuration(w.lasts); err != nil {
			return fmt.Errorf("--lasts %s: %w", w.lasts, err)
		}
		if lasts > p.Longest {
			return &draft.Error{Message: fmt.Sprintf("profile %s signs for at most %s", p.ID, estate.DurationText(p.Longest))}
		}
	}
	dir, err := a.folder()
	if err != nil {
		return err
	}
	public, file, err := w.key(dir, b, s, p, holder)
	if err != nil {
		return err
	}
	if file != nil {
		defer file.drop()
	}
	der, err := x509.MarshalPKIXPublicKey(public)
	if err != nil {
		return err
	}
	now := a.present()
	var loan *ledger.Other
	if w.loan > 0 {
		if err := b.store.View(a.ctx, func(in *store.Reader) error {
			is, err := b.loanIs(in, w.loan, holder, now)
			if err == nil {
				loan = &ledger.Other{Number: is.Number, ID: is.ID}
			}
			return err
		}); err != nil {
			return asRefused(err)
		}
	}
	body := ledger.RequestBody{Seconds: int64(lasts / time.Second), Reason: w.reason, Ticket: w.ticket,
		DecideBy: ledger.Time(now + clock.Instant(estate.DefaultDecideWithin.Microseconds())),
		Credential: &ledger.CredentialBody{
			Profile:  p.ID,
			For:      holder.String(),
			Renews:   w.renews,
			Loan:     loan,
			Stranger: w.open,
			Key:      base64.StdEncoding.EncodeToString(der),
		}}
	var r *lending.Request
	look := func(in *store.Reader) error {
		event, err := a.event(b.id, who.text(), ledger.Wanted, body)
		if err != nil {
			return err
		}
		b.About = in.About
		if r = b.Drafted(event); r == nil {
			return errors.New("the request cannot be read")
		}
		if err := b.MayAsk(r, now); err != nil {
			return err
		}
		span := credential.Span{From: now.Time(), Until: earliest(now.Time().Add(lasts), b.Last(p, holder).Time())}
		g, span, err := b.withLoan(in, r, span, now)
		if err == nil && s.Makes == estate.MakesSSH {
			_, err = b.SSHAccess(g, r, span, linux.Opener)
		}
		return err
	}
	if err := b.store.View(a.ctx, look); err != nil {
		return asRefused(err)
	}
	if file != nil {
		if err := file.keep(); err != nil {
			return err
		}
	}
	made, err := a.sayOpenly(b, by, who, w.open, spoken{kind: ledger.Wanted, body: body, check: look})
	if err != nil {
		if file != nil {
			os.Remove(file.name)
		}
		return asRefused(err)
	}
	if err := b.store.View(a.ctx, func(in *store.Reader) (err error) {
		r, err = b.credentialOf(in, made.Number)
		return err
	}); err != nil {
		return asRefused(err)
	}
	return a.askedText(b, by, who, r, file)
}

// askedText tells what becomes of a request for a credential, and signs it where it needs no approval.
func (a *app) askedText(b *book, by *acting, who actor, r *lending.Request, file *newFile) error {
	now := a.present()
	waits := r.StateAt(now) == lending.Waiting
	if a.format == "json" && waits {
		return a.json(requestObject(b.Gate.Estate(), r, now))
	}
	if a.format == "text" {
		p := a.page(a.Out)
		c := r.Credential
		p.Line(
			"%s",
			p.Paint(view.Heading, fmt.Sprintf("A credential of profile %s in the name of %s", c.ProfileID, r.Subject)),
		)
		if err := credentialFacts(p, b, r, file); err != nil {
			return err
		}
		if waits {
			signers := b.Signers(c.Profile, now, r.Asker, r.Subject)
			p.Line("\n%s", p.Paint(view.Maybe, fmt.Sprintf("Request %d waits for %s until %s.", r.Number,
				count(r.Needed, "approval"), clockText(b.Gate.Estate().Zone, now, r.DecideBy))))
			p.Line("  it can come from %s", named(texts(signers)))
			p.Line("  do: hgate approve %d --by %s", r.Number, signers[0])
			return nil
		}
		p.Line("\nRequest %d needs no approval.", r.Number)
	}
	return a.issueApproved(b, by, who, r)
}

// key makes the key, or reads the request that somebody brought. The file that is given is not in its place yet.
func (w *credentialWish) key(
	dir string,
	b *book,
	s *estate.System,
	p *estate.Profile,
	holder estate.Principal,
) (crypto.PublicKey,
	*newFile, error) {
	if (w.csr == "") == (w.keyOut == "") {
		return nil, nil, &draft.Error{Message: "a key is to be signed: one of your own, or one that is made here",
			Help: "add --csr FILE or --key-out FILE"}
	}
	forSSH := s.Makes == estate.MakesSSH
	if w.csr != "" {
		key, err := w.brought(b, p, holder, forSSH)
		return key, nil, err
	}
	key, err := credential.NewKey(p.Takes()[0])
	if err != nil {
		return nil, nil, err
	}
	text, err := credential.EncodeKey(key, forSSH)
	if err != nil {
		return nil, nil, err
	}
	name, err := filepath.Abs(w.keyOut)
	if err != nil {
		return nil, nil, outside{err}
	}
	if err := keptOut(dir, "key", name); err != nil {
		return nil, nil, err
	}
	file, err := createFile(name)
	if err != nil {
		return nil, nil, err
	}
	if _, err := file.Write(text); err != nil {
		file.drop()
		return nil, nil, outside{err}
	}
	return key.Public(), file, nil
}

// brought reads a request to sign a key, and sees that it is for nobody but the holder.
func (w *credentialWish) brought(
	b *book,
	p *estate.Profile,
	holder estate.Principal,
	forSSH bool,
) (crypto.PublicKey, error) {
	text, err := readUpTo(w.csr, credential.MostRequest)
	if err != nil {
		return nil, outside{fmt.Errorf("--csr: %w", err)}
	}
	refused := func(err error) error {
		return &draft.Error{Message: fmt.Sprintf("%s is not signed: %s", w.csr, err)}
	}
	if forSSH {
		key, err := credential.ParseSSHKey(text)
		if err != nil {
			return nil, refused(err)
		}
		return key, nil
	}
	r, err := credential.ParseRequest(text)
	if err != nil {
		return nil, refused(err)
	}
	name, err := b.Named(p, holder)
	if err != nil {
		return nil, &draft.Error{Message: fmt.Sprintf("profile %s cannot name %s: %s", p.ID, holder, err)}
	}
	if err := r.Check(p, name); err != nil {
		return nil, refused(err)
	}
	return r.Key, nil
}

// loanIs finds a loan of somebody that is not over.
func (b *book) loanIs(
	in *store.Reader,
	number int64,
	who estate.Principal,
	now clock.Instant,
) (*lending.Request, error) {
	loan, err := b.request(in, number)
	switch {
	case err != nil:
		return nil, err
	case loan == nil || loan.Credential != nil:
		return nil, &draft.Error{Message: fmt.Sprintf("request %d is for no loan", number), Help: "see `hgate requests`"}
	case loan.Subject != who:
		return nil, &draft.Error{Message: fmt.Sprintf("request %d is for a loan of %s, not of %s", number, loan.Subject, who)}
	}
	if state := loan.StateAt(now); state != lending.InForce && state != lending.Coming {
		return nil, &draft.Error{
			Message: fmt.Sprintf("request %d is %s: a credential ends with its loan", number, state),
		}
	}
	return loan, nil
}

// withLoan gives the gate by which a credential is signed, and its time: with the loan that it is for, if there is one.
func (b *book) withLoan(in *store.Reader, r *lending.Request, span credential.Span, now clock.Instant) (*gate.Gate,
	credential.Span, error) {
	if r.Credential.Loan == 0 {
		return b.Gate, span, nil
	}
	loan, err := b.loanIs(in, r.Credential.Loan, r.Subject, now)
	if err != nil {
		return nil, span, err
	}
	span.From, span.Until = latest(span.From, loan.Begins.Time()), earliest(span.Until, loan.Over.Time())
	g, err := b.Gate.WithLent(lending.Elevations([]*lending.Request{loan}))
	return g, span, err
}

// readUpTo reads a file of a stranger, one byte more than it may have at most.
func readUpTo(name string, most int) ([]byte, error) {
	if info, err := os.Stat(name); err != nil { // before it is opened: a pipe would be waited for
		return nil, err
	} else if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no plain file", name)
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text := make([]byte, most+1)
	n := 0
	for n < len(text) {
		m, err := f.Read(text[n:])
		n += m
		if err != nil || m == 0 {
			break
		}
	}
	return text[:n], nil
}

// sayOpenly is say; somebody whom the policy does not know signs nothing.
func (a *app) sayOpenly(b *book, by *acting, who actor, open bool, s spoken) (made ledger.Event, err error) {
	if !open {
		return a.say(b, by, who, s)
	}
	e, err := a.event(b.id, "", s.kind, s.body)
	if err != nil {
		return e, err
	}
	err = b.store.Update(a.ctx, func(w *store.Writer) error {
		if err := s.check(&w.Reader); err != nil {
			return err
		}
		made, err = w.Append(e)
		return err
	})
	return made, err
}

// credentialFacts says what a credential says of its holder, and for how long.
func credentialFacts(p *view.Page, b *book, r *lending.Request, key *newFile) error {
	e, c := b.Gate.Estate(), r.Credential
	list := []pair{{"authority", c.Profile.Authority.ID}}
	if c.Profile.System.ID != "" {
		list = append(list, pair{"into", c.Profile.System.ID})
	}
	if e.Systems[c.Profile.Authority.ID].Makes == estate.MakesSSH {
		list = append(list, pair{"accounts", b.Accounts(c.Profile.System.ID, r.Subject)})
	} else {
		n, err := b.Named(c.Profile, r.Subject)
		if err != nil {
			return err
		}
		list = append(list, pair{"common name", n.CommonName}, pair{"organisation", n.Organisation}, pair{"unit", n.Unit},
			pair{"e-mail", n.Email}, pair{"principal name", n.PrincipalName}, pair{"host", n.DNS})
	}
	list = append(list, pair{"fingerprint", fingerprint(c.Key)}, pair{"lasts", estate.DurationText(r.Lasts)},
		pair{"reason", r.Reason}, pair{"ticket", r.Ticket})
	if key != nil {
		list = append(list, pair{"key", key.name + ", which you alone may read"})
	}
	facts(p, 2, list)
	return nil
}

// fingerprint names a public key by its SHA-256, as OpenSSH does where it can be written so.
func fingerprint(der []byte) string {
	key, err := x509.ParsePKIXPublicKey(der)
	if err != nil {
		return "unknown"
	}
	public, err := ssh.NewPublicKey(key)
	if err != nil {
		return "unknown"
	}
	return ssh.FingerprintSHA256(public)
}
