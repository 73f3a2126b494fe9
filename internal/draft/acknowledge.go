package draft

import (
	"fmt"
	"slices"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/estate"
	"hiddengate/internal/splice"
)

// Acceptance is who accepts what the roles of a grant ask to be acknowledged, why, and on which date.
type Acceptance struct{ By, Why, Date string }

// Acknowledge adds to a grant's body who accepted what its roles ask and nobody has accepted yet. It refuses
// where no reason is given.
func Acknowledge(e *estate.Estate, body *yaml.Node, a Acceptance) error {
	list, err := accepted(e, body, a)
	if err == nil && len(list) > 0 {
		body.Content = append(body.Content, splice.Scalar(acknowledged), splice.List(list...))
	}
	return err
}

// AcknowledgeIn does so in a grant as it is now.
func (d *Draft) AcknowledgeIn(id string, a Acceptance) error {
	body, err := d.Body("grants", id)
	if err != nil {
		return err
	}
	list, err := accepted(d.estate, body, a)
	if err != nil || len(list) == 0 {
		return err
	}
	return d.Set("grants", id, acknowledged,
		splice.List(append(splice.Items(splice.Under(body, acknowledged)), list...)...))
}

const acknowledged = "acknowledged"

// accepted makes the entries that a grant's body lacks.
func accepted(e *estate.Estate, body *yaml.Node, a Acceptance) (out []*yaml.Node, err error) {
	var done []string
	for _, n := range splice.Items(splice.Under(body, acknowledged)) {
		if role := splice.Under(n, "role"); role != nil {
			done = append(done, role.Value)
		}
	}
	roles := slices.Concat(splice.Items(splice.Under(body, "role")), splice.Items(splice.Under(body, "roles")))
	for _, n := range roles {
		r := e.Roles[n.Value]
		if r == nil || r.Acknowledge == "" || slices.Contains(done, r.ID) {
			continue
		}
		if a.Why == "" {
			return nil, &Error{
				Message: fmt.Sprintf("role %s asks whoever grants it to accept: %s", r.ID, r.Acknowledge),
				Help:    "say why it is so, with --acknowledge \"…\"",
			}
		}
		why := splice.Scalar(a.Why)
		why.Style = yaml.DoubleQuotedStyle
		out = append(out, splice.Map(splice.Scalar("role"), splice.Scalar(r.ID), splice.Scalar("by"), splice.Scalar(a.By),
			splice.Scalar("why"), why, splice.Scalar("date"), splice.Scalar(a.Date)))
	}
	return out, nil
}
