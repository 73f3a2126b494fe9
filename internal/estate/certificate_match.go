package estate

import "strings"

// CertificateParts are what groups can ask of a certificate: who signed it, the parts of its name, its number in
// hexadecimal, and its whole name as RFC 4514 writes it.
var CertificateParts = []string{"issuer", "common-name", "organisation", "unit", "email", "principal-name", "serial",
	"full-name"}

// certifies begins the key of the tag by which somebody belongs to a group for a certificate that they hold. It has
// spaces, so that no file can give it to anybody.
const certifies = "a certificate that says "

// CertificateMatch gives what a certificate has to say as a match of tags: of those that Certified gives.
func CertificateMatch(parts []Match) Match {
	var said []string
	for _, m := range parts {
		said = append(said, m.Key+" "+strings.Join(m.Values, " or "))
	}
	return Match{Key: certifies + strings.Join(said, ", "), Values: []string{Yes}}
}

// Certified gives the tags of somebody who holds a certificate that says all that some groups ask for.
func (s *Subject) Certified(groups []*Group) Tags {
	out := s.Tags
	for _, g := range groups {
		if key := CertificateMatch(g.Certificate).Key; out.Get(key) == "" {
			out = append(out[:len(out):len(out)], Tag{Key: key, Value: Yes})
		}
	}
	return out
}

// IsCertified says whether a key is that of a tag which Certified gives.
func IsCertified(key string) bool { return strings.HasPrefix(key, certifies) }

// Certifying lists the groups that ask for something of a certificate, by id.
func (e *Estate) Certifying() (out []*Group) {
	for _, g := range Sorted(e.Groups) {
		if len(g.Certificate) > 0 {
			out = append(out, g)
		}
	}
	return out
}
