package policyfile

import (
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/estate"
)

// matching is whom a group gathers beside those that it lists.
type matching struct{ tags, certificate []estate.Match }

// certificateKey asks of a certificate what stands under it; with a text it is a tag like any other.
const certificateKey = "certificate"

var certificateMatches = matchesForm("parts of a certificate", func(key string) error {
	if !slices.Contains(estate.CertificateParts, key) {
		return fmt.Errorf("%q is no part of a certificate: write %s", key, strings.Join(estate.CertificateParts, ", "))
	}
	return nil
}, func(r *reader, n *yaml.Node, values []string) bool {
	if slices.Contains(values, "") {
		r.wrong(n, "leave the part out", "what a certificate says is never empty")
		return false
	}
	return true
})

// groupMatch reads tags to match, and what a certificate has to say.
var groupMatch = form[matching]{name: "tags to match", schema: object{"type": "object", "minProperties": 1,
	"additionalProperties": listOf(textForm).schema, "properties": object{certificateKey: object{"anyOf": []any{
		listOf(textForm).schema, object{"type": "object", "minProperties": 1, "additionalProperties": false,
			"properties": certificateProperties()}}}}},
	read: func(r *reader, n *yaml.Node) (out matching, ok bool) {
		rest, fine := *n, true
		rest.Content = nil
		ok = r.pairs(n, "tags to match, as in {team: domes}", func(key, value *yaml.Node) {
			if key.Value == certificateKey && value.Kind == yaml.MappingNode {
				out.certificate, fine = certificateMatches.read(r, value)
			} else {
				rest.Content = append(rest.Content, key, value)
			}
		})
		if ok && (len(rest.Content) > 0 || out.certificate == nil) {
			out.tags, ok = tagMatches.read(r, &rest)
		}
		return out, ok && fine
	}}

func certificateProperties() object {
	out := object{}
	for _, part := range estate.CertificateParts {
		out[part] = listOf(textForm).schema
	}
	return out
}

// matchField keeps what a certificate has to say as a match of tags beside the others, and for itself.
var matchField = func() field {
	f := fieldAt("match", groupMatch, "and every person and service whose tags say so, in every key; with "+
		"`certificate: {unit: domes}` whoever holds a certificate that counts and says so: "+
		strings.Join(estate.CertificateParts, ", "), func(g *estate.Group, m matching) {
		if g.Match, g.Certificate = m.tags, m.certificate; m.certificate != nil {
			g.Match = append(g.Match, estate.CertificateMatch(m.certificate))
		}
	})
	f.value = func(entry any) (any, bool) {
		g, ok := entry.(*estate.Group)
		if !ok {
			return nil, false
		}
		return g.Match, true
	}
	return f
}()
