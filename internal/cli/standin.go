package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hiddengate/internal/draft"
	"hiddengate/internal/gate"
	"hiddengate/internal/standin"
	"hiddengate/internal/standin/starting"
	"hiddengate/internal/view"
)

// standingIn is how a stand-in is started.
type standingIn struct {
	listen, data, like string
	trust, revoked     string
	idle               time.Duration
	others, schema     bool
}

func standInNames() (out []string) {
	for _, k := range starting.Kinds {
		out = append(out, k.Name)
	}
	return out
}

func (a *app) standInCommand() *cobra.Command {
	var how standingIn
	c := &cobra.Command{
		Use: "stand-in KIND", Short: "Start a small simulated system, for kinds that cannot be had here",
		Long: `Starts a simulation of a system that is not at hand, and serves it until it is ended: a cloud account, a
cluster, the console of a network or of a device, or an application. It decides by its own access
settings, which the commands above read and tell as those of a real system, and people can sign in to it
and try what they may. It listens on this machine alone. Without --data, what it knows is gone when it
ends.`,
		Example: "  hgate stand-in network --like ridge-net\n" +
			"  hgate stand-in cluster --data ~/cluster --listen 127.0.0.1:7400",
		Args:      takes(1, 1),
		ValidArgs: standInNames(),
	}
	c.Flags().
		StringVar(&how.listen, "listen", "127.0.0.1:0", "the `address` on which it listens; port 0 is any that is free")
	c.Flags().StringVar(&how.data, "data", "", "the `folder` that keeps what it knows")
	c.Flags().StringVar(&how.like, "like", "", "have it hold the places that the policy lists of a `system`")
	c.Flags().StringVar(&how.trust, "trust", "",
		"of a cluster: the `file` with certificates of authorities whose clients may sign in too")
	c.Flags().StringVar(&how.revoked, "revoked", "", "of a cluster: the `file` with the lists of what they have revoked")
	c.Flags().DurationVar(&how.idle, "idle", 10*time.Minute, "sign out whoever has sent nothing for this `time`")
	c.Flags().BoolVar(&how.others, "open-to-others", false, "let other machines reach it too")
	c.Flags().BoolVar(&how.schema, "schema", false, "print the JSON Schema of its access settings, and start nothing")
	_ = c.RegisterFlagCompletionFunc("like", a.completeSection("systems"))
	_ = c.MarkFlagDirname("data")
	a.formats(c, "text", "json")
	c.RunE = func(_ *cobra.Command, args []string) error {
		for _, k := range starting.Kinds {
			switch {
			case k.Name != args[0]:
			case how.schema:
				return a.standInSchema(k)
			default:
				return a.standIn(k, how)
			}
		}
		return unknown("stand-in", args[0], standInNames())
	}
	return c
}

func (a *app) standIn(k *starting.Kind, how standingIn) error {
	options := standin.Options{Data: how.data, Places: k.Places, Idle: how.idle, Now: time.Now, Trust: how.trust,
		Revoked: how.revoked}
	switch {
	case how.trust+how.revoked != "" && k.Name != "cluster":
		return fmt.Errorf("--trust and --revoked are for a cluster: people sign in to other stand-ins without certificates")
	case how.revoked != "" && how.trust == "":
		return errors.New("--revoked is of authorities that --trust names")
	}
	if how.idle <= 0 {
		return fmt.Errorf("--idle %s: write a time, as 10m", how.idle)
	}
	if how.like != "" {
		g, err := a.compiled()
		if err != nil {
			return err
		}
		if options.Places, err = placesLike(g, how.like, k); err != nil {
			return err
		}
	}
	if how.data == "" {
		dir, err := os.MkdirTemp("", "hgate-stand-in-")
		if err != nil {
			return outside{err}
		}
		defer os.RemoveAll(dir)
		options.Data = dir
	}
	dir, err := filepath.Abs(options.Data)
	if err != nil {
		return outside{err}
	}
	options.Data = dir
	r, err := k.Start(a.ctx, options, how.listen, how.others)
	if errors.Is(err, standin.ErrNotHere) {
		return &draft.Error{Message: err.Error(), Help: "listen on 127.0.0.1, or add --open-to-others"}
	}
	if err != nil {
		return outside{err}
	}
	defer r.Close()
	if err := a.standInSays(k, how, r); err != nil {
		return err
	}
	select {
	case <-a.ctx.Done():
		return nil
	case err := <-r.Done():
		if err != nil && !errors.Is(err, fs.ErrClosed) {
			return outside{err}
		}
		return nil
	}
}

func (a *app) standInSchema(k *starting.Kind) error {
	text, err := k.Schema()
	if err != nil {
		return err
	}
	if _, err := fmt.Fprintf(a.Out, "%s\n", text); err != nil {
		return outside{err}
	}
	return nil
}

// placesLike lists the places of a system as the policy has them.
func placesLike(g *gate.Gate, id string, k *starting.Kind) (out []standin.Place, err error) {
	system := g.Estate().Systems[id]
	switch {
	case system == nil:
		return nil, unknown("system", id, keys(g.Estate().Systems))
	case system.Kind.ID != k.Serves:
		return nil, fmt.Errorf("%s is a %s, and hgate stand-in %s stands in for a %s", id, system.Kind.ID, k.Name, k.Serves)
	}
	for _, p := range inventoryState(g, id).Places {
		if p.Path != "" {
			out = append(out, standin.Place{Path: p.Path, Type: p.Type})
		}
	}
	return out, nil
}

func (a *app) standInSays(k *starting.Kind, how standingIn, r *starting.Running) error {
	id := how.like
	if id == "" {
		id = "SYSTEM"
	}
	if a.format == "json" {
		return a.json(object{{"kind", k.Name}, {"at", r.At}, {"address", r.Address}, {"secret-file", r.SecretFile}})
	}
	p := a.page(a.Out)
	p.Line("%s", p.Paint(view.Maybe, standin.Said))
	p.Line("The simulated %s listens on %s until you end this command.", k.About, r.At)
	p.Line("")
	p.Line("To carry the policy to it:")
	p.Line("  hgate connect %s --driver stand-in-%s --accounts create \\", id, k.Name)
	fmt.Fprintf(p, "    --at %s \\\n    --secret-file %s\n", shellWord(r.Address), shellWord(r.SecretFile))
	p.Line("  hgate push %s", id)
	p.Line("To sign in as somebody:")
	for _, line := range r.SignIn {
		if _, err := fmt.Fprintf(p, "  %s\n", line); err != nil { // as one line, which can be copied
			return outside{err}
		}
	}
	return nil
}

// shellWord writes a text as one word for a shell.
func shellWord(text string) string {
	if strings.Trim(text, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_@%+=:,./-") == "" {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}
