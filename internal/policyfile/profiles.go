package policyfile

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/credential"
	"hiddengate/internal/estate"
)

// namesForm reads where each part of the name in a credential comes from; `email: true` is the subject's own address.
var namesForm = form[estate.Tags]{
	name: "parts of a name", schema: object{"type": "object", "propertyNames": object{"enum": anys(estate.NameParts)},
		"additionalProperties": anyScalar},
	read: func(r *reader, n *yaml.Node) (estate.Tags, bool) {
		var out estate.Tags
		ok := r.pairs(n, "parts of a name, as in {common-name: id, unit: tag.team}", func(key, value *yaml.Node) {
			if !slices.Contains(estate.NameParts, key.Value) {
				r.wrong(key, nearestHelp(key.Value, estate.NameParts), "%q is no part of a name", key.Value)
				return
			}
			text, ok := textForm.read(r, value)
			if !ok {
				return
			}
			if text == "true" && key.Value == "email" {
				text = key.Value
			}
			if tag, isTag := strings.CutPrefix(text, "tag."); isTag {
				if err := checkKey(tag); err != nil {
					r.wrong(value, "", "%s", err)
				}
			} else if !slices.Contains(estate.NameSources, text) {
				r.wrong(value, "write one of "+strings.Join(estate.NameSources, ", ")+", or tag.KEY",
					"%q is nothing that a name is made of", text)
			}
			out = append(out, estate.Tag{Key: key.Value, Value: text})
		})
		slices.SortFunc(out, func(a, b estate.Tag) int { return strings.Compare(a.Key, b.Key) })
		return out, ok
	}}

var profiles = sectionOf(heading{"profiles", "profile",
	"What an authority signs for whom, how and for how long. A profile is a resource of its authority too."},
	append([]field{
		of("authority", refTo("systems"), "the system that signs",
			func(p *estate.Profile) *estate.Ref { return &p.Authority }).must().by(Owners),
		of("system", refTo("systems"), "the system into which its credentials let their holders",
			func(p *estate.Profile) *estate.Ref { return &p.System }).by(Owners),
		of("use", oneOf("use of a credential", estate.Uses...), "by whom it is shown: `client` (the default) or `server`",
			func(p *estate.Profile) *string { return &p.Use }).by(Owners),
		of("key", listOf(oneOf("sort of key", estate.KeyAlgorithms...)),
			"the sorts of key that it signs, the first for keys that are made here (ed25519 and ecdsa-p256, where left out)",
			func(p *estate.Profile) *[]string { return &p.Keys }).by(Owners),
		of("longest", durationForm, "for how long at most",
			func(p *estate.Profile) *time.Duration { return &p.Longest }).must().by(Owners),
		of("approvals", countForm(0, 100), "how many have to approve a request",
			func(p *estate.Profile) *int { return &p.Approvals }).by(Owners),
		of("approvers", subjectsForm, "who of those that may approve; left out: all of them",
			func(p *estate.Profile) *estate.Subjects { return &p.Approvers }).by(Owners),
		of("holders", subjectsForm, "whom a credential may name; left out: every person and service",
			func(p *estate.Profile) *estate.Subjects { return &p.Holders }).by(Owners),
		of("names", namesForm, "what a certificate says of its holder, and from where (`common-name: id`, where left out)",
			func(p *estate.Profile) *estate.Tags { return &p.Names }).by(Owners),
		of("open", flagForm, "somebody without an account may ask, and nothing comes of it without an approval",
			func(p *estate.Profile) *bool { return &p.Open }).by(Owners),
		of("tags", tagsForm, "values for conditions and scopes",
			func(p *estate.Profile) *estate.Tags { return &p.Tags }).by(ByEffect),
	}, times(Owners, func(p *estate.Profile) **estate.Moment { return &p.Starts },
		func(p *estate.Profile) **estate.Moment { return &p.Ends })...),
	func(e *estate.Estate) map[string]*estate.Profile { return e.Profiles },
	func(r *reader, p *estate.Profile, n *yaml.Node) {
		if p.Use == "" {
			p.Use = estate.Uses[0]
		}
		if p.Open && p.Approvals == 0 {
			r.wrong(n, "add approvals: 1", "profile %s is open to strangers and needs no approval", p.ID)
		}
	})

// resolveProfiles sees that what signs for a profile is an authority, and that it can.
func (l *loader) resolveProfiles() {
	e := l.estate
	for _, s := range estate.Sorted(e.Systems) {
		if !e.IsAuthority(s) {
			if s.Makes != "" || s.Anchors != nil || s.Chain != nil {
				l.fail(s.Source.Position, "take `makes`, `anchors` and `chain` out, or write kind: "+estate.AuthorityKind,
					"system %s is no authority, and so makes no credentials", s.ID)
			}
			continue
		}
		if s.Makes == estate.MakesSSH && s.Chain != nil {
			l.fail(s.Source.Position, "take `chain` out", "system %s makes certificates for ssh, and those have no chain", s.ID)
		}
		for key, list := range map[string][]string{"anchors": s.Anchors, "chain": s.Chain} {
			for i, text := range list {
				if _, err := credential.ParseAnchor(s.Makes, text); err != nil {
					l.fail(s.Source.Position, "hgate credential authority make writes them", "system %s, number %d of `%s`: %s",
						s.ID, i+1, key, err)
				}
			}
		}
	}
	for _, p := range estate.Sorted(e.Profiles) {
		s := e.Systems[p.Authority.ID]
		if s == nil {
			continue // which was told
		}
		if !e.IsAuthority(s) {
			l.fail(p.Authority.Position, "name a system of kind "+estate.AuthorityKind,
				"system %s is no authority: it is a %s", s.ID, s.Kind.ID)
			continue
		}
		if why := wrongProfile(p, s); why != nil {
			l.fail(p.Source.Position, "", "profile %s: %s", p.ID, why)
		}
	}
}

// wrongProfile says what an authority cannot make as a profile says.
func wrongProfile(p *estate.Profile, s *estate.System) error {
	if s.Makes == estate.MakesSSH {
		switch {
		case p.Use != estate.Uses[0]:
			return fmt.Errorf("an authority for SSH makes certificates for clients alone")
		case p.Names != nil:
			return fmt.Errorf("a certificate for SSH names accounts, and has no `names`")
		case p.System.ID == "":
			return fmt.Errorf("a certificate for SSH is for accounts of a system: add `system`")
		}
	}
	for _, name := range p.Names {
		if name.Value == "account" && p.System.ID == "" {
			return fmt.Errorf("%s comes from an account, and no `system` says where", name.Key)
		}
		if p.Use == estate.Uses[0] && name.Key == "dns" {
			return fmt.Errorf("a client has no name in dns")
		}
	}
	return nil
}
