package policyfile

import (
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
)

// Operator is what the user of the program says of one workspace, in a file of their own: where its ledger is, and who
// hears of what. Nothing in a workspace says that.
type Operator struct {
	Ledger  LedgerPlace
	Notices []*Notice // by name
	Systems map[string]*Reach
	// Signing is where the private keys of authorities stand.
	Signing map[string]*SigningKeys
}

// SigningKeys says where the private keys of an authority stand, and how they are opened.
type SigningKeys struct {
	Files    []string // sealed with age, the one in use first
	Secret   Secret   // the passphrase; where none is given, and no identity, the terminal is asked
	Identity string   // the file of a private SSH key, with which they open
}

// Reach is how a real system is reached, and whose accounts it has.
type Reach struct {
	Driver string
	At     string
	Secret Secret
	// Create makes an account, named after the id, for whoever has access to the system and none there.
	Create bool
}

// LedgerPlace is where a ledger is kept: a file of SQLite, or a database of PostgreSQL.
type LedgerPlace struct {
	At     string // "": a file in the user's state folder
	Secret Secret
}

// Secret is where a secret comes from: a variable of the environment, a file that the user alone may read, or what a
// command prints.
type Secret struct {
	Env, File string
	Command   []string // a program with its arguments; no shell comes between
}

// Given says whether there is a secret at all.
func (s Secret) Given() bool { return s.Env != "" || s.File != "" || len(s.Command) > 0 }

// Notice says who hears of which events.
type Notice struct {
	Name   string
	To     string           // a web address, `mailto:` with an address, or a file
	About  []string         // kinds of event, or beginnings that end with a dot
	On     estate.Resources // the places whose access they are about; nil: all
	Secret Secret           // by which a web address can tell that a notice is real, or the password of the mail server
	Mail   MailServer
}

// MailServer is by which a notice is sent by mail.
type MailServer struct {
	Server string // HOST:PORT
	From   string
	User   string // whose password the secret is; "": it asks for none
	NoTLS  bool
}

var secretFields = []field{
	of("env", textForm, "the variable of the environment that holds it", func(s *Secret) *string { return &s.Env }),
	of("file", textForm, "the file that holds it, which the user alone may read",
		func(s *Secret) *string { return &s.File }),
	of("command", listOf(textForm), "a program with its arguments, which prints it",
		func(s *Secret) *[]string { return &s.Command }),
}

var secretForm = form[Secret]{
	name:   "secret",
	schema: tableSchema(secretFields),
	read: func(r *reader, n *yaml.Node) (Secret, bool) {
		var s Secret
		before := len(r.errors)
		ok := r.fields(secretFields, &s, n, owner{"a secret", r.at(n)})
		ways := 0
		for _, given := range []bool{s.Env != "", s.File != "", len(s.Command) > 0} {
			if given {
				ways++
			}
		}
		if ok && ways != 1 {
			r.wrong(n, "write {env: VARIABLE}, {file: PATH} or {command: [PROGRAM, ARGUMENT]}",
				"a secret comes from a variable, a file or a command")
		}
		return s, ok && len(r.errors) == before
	},
}

var ledgerFields = []field{
	of(
		"at",
		textForm,
		"an absolute path of a file of SQLite, or postgres://USER@HOST/DATABASE (a file in the user's state "+
			"folder, where left out)",
		func(l *LedgerPlace) *string { return &l.At },
	),
	of("secret", secretForm, "the password of that user", func(l *LedgerPlace) *Secret { return &l.Secret }),
}

var ledgerForm = record[LedgerPlace]("ledger", "a ledger", ledgerFields)

var aboutForm = scalarForm(
	"kind of event",
	pattern(`[a-z]+\.([a-z-]+|\*)?`),
	func(_ *reader, text string) (string, error) {
		kind := strings.TrimSuffix(text, "*")
		if !slices.ContainsFunc(ledger.Kinds, func(k ledger.Kind) bool { return k.In(kind) }) {
			return "", fmt.Errorf("%q is no kind of event: write one, as request.made, or a beginning, as request.*", text)
		}
		return kind, nil
	},
)

var noticeFields = []field{
	of("to", textForm, "https://…, mailto:NAME@HOST, or the absolute path of a file",
		func(n *Notice) *string { return &n.To }).must(),
	of("about", listOf(aboutForm), "kinds of event, as request.made, or beginnings, as request.*",
		func(n *Notice) *[]string { return &n.About }).must(),
	of("on", resourcesForm, "the places whose access the events are about (all, where left out)",
		func(n *Notice) *estate.Resources { return &n.On }),
	of("secret", secretForm, "the key by which the receiver can tell that a notice is real; of mail, the password",
		func(n *Notice) *Secret { return &n.Secret }),
	of("server", textForm, "of mail: HOST:PORT of the mail server", func(n *Notice) *string { return &n.Mail.Server }),
	of("from", textForm, "of mail: the address of the sender", func(n *Notice) *string { return &n.Mail.From }),
	of("user", textForm, "of mail: who signs in at the mail server", func(n *Notice) *string { return &n.Mail.User }),
	of("no-tls", flagForm, "of mail: the connection may be open for others to read",
		func(n *Notice) *bool { return &n.Mail.NoTLS }),
}

var noticesForm = form[[]*Notice]{name: "notices by name", schema: object{"type": "object"},
	read: func(r *reader, n *yaml.Node) ([]*Notice, bool) {
		found := map[string]*Notice{}
		ok := r.pairs(n, "notices by name", func(key, value *yaml.Node) {
			one := &Notice{Name: key.Value}
			if err := estate.CheckID(one.Name); err != nil {
				r.wrong(key, "", "%s", err)
			}
			before := len(r.errors)
			if r.fields(noticeFields, one, value, owner{"notice " + one.Name, r.at(key)}) && len(r.errors) == before {
				if why := one.wrong(); why != "" {
					r.wrong(value, "", "notice %s: %s", one.Name, why)
				}
				found[one.Name] = one
			}
		})
		var out []*Notice
		for _, name := range slices.Sorted(maps.Keys(found)) {
			out = append(out, found[name])
		}
		return out, ok
	}}

// wrong says what keeps a notice from being sent; "" for nothing.
func (n *Notice) wrong() string {
	switch u, err := url.Parse(n.To); {
	case filepath.IsAbs(n.To):
		return ""
	case err != nil:
		return "`to` is no address"
	case u.Scheme == "mailto" && (n.Mail.Server == "" || n.Mail.From == ""):
		return "mail needs `server` and `from`"
	case u.Scheme == "mailto" && strings.ContainsAny(n.To+n.Mail.From, "\r\n, <>"):
		return "an address of mail is one, as desk@ternhollow.example"
	case u.Scheme == "mailto":
		return ""
	case u.User != nil:
		return "`to` holds a name or password: take it out, and give a `secret`"
	case u.Scheme == "https" && u.Host != "":
		return ""
	case u.Scheme == "http" && (u.Hostname() == "localhost" || u.Hostname() == "127.0.0.1" || u.Hostname() == "::1"):
		return ""
	case u.Scheme == "http":
		return "what goes over http:// can be read on the way: write https://"
	}
	return "`to` is https://…, mailto:NAME@HOST, or the absolute path of a file"
}

// The values of accounts.
const (
	accountsListed = "listed"
	accountsCreate = "create"
)

var reachFields = []field{
	of("driver", textForm, "what kind of real system it is, as postgres",
		func(r *Reach) *string { return &r.Driver }).must(),
	of("at", textForm, "its address, without a password", func(r *Reach) *string { return &r.At }).must(),
	of("secret", secretForm, "the password of hgate's own account there", func(r *Reach) *Secret { return &r.Secret }),
	of("accounts", accountsForm, "create makes an account, named after the id, for whoever has access and none; listed, "+
		"the default, goes by the accounts that the inventory lists", func(r *Reach) *bool { return &r.Create }),
}

var accountsForm = scalarForm("listed or create", object{"enum": []string{accountsListed, accountsCreate}},
	func(_ *reader, text string) (bool, error) {
		if text != accountsListed && text != accountsCreate {
			return false, fmt.Errorf("%q is neither %s nor %s", text, accountsListed, accountsCreate)
		}
		return text == accountsCreate, nil
	})

var reachesForm = form[map[string]*Reach]{name: "connections by system", schema: object{"type": "object"},
	read: func(r *reader, n *yaml.Node) (map[string]*Reach, bool) {
		return bySystem[Reach](r, n, "connections by system", "the connection of ", reachFields)
	}}

var signingFields = []field{
	of("keys", listOf(textForm), "files with its private keys, sealed with age, the one in use first",
		func(k *SigningKeys) *[]string { return &k.Files }).must(),
	of("secret", secretForm, "the passphrase with which they open", func(k *SigningKeys) *Secret { return &k.Secret }),
	of("identity", textForm, "the file of a private SSH key, with which they open",
		func(k *SigningKeys) *string { return &k.Identity }),
}

var signingForm = form[map[string]*SigningKeys]{name: "keys by authority", schema: object{"type": "object"},
	read: func(r *reader, n *yaml.Node) (map[string]*SigningKeys, bool) {
		return bySystem[SigningKeys](r, n, "keys by authority", "the keys of ", signingFields)
	}}

// bySystem reads entries of the user's own settings by the ids of systems.
func bySystem[T any](r *reader, n *yaml.Node, name, one string, table []field) (map[string]*T, bool) {
	out := map[string]*T{}
	ok := r.pairs(n, name, func(key, value *yaml.Node) {
		entry := new(T)
		if err := estate.CheckID(key.Value); err != nil {
			r.wrong(key, "", "%s", err)
		}
		before := len(r.errors)
		if r.fields(table, entry, value, owner{one + key.Value, r.at(key)}) && len(r.errors) == before {
			out[key.Value] = entry
		}
	})
	return out, ok
}

var operatorFields = []field{
	of("ledger", ledgerForm, "where the workspace's ledger is", func(o *Operator) *LedgerPlace { return &o.Ledger }),
	of("connect", reachesForm, "how real systems are reached", func(o *Operator) *map[string]*Reach { return &o.Systems }),
	of("authorities", signingForm, "where the private keys of authorities stand",
		func(o *Operator) *map[string]*SigningKeys { return &o.Signing }),
	of("notify", noticesForm, "who hears of which events", func(o *Operator) *[]*Notice { return &o.Notices }),
}

// ReadOperator reads the user's own settings from a file, by the workspaces' folders. Its error is a diagnostic.List.
func ReadOperator(files fs.FS, name string) (map[string]*Operator, error) {
	l := &loader{estate: estate.New(), zone: clock.UTC, texts: map[string][]byte{}, lines: map[string][]string{}}
	out := map[string]*Operator{}
	if d := l.open(files, name); d != nil {
		for _, root := range d.roots {
			d.pairs(root, "settings by the folder of a workspace", func(key, value *yaml.Node) {
				if !filepath.IsAbs(key.Value) {
					d.wrong(key, "write the whole path of the folder", "%q is no folder of a workspace", key.Value)
					return
				}
				one := &Operator{}
				d.fields(operatorFields, one, value, owner{"the workspace " + key.Value, d.at(key)})
				out[filepath.Clean(key.Value)] = one
			})
		}
	}
	if len(l.errors) > 0 {
		return nil, l.errors.Sort()
	}
	return out, nil
}

// OperatorPages gives the tables of the user's own settings as they are printed.
func OperatorPages() []Page {
	var out []Page
	for _, t := range []struct {
		name, doc string
		table     []field
	}{
		{"of a workspace", "Under the folder of a workspace.", operatorFields},
		{"ledger", "Under `ledger`.", ledgerFields},
		{"a connection", "Under `connect`, by the id of a system.", reachFields},
		{"an authority", "Under `authorities`, by the id of a system.", signingFields},
		{"a notice", "Under `notify`, by a name.", noticeFields},
		{"a secret", "Under `secret`.", secretFields},
	} {
		p := Page{Name: t.name, Doc: t.doc}
		for _, f := range t.table {
			p.Fields = append(p.Fields, PageField{f.name, f.form, f.doc, f.required, f.authority, f.names})
		}
		out = append(out, p)
	}
	return out
}
