package cli

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/signature"
)

// acting is the flags that say who acts, and by which key.
type acting struct{ by, key string }

// Variables of the environment that say the same.
const (
	keyVariable        = "HGATE_KEY"
	passphraseVariable = "HGATE_KEY_PASSPHRASE"
)

func (w *acting) flags(a *app, c *cobra.Command) { w.flagsAs(a, c, "by") }

// flagsAs has another name for who acts, where `by` is somebody else.
func (w *acting) flagsAs(a *app, c *cobra.Command, name string) {
	c.Flags().
		StringVar(&w.by, name, "", "`who` acts (who the user of the operating system is in the policy, where left out)")
	c.Flags().StringVar(&w.key, "key", "", "`file` with the private SSH key to sign with ("+keyVariable+
		", or a key of the SSH agent, where left out)")
	_ = c.RegisterFlagCompletionFunc(name, a.completeSection("people"))
}

// actor is who acts in a command.
type actor struct {
	who  estate.Principal // the zero value if the user is nobody in the policy
	user string           // of the operating system
	own  bool             // the user acts as the policy says
	keys []string         // of who acts
}

// text names who acts, as events do: "" for nobody in the policy.
func (w actor) text() string {
	if w.who == (estate.Principal{}) {
		return ""
	}
	return w.who.String()
}

// osUser names the user of the operating system.
func (a *app) osUser() string {
	if a.User != "" {
		return a.User
	}
	u, err := user.Current()
	if err != nil {
		return "unknown"
	}
	_, name, found := strings.Cut(u.Username, `\`) // of a domain
	if !found {
		name = u.Username
	}
	return name
}

// userIs finds who a user of the operating system is in the policy.
func userIs(e *estate.Estate, name string) (estate.Principal, bool) {
	if p, ok := e.Actors[name]; ok {
		return p, true
	}
	p := estate.Principal{ID: name}
	return p, e.People[name] != nil
}

// whoActs finds who acts, which has to be somebody in the policy.
func (w *acting) whoActs(a *app, e *estate.Estate) (actor, error) {
	out := actor{user: a.osUser()}
	own, known := userIs(e, out.user)
	switch {
	case w.by != "":
		p, err := estate.ParsePrincipal(w.by)
		if err != nil {
			return out, fmt.Errorf("--by: %w", err)
		}
		if p.Kind != estate.IsPerson && p.Kind != estate.IsService {
			return out, fmt.Errorf("--by %s: a person or a service acts", w.by)
		}
		out.who = p
	case known:
		out.who = own
	default:
		return out, &draft.Error{Message: fmt.Sprintf("the policy does not say who acts as the user %s", out.user),
			Help: fmt.Sprintf("hgate set workspace --actors %s=ID, or add --by ID with a key of theirs", out.user)}
	}
	s := e.Subject(out.who)
	if s == nil {
		return out, unknown(map[bool]string{true: "service", false: "person"}[out.who.Kind == estate.IsService], out.who.ID,
			append(keys(e.People), keys(e.Services)...))
	}
	out.own, out.keys = known && own == out.who, s.Keys
	return out, nil
}

// sign signs a statement with a key of who acts: always where they have keys, and it has to be where somebody else acts
// for them or the workspace requires it. It gives "" where no signature is needed.
func (w *acting) sign(a *app, e *estate.Estate, who actor, s ledger.Statement) (string, error) {
	if len(who.keys) == 0 {
		switch {
		case !who.own:
			return "", &draft.Error{
				Message: fmt.Sprintf("the user %s is not %s in the policy, and %s has no keys there to sign with", who.user,
					who.who, who.who),
				Help: fmt.Sprintf("hgate set person %s --keys \"ssh-ed25519 …\", and sign with that key", who.who.ID),
			}
		case e.SigningRequired && s.Kind.NeedsSignature():
			return "", &draft.Error{
				Message: fmt.Sprintf("the workspace requires signatures, and %s has no keys in the policy", who.who),
				Help:    fmt.Sprintf("hgate set person %s --keys \"ssh-ed25519 …\"", who.who.ID),
			}
		}
		return "", nil
	}
	key, err := w.find(a, who)
	if err != nil {
		return "", err
	}
	defer key.Close()
	text, err := s.Signed()
	if err != nil {
		return "", err
	}
	signed, err := signature.Sign(key, text)
	if err != nil {
		return "", outside{err}
	}
	return signed, nil
}

func (w *acting) find(a *app, who actor) (*signature.Found, error) {
	if name := cmp.Or(w.key, os.Getenv(keyVariable)); name != "" {
		key, err := signature.FromFile(name, who.keys, func() ([]byte, error) { return a.passphrase(name) })
		if err != nil {
			return nil, outside{err}
		}
		return key, nil
	}
	key, err := signature.FromAgent(os.Getenv("SSH_AUTH_SOCK"), who.keys)
	if errors.Is(err, signature.ErrNone) {
		return nil, &draft.Error{
			Message: fmt.Sprintf("%s signs what they do, and none of their keys is at hand", who.who),
			Help:    "ssh-add the key, or name its file with --key",
		}
	}
	if err != nil {
		return nil, outside{err}
	}
	return key, nil
}

// passphrase reads what opens a private key: from the environment, else from the terminal.
func (a *app) passphrase(name string) ([]byte, error) {
	if phrase, ok := os.LookupEnv(passphraseVariable); ok {
		return []byte(phrase), nil
	}
	in, isFile := a.In.(*os.File)
	if !isFile || !term.IsTerminal(int(in.Fd())) {
		return nil, fmt.Errorf("the key in %s has a passphrase: set %s, or use an SSH agent", name, passphraseVariable)
	}
	fmt.Fprintf(a.page(a.Err), "Passphrase of %s: ", filepath.Base(name))
	phrase, err := term.ReadPassword(int(in.Fd()))
	fmt.Fprintln(a.page(a.Err))
	return phrase, err
}
