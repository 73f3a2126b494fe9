package cli

import (
	"fmt"
	"path/filepath"
	"strconv"

	"github.com/spf13/cobra"

	"hiddengate/internal/draft"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/lending"
)

// What the examples about credentials begin with.
const (
	makeFirst = "  hgate credential authority make base-ca --identity .keys/ines.okafor --yes\n" +
		"  hgate request credential reduce-client --key-out ~/ines.key \\\n" +
		"    --by ines.okafor --key .keys/ines.okafor\n"
	signFirst = makeFirst + "  hgate approve 3 --by vera.stahl --key .keys/vera.stahl\n"
)

// credentialCommand has the commands about what carries an identity.
func (a *app) credentialCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "credential", Short: "Issue, list and revoke what carries an identity",
		Long: `What people and services sign in with. hgate request credential asks for a certificate, and hgate approve
approves it; an authority's key is made here, and opened only to sign. Passwords, second factors and tokens
are made here too, shown once, and never kept.`,
		Args: ownCommands,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	authority := &cobra.Command{
		Use: "authority", Short: "Make the key of an authority, and tell what authorities there are",
		Long: "Authorities are systems of the kind authority, and sign what carries an identity.",
		Args: ownCommands,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	authority.AddCommand(a.authorityMake(), a.authorityList(), a.authorityShow())
	c.AddCommand(authority, a.credentialList(), a.credentialShow(), a.credentialIssue(), a.credentialRenew(),
		a.credentialRevoke(), a.credentialRevocations(), a.credentialPassword(), a.credentialFactor(),
		a.credentialToken(), a.credentialBundle(), a.credentialTest())
	return c
}

// requestNumber reads the number of a request.
func requestNumber(text string) (int64, error) {
	number, err := strconv.ParseInt(text, 10, 64)
	if err != nil || number < 1 {
		return 0, fmt.Errorf("%q is no number of a request: `hgate requests` lists them", text)
	}
	return number, nil
}

// credentialOf reads the request of a number, which has to be for a credential.
func (b *book) credentialOf(r *store.Reader, number int64) (*lending.Request, error) {
	one, err := b.request(r, number)
	switch {
	case err != nil:
		return nil, err
	case one == nil:
		return nil, &draft.Error{Message: fmt.Sprintf("there is no request %d", number), Help: "see `hgate credential list`"}
	case one.Credential == nil:
		return nil, &draft.Error{
			Message: fmt.Sprintf("request %d is for grant %s, and not for a credential", number, one.GrantID),
			Help:    "see `hgate credential list`",
		}
	}
	return one, nil
}

// credentialNumbered reads the request of a number that was given, which has to be for a credential.
func (a *app) credentialNumbered(text string) (b *book, r *lending.Request, err error) {
	number, err := requestNumber(text)
	if err != nil {
		return nil, nil, err
	}
	g, err := a.compiled()
	if err != nil {
		return nil, nil, err
	}
	err = a.reading(g, func(is *book, in *store.Reader) (err error) {
		b = is
		r, err = b.credentialOf(in, number)
		return err
	})
	if err == nil && r == nil {
		err = &draft.Error{Message: fmt.Sprintf("there is no request %d", number), Help: "see `hgate credential list`"}
	}
	return b, r, asRefused(err)
}

// credentialNumbers offers the numbers of credentials.
func (a *app) credentialNumbers(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	g, err := a.compiled()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	_ = a.reading(g, func(b *book, r *store.Reader) error {
		list, err := b.requests(r, a.present(), ledger.Wanted)
		for _, one := range list {
			if one.Credential != nil {
				out = append(out, fmt.Sprintf("%d\t%s, %s", one.Number, one.Subject, one.What()))
			}
		}
		return err
	})
	return out, cobra.ShellCompDirectiveNoFileComp
}

// outsideTheWorkspace sees that a secret is not written where others read it.
func (a *app) outsideTheWorkspace(what, name string) error {
	dir, err := a.folder()
	if err != nil {
		return err
	}
	path, err := filepath.Abs(name)
	if err != nil {
		return outside{err}
	}
	return keptOut(dir, what, path)
}

// keptOut sees that a whole path lies in no workspace of a folder.
func keptOut(dir, what, path string) error {
	if inside, err := within(dir, path); err != nil || inside {
		return &draft.Error{Message: fmt.Sprintf("the %s would stand in the workspace, which others read: %s", what, path),
			Help: "name a place elsewhere"}
	}
	return nil
}
