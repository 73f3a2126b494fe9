package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
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
	var as, source, file, passwordFile, ca, atMost string
	var maps []string
	c := &cobra.Command{
		Use:   "import FILE|URL",
		Short: "Take people and groups over from a directory",
		Long: `Adds the people and groups of a list, updates those that are there, and marks as left those who came
from it before and are gone; the effect is told first. If many are gone at once it does nothing,
since a list that was cut off looks like that (--at-most-gone). It reads CSV, LDIF (RFC 2849), SCIM
users and groups (RFC 7643), by the file's ending or --as, and asks an LDAP directory (ldap:// or
ldaps://; RFC 4511) live. Who comes from it carries the tag source=NAME, by which they are known the
next time.

--map says what a key is taken from: id, name, email, status, starts, ends, groups, tag.KEY. The
password to sign in to a directory comes from ` + passwordVariable + ` or the file that --password-file names.`,
		Example: `  hgate import staff.csv --source staff --map id=login,tag.team=department
  hgate import people.ldif --source staff --dry-run
  hgate import ldaps://directory.ternhollow.example --base dc=ternhollow,dc=example \
    --user cn=reader,dc=ternhollow,dc=example`,
		ValidArgsFunction: firstFile,
		Args:              takes(1, 1),
	}
	a.editFlags(c, &e)
	c.Flags().StringArrayVar(&maps, "map", nil, "`key=attribute`, several with commas")
	c.Flags().StringVar(&as, "as", "", "`what` the file is: csv, ldif or scim (by its ending, where left out)")
	c.Flags().StringVar(&source, "source", "",
		"`name` of the source (the one from which people came before, if there is one)")
	c.Flags().StringVar(&atMost, "at-most-gone", "20%",
		"`how` many who came from it before may be gone: a number, or so many in a hundred")
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
			from, err = a.askDirectory(live, m, passwordFile, ca)
		} else {
			from, err = readDirectory(args[0], as, m)
		}
		if err != nil {
			return err
		}
		most, err := share(atMost)
		if err != nil {
			return err
		}
		if len(from.People) == 0 && !c.Flags().Changed("at-most-gone") {
			return fmt.Errorf("%s lists nobody, so nothing is done; if that is so, say how many may be gone with --at-most-gone",
				sourceName(args[0]))
		}
		return a.edit(e, func(d *draft.Draft, is *estate.Estate) error {
			if source == "" {
				if source, err = knownSource(is); err != nil {
					return err
				}
			}
			done, err := d.Import(from, source, file, most)
			if err != nil {
				return err
			}
			p := a.page(a.Out)
			p.Line("%s in %s: %d new, %d other than before, %d gone, %d back; %s.", persons(len(from.People)), source,
				done.Added, done.Updated, len(done.Gone), done.Back, count(done.NewGroups, "new group"))
			if len(done.Gone) > 0 {
				p.Line("Gone from it, and marked as left: %s.", named(done.Gone))
			}
			p.Line("")
			return nil
		})
	}
	return c
}

// share reads how many may be gone: N or N%.
func share(text string) (draft.Share, error) {
	digits, percent := strings.CutSuffix(strings.TrimSpace(text), "%")
	n, err := strconv.Atoi(digits)
	if err != nil || n < 0 || percent && n > 100 {
		return draft.Share{},
			fmt.Errorf("--at-most-gone %s: this is a number of people, as 3, or so many in a hundred, as 20%%", text)
	}
	return draft.Share{Number: n, Percent: percent}, nil
}

// knownSource gives the source from which people came before, if there is one alone.
func knownSource(e *estate.Estate) (string, error) {
	all := draft.Sources(e)
	switch len(all) {
	case 0:
		return "",
			fmt.Errorf("--source gives this directory a name by which its people are known the next time, as in --source staff")
	case 1:
		return all[0], nil
	}
	return "", fmt.Errorf("--source says which of the directories this is, from which people came before: %s",
		strings.Join(all, ", "))
}

// sourceName is a directory's address without what stands before its host.
func sourceName(text string) string {
	if scheme, rest, ok := strings.Cut(text, "://"); ok {
		return scheme + "://" + rest[strings.LastIndexByte(rest, '@')+1:]
	}
	return text
}

// named names some and counts the rest.
func named(all []string) string {
	const most = 20
	if len(all) <= most {
		return strings.Join(all, ", ")
	}
	return strings.Join(all[:most], ", ") + fmt.Sprintf(" and %d more", len(all)-most)
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
		return nil, fmt.Errorf("there is no password for %s: set %s, or name a file with --password-file", live.User,
			passwordVariable)
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
	from, err := directory.ReadLDAP(a.ctx, live, m)
	if err != nil {
		return nil, outside{fmt.Errorf("%s: %w", address.Host, err)}
	}
	return from, nil
}

func readDirectory(name, as string, m directory.Map) (*directory.People, error) {
	if as == "" {
		as = map[string]string{".csv": "csv", ".ldif": "ldif", ".json": "scim", ".scim": "scim"}[filepath.Ext(name)]
	}
	read := map[string]func(io.Reader, directory.Map) (*directory.People, error){"csv": directory.ReadCSV,
		"ldif": directory.ReadLDIF, "scim": directory.ReadSCIM}[as]
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
