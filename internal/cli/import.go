package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/directory"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
)

// passwordVariable holds the password with which a directory is asked.
const passwordVariable = "HGATE_DIRECTORY_PASSWORD"

func (a *app) importCommand() *cobra.Command {
	var e editing
	var live directory.Live
	var as, source, file, passwordFile, ca string
	var maps []string
	c := &cobra.Command{
		Use:   "import FILE|URL",
		Short: "Take people and groups over from a directory",
		Long: `Adds the people and groups of a list, updates those that are there, and marks as left those who came from it before and are
gone; the effect is told first. It reads CSV, LDIF (RFC 2849), SCIM users and groups (RFC 7643), by the file's ending or
--as, and asks an LDAP directory (ldap:// or ldaps://; RFC 4511) live. Who comes from it carries the tag source=NAME.

--map says what a key is taken from: id, name, email, status, starts, ends, groups, tag.KEY. The password to sign in to a
directory comes from ` + passwordVariable + ` or the file that --password-file names.`,
		Example: `  hgate import staff.csv --map id=login,tag.team=department
  hgate import people.ldif --dry-run
  hgate import ldaps://directory.ternhollow.example --base dc=ternhollow,dc=example --user cn=reader,dc=ternhollow,dc=example`,
		Args: takes(1, 1),
	}
	e.flags(c)
	c.Flags().StringArrayVar(&maps, "map", nil, "`key=attribute`, several with commas")
	c.Flags().StringVar(&as, "as", "", "`what` the file is: csv, ldif or scim (by its ending, where left out)")
	c.Flags().StringVar(&source, "source", "", "`name` of the source (the file's, or directory)")
	c.Flags().StringVar(&file, "file", "", "`file` of the workspace to put new people into")
	c.Flags().StringVar(&live.Base, "base", "", "`DN` below which a directory is searched")
	c.Flags().StringVar(&live.Filter, "filter", "", "`filter` of what is asked for (RFC 4515)")
	c.Flags().StringVar(&live.User, "user", "", "`DN` to sign in as")
	c.Flags().StringVar(&passwordFile, "password-file", "", "`file` with the password alone")
	c.Flags().StringVar(&ca, "ca", "", "`file` of certificates to trust, in place of the system's")
	c.Flags().BoolVar(&live.Plain, "no-tls", false, "speak to the directory without TLS")
	c.RunE = func(_ *cobra.Command, args []string) error {
		m, err := directory.ParseMap(maps)
		if err != nil {
			return fmt.Errorf("--map: %w", err)
		}
		var from *directory.People
		if strings.Contains(args[0], "://") {
			live.URL = args[0]
			if from, err = a.askDirectory(live, m, passwordFile, ca); source == "" {
				source = "directory"
			}
		} else {
			if source == "" {
				source = strings.TrimSuffix(filepath.Base(args[0]), filepath.Ext(args[0]))
			}
			from, err = readDirectory(args[0], as, m)
		}
		if err != nil {
			return err
		}
		return a.edit(e, func(d *draft.Draft, _ *estate.Estate) error {
			done, err := d.Import(from, source, file)
			if err != nil {
				return err
			}
			p := a.page(a.Out)
			p.Line("%s in %s: %d new, %d other than before, %d gone, %d back; %s.\n", persons(len(from.People)), source, done.Added, done.Updated, done.Left, done.Back, count(done.NewGroups, "new group"))
			return nil
		})
	}
	return c
}

func persons(n int) string {
	if n == 1 {
		return "1 person"
	}
	return fmt.Sprintf("%d people", n)
}

func (a *app) askDirectory(live directory.Live, m directory.Map, passwordFile, ca string) (*directory.People, error) {
	live.Password = os.Getenv(passwordVariable)
	if passwordFile != "" {
		text, err := os.ReadFile(passwordFile)
		if err != nil {
			return nil, fmt.Errorf("--password-file: %w", err)
		}
		live.Password = strings.TrimRight(string(text), "\r\n")
	}
	address, err := live.Address()
	if err != nil {
		return nil, err
	}
	if live.User != "" && live.Password == "" {
		return nil, fmt.Errorf("there is no password for %s: set %s, or name a file with --password-file", live.User, passwordVariable)
	}
	if live.Base == "" {
		return nil, fmt.Errorf("--base says below which entry to search, as in --base dc=ternhollow,dc=example")
	}
	if ca != "" {
		text, err := os.ReadFile(ca)
		if err != nil {
			return nil, fmt.Errorf("--ca: %w", err)
		}
		live.CA = text
	}
	defer a.progress("asking the directory")()
	from, err := directory.ReadLDAP(live, m)
	if err != nil {
		return nil, outside{fmt.Errorf("%s: %w", address.Host, err)}
	}
	return from, nil
}

func readDirectory(name, as string, m directory.Map) (*directory.People, error) {
	if as == "" {
		as = map[string]string{".csv": "csv", ".ldif": "ldif", ".json": "scim", ".scim": "scim"}[filepath.Ext(name)]
	}
	read := map[string]func(io.Reader, directory.Map) (*directory.People, error){"csv": directory.ReadCSV, "ldif": directory.ReadLDIF, "scim": directory.ReadSCIM}[as]
	if read == nil {
		return nil, fmt.Errorf("%s does not tell what it is by its ending; say it with --as csv, ldif or scim", name)
	}
	in, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	from, err := read(in, m)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return from, nil
}
