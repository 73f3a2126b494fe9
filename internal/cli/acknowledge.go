package cli

import (
	"cmp"
	"fmt"
	"os"
	"os/user"
	"slices"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
)

// acknowledging is the flags by which somebody accepts what a role asks to be acknowledged.
type acknowledging struct{ why, by string }

// byVariable says who is at the keyboard, where the name of the account does not.
const byVariable = "HGATE_BY"

func (k *acknowledging) flags(c *cobra.Command) {
	c.Flags().StringVar(&k.why, "acknowledge", "", "accept what the role asks to be acknowledged, and say `why`")
	c.Flags().StringVar(&k.by, "by", "", "`who` accepts it ("+byVariable+", or the name of the account, where left out)")
}

// apply adds to a grant's body who accepted what its roles ask; without a reason it refuses.
func (k *acknowledging) apply(a *app, e *estate.Estate, body *yaml.Node) error {
	asked := askedOf(e, body)
	accepted := splice.List()
	for _, r := range asked {
		if k.why == "" {
			return &draft.Error{Message: fmt.Sprintf("role %s asks whoever grants it to accept: %s", r.ID, r.Acknowledge),
				Help: "say why it is so, with --acknowledge \"…\""}
		}
		why := splice.Scalar(k.why)
		why.Style = yaml.DoubleQuotedStyle
		now, err := a.day(e.Zone)
		if err != nil {
			return err
		}
		accepted.Content = append(accepted.Content,
			splice.Map(splice.Scalar("role"), splice.Scalar(r.ID), splice.Scalar("by"), splice.Scalar(k.who()),
				splice.Scalar("why"), why,
				splice.Scalar("date"), splice.Scalar(dateOf(e.Zone, now))))
	}
	if len(accepted.Content) > 0 {
		body.Content = append(body.Content, splice.Scalar("acknowledged"), accepted)
	}
	return nil
}

// who names whoever is at the keyboard.
func (k *acknowledging) who() string {
	name := cmp.Or(k.by, os.Getenv(byVariable))
	if u, err := user.Current(); name == "" && err == nil {
		name = u.Username
	}
	return cmp.Or(name, "unknown")
}

// askedOf lists the roles of a grant's body that ask for something that it does not say is accepted.
func askedOf(e *estate.Estate, body *yaml.Node) (out []*estate.Role) {
	var done []string
	for _, n := range splice.Items(value(body, "acknowledged")) {
		if role := value(n, "role"); role != nil {
			done = append(done, role.Value)
		}
	}
	for _, key := range []string{"role", "roles"} {
		for _, n := range splice.Items(value(body, key)) {
			if r := e.Roles[n.Value]; r != nil && r.Acknowledge != "" && !slices.Contains(done, r.ID) {
				out = append(out, r)
			}
		}
	}
	return out
}

// recheck sees, once a grant has been changed, that what its roles ask is accepted.
func (k *acknowledging) recheck(a *app, d *draft.Draft, e *estate.Estate, s policyfile.Section, id string) error {
	if s.Name != "grants" {
		return nil
	}
	body, err := d.Body("grants", id)
	if err != nil || len(askedOf(e, body)) == 0 {
		return err
	}
	more := splice.Map()
	for i := 0; i+1 < len(body.Content); i += 2 {
		if key := body.Content[i].Value; key == "role" || key == "roles" || key == "acknowledged" {
			more.Content = append(more.Content, body.Content[i], body.Content[i+1])
		}
	}
	old := splice.Items(value(body, "acknowledged"))
	if err := k.apply(a, e, more); err != nil {
		return err
	}
	list := splice.List(old...)
	list.Content = append(list.Content, more.Content[len(more.Content)-1].Content...)
	return d.Set("grants", id, "acknowledged", list)
}
