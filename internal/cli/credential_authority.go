package cli

import (
	"crypto"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"
	"golang.org/x/crypto/ssh"
	"golang.org/x/term"

	"hiddengate/internal/credential"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/journal"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/private"
	"hiddengate/internal/splice"
	"hiddengate/internal/view"
)

// making is how the key of an authority is to be made.
type making struct {
	algorithm, lasts, fromKey, chain, keyFile string
	sealing                                   sealing
	rotate                                    bool
}

// sealing is how the key is sealed, and opened again.
type sealing struct {
	env, file, identity string
	command             []string
}

func (s *sealing) secret() policyfile.Secret {
	return policyfile.Secret{Env: s.env, File: s.file, Command: s.command}
}

func (a *app) authorityMake() *cobra.Command {
	var m making
	var e editing
	c := &cobra.Command{
		Use: "make SYSTEM", Short: "Make the key with which an authority signs, or take one over",
		Long: `Makes the private key of an authority, seals it in a file of yours with age, and writes its certificate
into the policy: by that, whatever the authority signed is told from anything else. Your own settings
then say where the key stands. With --from-key and --chain it takes over a key that an authority above
has signed. --rotate makes another key, and lets what the old one signed count to its end.`,
		Example: "  hgate credential authority make base-ca --identity .keys/ines.okafor --yes",
		Args:    takes(1, 1), ValidArgsFunction: a.completeSection("systems"),
	}
	f := c.Flags()
	f.StringVar(&m.algorithm, "algorithm", "", "the `sort` of key (ecdsa-p256, or for ssh ed25519, where left out)")
	f.StringVar(&m.lasts, "lasts", "3650d", "for how long its certificate holds, as a `duration`")
	f.StringVar(&m.fromKey, "from-key", "", "`file` with a private key in PEM to take over")
	f.StringVar(&m.chain, "chain", "", "`file` with its certificate and those above it in PEM, each signed by the next")
	f.StringVar(&m.keyFile, "key-file", "", "the `file` for the sealed key (one in your state folder, where left out)")
	f.StringVar(&m.sealing.identity, "identity", "", "seal it for the private SSH key in this `file`")
	f.StringVar(&m.sealing.env, "secret-env", "", "the `variable` of the environment that holds its passphrase")
	f.StringVar(&m.sealing.file, "secret-file", "", "the `file` that holds it, which you alone may read")
	f.StringSliceVar(&m.sealing.command, "secret-command", nil, "the `program`, with its arguments behind commas, "+
		"that prints it")
	f.BoolVar(&m.rotate, "rotate", false, "make another key beside the one that there is")
	_ = c.RegisterFlagCompletionFunc("algorithm",
		cobra.FixedCompletions(estate.KeyAlgorithms, cobra.ShellCompDirectiveNoFileComp))
	a.editFlags(c, &e)
	c.RunE = func(_ *cobra.Command, args []string) error { return a.makeAuthority(args[0], m, e) }
	return c
}

// authorityNamed finds an authority.
func authorityNamed(e *estate.Estate, id string) (*estate.System, error) {
	s := e.Systems[id]
	if s == nil {
		return nil, unknown("system", id, keys(e.Systems))
	}
	if !e.IsAuthority(s) {
		return nil, &draft.Error{Message: fmt.Sprintf("system %s is no authority: it is a %s", id, s.Kind.ID),
			Help: "hgate add system ID --kind " + estate.AuthorityKind}
	}
	return s, nil
}

func (a *app) makeAuthority(id string, m making, e editing) error {
	g, err := a.compiled()
	if err != nil {
		return err
	}
	s, err := authorityNamed(g.Estate(), id)
	if err != nil {
		return err
	}
	if len(s.Anchors) > 0 && !m.rotate {
		return &draft.Error{Message: "authority " + id + " has a key already",
			Help: "add --rotate to make another, beside which what the old one signed counts to its end"}
	}
	dir, err := a.folder()
	if err != nil {
		return err
	}
	made, chain, err := m.authority(g.Estate(), s, a.present().Time())
	if err != nil {
		return err
	}
	if e.dryRun {
		return a.edit(e, m.write(s, made, chain))
	}
	name, err := m.place(dir, id)
	if err != nil {
		return err
	}
	sealed, err := a.seal(made.key, m.sealing)
	if err != nil {
		return err
	}
	if err := writeFile(name, sealed); err != nil {
		return err
	}
	if err := a.edit(e, m.write(s, made, chain)); err != nil {
		os.Remove(name)
		return err
	}
	settings, err := a.keepsKey(dir, id, name, m.sealing)
	if err != nil {
		return err
	}
	if a.format == "text" {
		p := a.page(a.Out)
		p.Line("\n%s", p.Paint(view.Yes, "Authority "+id+" can sign."))
		p.Line("  its key     %s, sealed", name)
		p.Line("  settings    %s", settings)
	}
	return nil
}

// madeKey is an authority with its private key, which is to be sealed.
type madeKey struct {
	*credential.Authority
	key crypto.Signer
}

// authority makes an authority, or takes one over; with the certificates above it.
func (m *making) authority(e *estate.Estate, s *estate.System, now time.Time) (madeKey, []*x509.Certificate, error) {
	algorithm := m.algorithm
	if algorithm == "" {
		if algorithm = "ecdsa-p256"; s.Makes == estate.MakesSSH {
			algorithm = "ed25519"
		}
	}
	var key crypto.Signer
	var err error
	if m.fromKey != "" {
		text, wrong := private.ReadFile(m.fromKey, credential.MostRequest)
		if wrong != nil {
			return madeKey{}, nil, outside{fmt.Errorf("--from-key: %w", wrong)}
		}
		if key, err = credential.DecodeKey(text); err != nil {
			return madeKey{}, nil, fmt.Errorf("--from-key %s: %w", m.fromKey, err)
		}
	} else if key, err = credential.NewKey(algorithm); err != nil {
		return madeKey{}, nil, fmt.Errorf("--algorithm: %w", err)
	}
	if s.Makes == estate.MakesSSH {
		if m.chain != "" {
			return madeKey{}, nil, fmt.Errorf("--chain: authority %s makes certificates for ssh, and those have no chain", s.ID)
		}
		made, err := credential.NewSSHAuthority(key)
		return madeKey{made, key}, nil, err
	}
	if (m.fromKey == "") != (m.chain == "") {
		return madeKey{}, nil, errors.New("--from-key and --chain go together: a key with its certificate")
	}
	if m.chain != "" {
		text, err := os.ReadFile(m.chain)
		if err != nil {
			return madeKey{}, nil, outside{fmt.Errorf("--chain: %w", err)}
		}
		chain, err := credential.DecodeCertificates(text)
		if err != nil {
			return madeKey{}, nil, fmt.Errorf("--chain %s: %w", m.chain, err)
		}
		made, err := credential.ImportAuthority(chain, key)
		if err != nil {
			return madeKey{}, nil, fmt.Errorf("--chain %s: %w", m.chain, err)
		}
		return madeKey{made, key}, chain[1:], nil
	}
	lasts, err := estate.ParseDuration(m.lasts)
	if err != nil {
		return madeKey{}, nil, fmt.Errorf("--lasts %s: %w", m.lasts, err)
	}
	name := s.Title
	if name == "" {
		name = s.ID
	}
	made, err := credential.MakeAuthority(
		name,
		e.Title,
		key,
		credential.Span{From: now.Truncate(time.Second), Until: now.Add(lasts)},
	)
	return madeKey{made, key}, nil, err
}

// write puts the certificate into the policy.
func (m *making) write(
	s *estate.System,
	made madeKey,
	chain []*x509.Certificate,
) func(*draft.Draft, *estate.Estate) error {
	return func(d *draft.Draft, _ *estate.Estate) error {
		anchors := []*yaml.Node{splice.Scalar(made.String())}
		for _, old := range s.Anchors {
			anchors = append(anchors, splice.Scalar(old))
		}
		if err := d.Set("systems", s.ID, "anchors", splice.List(anchors...)); err != nil {
			return err
		}
		if len(chain) == 0 {
			return nil
		}
		var above []*yaml.Node
		for _, c := range chain {
			above = append(above, splice.Scalar(base64.StdEncoding.EncodeToString(c.Raw)))
		}
		return d.Set("systems", s.ID, "chain", splice.List(above...))
	}
}

// place says in which file the sealed key is to stand: never in the workspace.
func (m *making) place(dir, id string) (string, error) {
	name := m.keyFile
	if name == "" {
		state, err := journal.StateOf(dir, "authorities")
		if err != nil {
			return "", outside{err}
		}
		if err := os.MkdirAll(filepath.Dir(state), 0o700); err != nil {
			return "", outside{err}
		}
		for n := 1; ; n++ {
			name = fmt.Sprintf("%s-%s-%d.age", state, id, n)
			if _, err := os.Lstat(name); err != nil {
				break
			}
		}
	}
	name, err := filepath.Abs(name)
	if err != nil {
		return "", outside{err}
	}
	if err := keptOut(dir, "key", name); err != nil {
		return "", err
	}
	return name, nil
}

// seal seals a key as is said, or asks for a passphrase.
func (a *app) seal(key crypto.Signer, s sealing) ([]byte, error) {
	if s.identity != "" {
		text, err := private.ReadFile(s.identity, credential.MostRequest)
		if err != nil {
			return nil, outside{fmt.Errorf("--identity: %w", err)}
		}
		signer, err := ssh.ParsePrivateKey(text)
		if err != nil {
			return nil, fmt.Errorf("--identity %s: it is no private SSH key without a passphrase", s.identity)
		}
		return credential.Seal(key, "", []string{string(ssh.MarshalAuthorizedKey(signer.PublicKey()))})
	}
	phrase, err := a.sealPhrase(s.secret())
	if err != nil {
		return nil, err
	}
	return credential.Seal(key, phrase, nil)
}

// leastPhrase is how many characters a passphrase has at least.
const leastPhrase = 12

// sealPhrase finds the passphrase for a new key: from where the settings will say, else from the terminal, twice.
func (a *app) sealPhrase(s policyfile.Secret) (phrase string, err error) {
	if s.Given() {
		if phrase, err = reveal(s); err != nil {
			return "", outside{err}
		}
	} else if in, isFile := a.In.(*os.File); isFile && term.IsTerminal(int(in.Fd())) {
		if phrase, err = a.typedTwice(in, "A passphrase for the key: "); err != nil {
			return "", err
		}
	} else {
		return "", &draft.Error{Message: "the key of an authority is sealed, and nothing says with what",
			Help: "add --identity FILE of a private SSH key, or --secret-env, --secret-file or --secret-command"}
	}
	if len([]rune(phrase)) < leastPhrase {
		return "", fmt.Errorf("the passphrase has fewer than %d characters", leastPhrase)
	}
	return phrase, nil
}

// keepsKey writes into the user's own settings where the key of an authority stands.
func (a *app) keepsKey(dir, id, name string, s sealing) (string, error) {
	op, err := operator(dir)
	if err != nil {
		return "", settled(err)
	}
	files := []string{name}
	if was := op.Signing[id]; was != nil {
		files = append(files, was.Files...)
	}
	var list []*yaml.Node
	for _, f := range files {
		list = append(list, splice.Scalar(f))
	}
	pairs := []*yaml.Node{splice.Scalar("keys"), splice.List(list...)}
	if s.identity != "" {
		identity, err := filepath.Abs(s.identity)
		if err != nil {
			return "", outside{err}
		}
		pairs = append(pairs, splice.Scalar("identity"), splice.Scalar(identity))
	} else if secret := secretNode(s.env, s.file, s.command); secret != nil {
		pairs = append(pairs, splice.Scalar("secret"), secret)
	}
	return writeSettings(dir, func(f *splice.File, folder string) error {
		return f.Set(splice.Map(pairs...), folder, "authorities", id)
	})
}

func (a *app) authorityList() *cobra.Command {
	c := &cobra.Command{
		Use: "list", Short: "List the authorities, and which of them can sign here",
		Long:    "Lists the authorities, what they make, until when, and whether your settings say where the key stands.",
		Example: "  hgate credential authority list", Args: takes(0, 0),
	}
	c.RunE = func(*cobra.Command, []string) error {
		g, err := a.compiled()
		if err != nil {
			return err
		}
		dir, err := a.folder()
		if err != nil {
			return err
		}
		op, err := operator(dir)
		if err != nil {
			return settled(err)
		}
		e := g.Estate()
		var rows [][]view.Cell
		objects := []object{}
		for _, s := range estate.Sorted(e.Systems) {
			if !e.IsAuthority(s) {
				continue
			}
			anchors, err := credential.AnchorsOf(s)
			if err != nil {
				return err
			}
			until, key := "no key yet", "no"
			if len(anchors) > 0 {
				if until = "it is replaced"; anchors[0].Certificate != nil {
					until = anchors[0].Certificate.NotAfter.Format(time.DateOnly)
				}
			}
			if op.Signing[s.ID] != nil {
				key = "yes"
			}
			profiles := 0
			for _, p := range e.Profiles {
				if p.Authority.ID == s.ID {
					profiles++
				}
			}
			makes := makesText(s)
			rows = append(rows, []view.Cell{{Text: s.ID}, {Text: makes}, {Text: until}, {Text: key},
				{Text: count(profiles, "profile")}})
			objects = append(objects, object{{"id", s.ID}, {"makes", makes}, {"until", until}, {"signs_here", key == "yes"},
				{"profiles", profiles}})
		}
		if a.format == "json" {
			return a.json(object{{"rows", objects}})
		}
		p := a.page(a.Out)
		if len(rows) == 0 {
			p.Line("There is no authority: hgate add system ID --kind %s", estate.AuthorityKind)
			return nil
		}
		p.Table(0, []string{"authority", "makes", "until", "signs here", "profiles"}, rows)
		return nil
	}
	a.formats(c, "text", "json")
	return c
}

func makesText(s *estate.System) string {
	if s.Makes == "" {
		return estate.Makings[0]
	}
	return s.Makes
}

// signer opens the key of an authority whose certificate is one of the anchors: the one in use, or that of an anchor.
func (a *app) signer(s *estate.System, with credential.Anchor) (*credential.Authority, error) {
	dir, err := a.folder()
	if err != nil {
		return nil, err
	}
	op, err := operator(dir)
	if err != nil {
		return nil, settled(err)
	}
	k := op.Signing[s.ID]
	if k == nil {
		return nil, errNotHere
	}
	for _, name := range k.Files {
		sealed, err := private.ReadFile(name, 1<<16)
		if err != nil {
			return nil, outside{fmt.Errorf("the key of authority %s cannot be read: %w", s.ID, err)}
		}
		key, err := a.unseal(s.ID, name, sealed, k)
		if err != nil {
			return nil, outside{fmt.Errorf("the key of authority %s in %s: %w", s.ID, name, err)}
		}
		if made, err := with.With(key); err == nil {
			return made, nil
		}
	}
	return nil, outside{fmt.Errorf("none of the keys that your settings name for authority %s is that of its certificate",
		s.ID)}
}

// errNotHere says that the user's own settings name no key of an authority.
var errNotHere = errors.New("your settings do not say where its key stands")

func (a *app) unseal(id, name string, sealed []byte, k *policyfile.SigningKeys) (crypto.Signer, error) {
	if k.Identity != "" {
		text, err := private.ReadFile(k.Identity, credential.MostRequest)
		if err != nil {
			return nil, err
		}
		return credential.Unseal(sealed, "", text)
	}
	var phrase string
	if k.Secret.Given() {
		text, err := reveal(k.Secret)
		if err != nil {
			return nil, err
		}
		phrase = text
	} else {
		text, err := a.passphrase(name)
		if err != nil {
			return nil, err
		}
		phrase = string(text)
	}
	return credential.Unseal(sealed, phrase, nil)
}

// anchorInUse gives the anchor with which an authority signs now.
func anchorInUse(s *estate.System) (credential.Anchor, error) {
	if len(s.Anchors) == 0 {
		return credential.Anchor{}, &draft.Error{Message: "authority " + s.ID + " has no key yet",
			Help: "hgate credential authority make " + s.ID}
	}
	return credential.ParseAnchor(s.Makes, s.Anchors[0])
}

func (a *app) authorityShow() *cobra.Command {
	var out string
	c := &cobra.Command{
		Use: "show AUTHORITY", Short: "Show an authority, and have its certificate for systems that are to trust it",
		Long: `Shows what an authority makes, its certificates and how long they hold. --out writes them into a new file,
for systems that are to trust what it signs; for ssh, its public keys.`,
		Example: "  hgate credential authority show base-ca\n" +
			"  hgate credential authority make base-ca --identity .keys/ines.okafor --yes\n" +
			"  hgate credential authority show base-ca --out ~/base-ca.pem",
		Args: takes(1, 1), ValidArgsFunction: a.completeSection("systems"),
	}
	c.Flags().StringVar(&out, "out", "", "the new `file` for its certificates")
	c.RunE = func(_ *cobra.Command, args []string) error {
		g, err := a.compiled()
		if err != nil {
			return err
		}
		s, err := authorityNamed(g.Estate(), args[0])
		if err != nil {
			return err
		}
		anchors, err := credential.AnchorsOf(s)
		if err != nil {
			return err
		}
		if out == "" {
			a.authorityText(s, anchors)
			return nil
		}
		var text []byte
		for _, anchor := range anchors {
			text = append(text, anchor.Encode()...)
		}
		if len(text) == 0 {
			_, err := anchorInUse(s)
			return err
		}
		return a.writeNew(out, text)
	}
	return c
}

func (a *app) authorityText(s *estate.System, anchors []credential.Anchor) {
	p := a.page(a.Out)
	p.Line("%s", p.Paint(view.Heading, "authority "+s.ID))
	list := []pair{{"title", s.Title}, {"makes", makesText(s)}}
	for i, anchor := range anchors {
		key := "key"
		if i > 0 {
			key = "older key"
		}
		if c := anchor.Certificate; c != nil {
			list = append(list, pair{key, fmt.Sprintf("%s, until %s, serial %s", c.Subject, c.NotAfter.Format(time.DateOnly),
				c.SerialNumber.Text(16))})
		} else {
			list = append(list, pair{key, ssh.FingerprintSHA256(anchor.SSH)})
		}
	}
	if len(anchors) == 0 {
		list = append(list, pair{"key", "none yet"})
	}
	facts(p, 2, list)
}
