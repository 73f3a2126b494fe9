package lending

import (
	"crypto/x509"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/estate"
)

// said gives what a credential says, by estate.CertificateParts. One for SSH says who signed it, its serial number and
// for whom it is.
func (r *Request) said() map[string][]string {
	i := r.Credential.Issued
	out := map[string][]string{"issuer": {i.Authority}, "serial": {i.Serial}}
	if c, err := i.X509(); err == nil {
		sayName(out, c)
	}
	return out
}

func sayName(out map[string][]string, c *x509.Certificate) {
	out["issuer"] = append(out["issuer"], c.Issuer.String())
	out["full-name"] = []string{c.Subject.String()}
	out["common-name"] = []string{c.Subject.CommonName}
	out["organisation"] = c.Subject.Organization
	out["unit"] = c.Subject.OrganizationalUnit
	for _, one := range credential.AlternativesOf(c) {
		out[one.Part] = append(out[one.Part], one.Text)
	}
}

// Says says whether a credential that was issued says all that a group asks for.
func (r *Request) Says(parts []estate.Match) bool {
	if len(parts) == 0 || r.Credential == nil || r.Credential.Issued == nil {
		return false
	}
	said := r.said()
	return !slices.ContainsFunc(parts, func(m estate.Match) bool {
		return !slices.ContainsFunc(
			said[m.Key],
			func(text string) bool { return text != "" && slices.Contains(m.Values, text) },
		)
	})
}

// Certified gives an estate in which whoever holds a credential that counts at an instant belongs to the groups that
// ask for what it says. Who may ask for one and approve it is judged without that. only is the one credential that
// counts for its holder; nil where all do.
func (b *Book) Certified(list []*Request, at clock.Instant, only *Request) *estate.Estate {
	e := b.estate()
	asking := e.Certifying()
	groups := map[estate.Principal][]*estate.Group{}
	for _, r := range list {
		if r.Credential == nil || r.Credential.Issued == nil || only != nil && r.Subject == only.Subject &&
			r.Number != only.Number || e.Subject(r.Subject) == nil || b.Failing(r, at) != "" {
			continue
		}
		for _, g := range asking {
			if r.Says(g.Certificate) {
				groups[r.Subject] = append(groups[r.Subject], g)
			}
		}
	}
	var edits []estate.Edit
	for p, list := range groups {
		one := *e.Subject(p)
		one.Tags = one.Certified(list)
		section := "people"
		if p.Kind == estate.IsService {
			section = "services"
		}
		edits = append(edits, estate.Put(section, &one))
	}
	if len(edits) == 0 {
		return e
	}
	return e.With(edits...)
}
