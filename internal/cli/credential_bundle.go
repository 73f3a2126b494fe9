package cli

import (
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/credential"
	"hiddengate/internal/draft"
	"hiddengate/internal/lending"
	"hiddengate/internal/pgaddress"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/private"
	"hiddengate/internal/sshreach"
	"hiddengate/internal/view"
)

func (a *app) credentialBundle() *cobra.Command {
	var key, account string
	c := &cobra.Command{
		Use: "bundle NUMBER DIR", Short: "Put together what the holder of a credential is handed",
		Long: `Puts into a new folder what somebody signs in with, and nothing of anybody else: the certificate, the key if
it was made here (--with-key), by what the system is known, a configuration that common clients read, and a
short README. All of it is readable by you alone. Try it with hgate credential test before you hand it over.`,
		Example: signFirst + "  hgate credential bundle 3 ~/for-ines --with-key ~/ines.key",
		Args:    takes(2, 2), ValidArgsFunction: a.credentialNumbers,
	}
	c.Flags().StringVar(&key, "with-key", "", "the `file` with the private key that was made here")
	c.Flags().StringVar(&account, "account", "", "the `account` in the system, where the holder has several")
	c.RunE = func(_ *cobra.Command, args []string) error {
		b, r, err := a.credentialNumbered(args[0])
		if err != nil {
			return err
		}
		made, err := a.bundleOf(b, r, key, account)
		if err != nil {
			return err
		}
		return a.writeBundle(made, args[1])
	}
	return c
}

// bundleOf puts a bundle together.
func (a *app) bundleOf(b *book, r *lending.Request, key, account string) (*credential.Bundle, error) {
	e, c := b.Gate.Estate(), r.Credential
	text, err := certificateText(e, r)
	if err != nil {
		return nil, err
	}
	if word, why, _ := credentialState(b, r, a.present()); word != "holds" && word != "coming" {
		return nil, &draft.Error{Message: fmt.Sprintf("credential %d does not count: it is %s %s", r.Number, word, why)}
	}
	if c.Profile.System.ID == "" {
		return nil, &draft.Error{Message: "profile " + c.ProfileID + " says into which system its credentials let nowhere",
			Help: "hgate set profile " + c.ProfileID + " --system SYSTEM"}
	}
	system := e.Systems[c.Profile.System.ID]
	out := &credential.Bundle{Certificate: text, Manifest: credential.Manifest{Estate: e.Title, Number: r.Number,
		Subject: r.Subject.String(), System: system.ID, Kind: system.Kind.ID, Ends: e.Zone.Format(c.Issued.Until)}}
	if out.Account, err = accountFor(b, r, account); err != nil {
		return nil, err
	}
	if key != "" {
		if out.Key, err = private.ReadFile(key, credential.MostRequest); err != nil {
			return nil, outside{fmt.Errorf("--with-key: %w", err)}
		}
		if err := out.Fits(); err != nil {
			return nil, fmt.Errorf("--with-key %s: %w", key, err)
		}
	}
	dir, err := a.folder()
	if err != nil {
		return nil, err
	}
	op, err := operator(dir)
	if err != nil {
		return nil, settled(err)
	}
	if reach := op.Systems[system.ID]; reach != nil {
		if err := addReach(out, reach); err != nil {
			return nil, outside{fmt.Errorf("how %s is reached cannot be put into the bundle: %w", system.ID, err)}
		}
	}
	return out, nil
}

// accountFor says as which account of the system the holder signs in.
func accountFor(b *book, r *lending.Request, wanted string) (string, error) {
	c := r.Credential
	accounts := b.Accounts(c.Profile.System.ID, r.Subject)
	switch {
	case wanted != "" && !slices.Contains(append(accounts, r.Subject.ID), wanted):
		return "", unknown("account", wanted, accounts)
	case wanted != "":
		return wanted, nil
	case len(accounts) == 0: // a push makes one that is named after the id
		return r.Subject.ID, nil
	case len(accounts) > 1:
		return "", &draft.Error{Message: fmt.Sprintf("%s has several accounts there: %s", r.Subject, named(accounts)),
			Help: "name one with --account"}
	}
	return accounts[0], nil
}

// addReach adds by what a system is known, and a configuration for clients of its kind.
func addReach(b *credential.Bundle, reach *policyfile.Reach) error {
	switch {
	case b.ForSSH():
		at, err := sshreach.Read(reach.At)
		if err != nil {
			return err
		}
		if b.Server, err = sshreach.Keys(at); err != nil {
			return err
		}
		host, port, err := net.SplitHostPort(at.Host)
		if err != nil {
			return err
		}
		b.ConfigName = "ssh_config"
		b.Config = fmt.Appendf(nil, "Host %s\n  HostName %s\n  Port %s\n  User %s\n  IdentityFile %s\n  CertificateFile %s\n"+
			"  UserKnownHostsFile %s\n  IdentitiesOnly yes\n  StrictHostKeyChecking yes\n", b.System, host, port, b.Account,
			credential.SSHKeyFile, credential.SSHCertFile, credential.KnownHostsFile)
	case pgaddress.Is(reach.At):
		at, err := pgaddress.Read(reach.At, "")
		if err != nil {
			return err
		}
		u, err := url.Parse(reach.At)
		if err != nil {
			return err
		}
		mode := u.Query().Get("sslmode")
		if mode == "" { // as hgate itself checks the server
			mode = map[bool]string{true: "require", false: "verify-full"}[at.TLSConfig == nil || at.TLSConfig.InsecureSkipVerify]
		}
		b.ConfigName = "pg_service.conf"
		b.Config = fmt.Appendf(nil, "[%s]\nhost=%s\nport=%d\ndbname=%s\nuser=%s\nsslmode=%s\nsslcert=%s\nsslkey=%s\n",
			b.System, at.Host, at.Port, at.Database, b.Account, mode, credential.CertificateFile, credential.KeyFile)
		if name := u.Query().Get("sslrootcert"); name != "" {
			if b.Server, err = os.ReadFile(name); err != nil {
				return err
			}
			b.Config = fmt.Appendf(b.Config, "sslrootcert=%s\n", credential.ServerFile)
		}
	default:
		u, err := url.Parse(reach.At)
		if err != nil || u.Host == "" || !strings.HasPrefix(u.Scheme, "http") {
			return err
		}
		b.ConfigName = "curl.conf"
		b.Config = fmt.Appendf(nil, "cert = %s\nkey = %s\n", credential.CertificateFile, credential.KeyFile)
		if name := u.Query().Get("authority"); name != "" {
			if b.Server, err = os.ReadFile(name); err != nil {
				return err
			}
			if _, err := credential.DecodeCertificates(b.Server); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			b.Config = append(b.Config, "cacert = "+credential.ServerFile+"\n"...)
		}
		b.Config = append(b.Config, "# https://"+u.Host+"\n"...)
	}
	return nil
}

// writeBundle writes a bundle into a new folder, as a whole.
func (a *app) writeBundle(b *credential.Bundle, folder string) error {
	path, err := filepath.Abs(folder)
	if err != nil {
		return outside{err}
	}
	if _, err := os.Lstat(path); err == nil {
		return outside{isThere(folder)}
	}
	if b.Key != nil {
		if err := a.outsideTheWorkspace("key", path); err != nil {
			return err
		}
	}
	files, err := b.Files()
	if err != nil {
		return err
	}
	password := ""
	if b.Key != nil && !b.ForSSH() {
		if password, err = credential.NewPassword(credential.LeastPassword); err != nil {
			return err
		}
		if files[credential.PKCS12File], err = b.PKCS12(password); err != nil {
			return err
		}
	}
	files[credential.ReadmeFile] = readmeOf(b, files)
	beside, err := os.MkdirTemp(filepath.Dir(path), ".hgate-*")
	if err != nil {
		return outside{err}
	}
	defer os.RemoveAll(beside)
	for name, text := range files {
		if err := writeFile(filepath.Join(beside, name), text); err != nil {
			return err
		}
	}
	if err := os.Rename(beside, path); err != nil {
		return outside{err}
	}
	p := a.page(a.Out)
	p.Line("%s", p.Paint(view.Yes, fmt.Sprintf("The bundle for %s is in %s.", b.Subject, folder)))
	p.Line("  it holds  %s", named(keys(files)))
	if password != "" {
		p.Line("  %s opens with a password, which is shown this once: %s", credential.PKCS12File, password)
	}
	p.Line("  to try it before it is handed over: hgate credential test %s", folder)
	return nil
}

// readmeOf tells the holder what to do with a bundle.
func readmeOf(b *credential.Bundle, files map[string][]byte) []byte {
	lines := []string{
		fmt.Sprintf("This lets %s into %s of %s, as the account %s, until %s.", b.Subject, b.System, b.Estate,
			b.Account, b.Ends),
		"It is yours alone: whoever has it can sign in as you. If it is lost, have it revoked at once:",
		"  hgate credential revoke " + strconv.FormatInt(b.Number, 10),
		"",
	}
	if b.Key == nil {
		lines = append(lines, "Put your private key beside it, as "+map[bool]string{true: credential.SSHKeyFile,
			false: credential.KeyFile}[b.ForSSH()]+".")
	}
	use := map[string]string{"ssh_config": "In this folder: ssh -F ssh_config " + b.System,
		"curl.conf":       "In this folder: curl --config curl.conf ADDRESS; the address stands in it.",
		"pg_service.conf": "In this folder: PGSERVICEFILE=pg_service.conf psql service=" + b.System}[b.ConfigName]
	if use != "" {
		lines = append(lines, use)
	}
	if files[credential.PKCS12File] != nil {
		lines = append(lines, credential.PKCS12File+" has key and certificate in one, for programs that take that; "+
			"its password comes to you by another way.")
	}
	return []byte(strings.Join(lines, "\n") + "\n")
}
