package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/draft"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
	"hiddengate/internal/view"
)

// connecting is how a system is to be reached.
type connecting struct {
	driver, at, env, file, accounts string
	command                         []string
	remove                          bool
}

func (n *connecting) given() bool {
	return n.driver+n.at+n.env+n.file+n.accounts != "" || len(n.command) > 0
}

// wrong says what does not go together; nil for nothing.
func (n *connecting) wrong() error {
	ways := 0
	for _, given := range []bool{n.env != "", n.file != "", len(n.command) > 0} {
		if given {
			ways++
		}
	}
	switch {
	case n.driver == "" || n.at == "":
		return &draft.Error{Message: "a connection has a driver and an address", Help: "add --driver and --at"}
	case ways > 1:
		return fmt.Errorf("the password comes from one place: a variable, a file or a command")
	case n.accounts != "" && n.accounts != "listed" && n.accounts != "create":
		return fmt.Errorf("--accounts %q: write listed or create", n.accounts)
	}
	return nil
}

func (a *app) connectCommand() *cobra.Command {
	var n connecting
	c := &cobra.Command{
		Use: "connect [SYSTEM]", Short: "Say in your own settings how a real system is reached, and try it",
		Long: `Tries to reach the system, and writes into your own settings how: no workspace can say it. The password
never stands there; name where it comes from. Without flags it tries what your settings say of the
system, and without a system it lists them. A database's certificate is checked in full, except on this
machine, unless the address says otherwise; the key of a server that is reached by SSH has to be among
your known hosts.`,
		Example: "  hgate connect obsdb --driver postgres --at postgres://hgate@db.ternhollow.example/obs \\\n" +
			"    --secret-env OBS_PASSWORD\n" +
			"  hgate connect base-hosts --driver linux --at ssh://root@base.ternhollow.example\n" +
			"  hgate connect obsdb",
		Args: takes(0, 1),
	}
	a.systemArg(c)
	c.Flags().StringVar(&n.driver, "driver", "", "the `driver`: "+strings.Join(driverNames(), ", "))
	c.Flags().StringVar(&n.at, "at", "", "the `address`, without a password")
	c.Flags().StringVar(&n.env, "secret-env", "", "the `variable` of the environment that holds the password or key")
	c.Flags().StringVar(&n.file, "secret-file", "", "the `file` that holds it, which you alone may read")
	c.Flags().StringSliceVar(&n.command, "secret-command", nil,
		"the `program`, with its arguments behind commas, that prints it")
	c.Flags().StringVar(&n.accounts, "accounts", "", "`listed`, or create: make accounts for whoever has access and none")
	c.Flags().BoolVar(&n.remove, "remove", false, "take it out of your settings")
	c.RunE = func(_ *cobra.Command, args []string) error {
		dir, err := a.folder()
		if err != nil {
			return err
		}
		op, err := operator(dir)
		if errors.Is(err, fs.ErrNotExist) && n.given() { // it is made
			op, err = &policyfile.Operator{}, nil
		}
		if err != nil {
			return settled(err)
		}
		switch {
		case len(args) == 0 && (n.given() || n.remove):
			return fmt.Errorf("name the system: hgate connect SYSTEM --driver … --at …")
		case len(args) == 0:
			return a.listConnections(op)
		case n.remove:
			return a.disconnect(dir, args[0], op)
		}
		return a.connect(dir, args[0], op, n)
	}
	return c
}

func (a *app) listConnections(op *policyfile.Operator) error {
	var rows [][]view.Cell
	for _, id := range keys(op.Systems) {
		r := op.Systems[id]
		rows = append(rows, []view.Cell{{Text: id}, {Text: r.Driver}, {Text: r.At}})
	}
	p := a.page(a.Out)
	if len(rows) == 0 {
		p.Line("Your settings do not say how any system of this workspace is reached.")
		return nil
	}
	p.Table(0, []string{"system", "driver", "address"}, rows)
	return nil
}

// connect tries to reach a system, and writes down how.
func (a *app) connect(dir, id string, op *policyfile.Operator, n connecting) error {
	reach := op.Systems[id]
	if n.given() {
		if err := n.wrong(); err != nil {
			return err
		}
		reach = &policyfile.Reach{Driver: n.driver, At: n.at, Create: n.accounts == "create",
			Secret: policyfile.Secret{Env: n.env, File: n.file, Command: n.command}}
	}
	c, err := a.carriedBy(id, reach)
	if err != nil {
		return err
	}
	s, snap, err := a.openSystem(c)
	if err != nil {
		return err
	}
	s.Close()
	p := a.page(a.Out)
	p.Line("%s", p.Paint(view.Yes, fmt.Sprintf("%s is reached: %s and %s.", id, count(len(snap.State().Places), "place"),
		count(len(snap.State().Accounts), "account"))))
	if !n.given() {
		return nil
	}
	name, err := writeSettings(dir, func(f *splice.File, folder string) error {
		return f.Set(n.node(), folder, "connect", id)
	})
	if err != nil {
		return err
	}
	p.Line("Wrote %s.", name)
	return nil
}

func (a *app) disconnect(dir, id string, op *policyfile.Operator) error {
	if op.Systems[id] == nil {
		return unknown("connection", id, keys(op.Systems))
	}
	name, err := writeSettings(dir, func(f *splice.File, folder string) error {
		return f.Delete(0, folder, "connect", id)
	})
	if err == nil {
		a.page(a.Out).Line("Wrote %s.", name)
	}
	return err
}

// node writes a connection as a file does.
func (n *connecting) node() *yaml.Node {
	pairs := []*yaml.Node{splice.Scalar("driver"), splice.Scalar(n.driver), splice.Scalar("at"), splice.Scalar(n.at)}
	if secret := secretNode(n.env, n.file, n.command); secret != nil {
		pairs = append(pairs, splice.Scalar("secret"), secret)
	}
	if n.accounts != "" {
		pairs = append(pairs, splice.Scalar("accounts"), splice.Scalar(n.accounts))
	}
	return splice.Map(pairs...)
}

// secretNode writes where a secret comes from as a file does; nil if nothing is said.
func secretNode(env, file string, command []string) *yaml.Node {
	switch {
	case env != "":
		return splice.Map(splice.Scalar("env"), splice.Scalar(env))
	case file != "":
		return splice.Map(splice.Scalar("file"), splice.Scalar(file))
	case len(command) > 0:
		var words []*yaml.Node
		for _, word := range command {
			words = append(words, splice.Scalar(word))
		}
		return splice.Map(splice.Scalar("command"), splice.List(words...))
	}
	return nil
}

// writeSettings changes the user's own settings, which are read again before they count.
func writeSettings(dir string, change func(f *splice.File, folder string) error) (name string, err error) {
	if name, err = settingsFile(); err != nil {
		return "", err
	}
	if name == "" {
		return "", outside{errors.New("you have no home folder in which your settings could stand")}
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return "", outside{err}
	}
	text, err := os.ReadFile(name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", outside{err}
	}
	f, err := splice.Parse(text)
	if err != nil {
		return "", fmt.Errorf("%s: %w", name, err)
	}
	folder, err := folderIn(f, dir)
	if err != nil {
		return "", err
	}
	if err := change(f, folder); err != nil {
		return "", fmt.Errorf("%s: %w", name, err)
	}
	return name, replaceFile(name, f.Bytes, func(next string) error {
		_, err := policyfile.ReadOperator(os.DirFS(filepath.Dir(name)), filepath.Base(next))
		return err
	})
}

// folderIn gives the name under which settings have a workspace's folder.
func folderIn(f *splice.File, dir string) (string, error) {
	folders, err := foldersOf(dir)
	if err != nil {
		return "", err
	}
	for _, key := range f.Keys() {
		if slices.Contains(folders, filepath.Clean(key)) {
			return key, nil
		}
	}
	return folders[0], nil
}
