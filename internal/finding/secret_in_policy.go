package finding

import (
	"math"
	"regexp"
	"strings"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var secretInPolicy = &Finding{
	Code: "secret-in-policy", Severity: diagnostic.Error,
	Doc: "A text looks like a password, a key or a token. Whoever reads the policy reads it too, and it stays in the " +
		"history when it is taken out.",
	Cure: "take it out, and change the secret where it is used: it is known now",
	find: func(c *check) {
		for _, section := range estate.SectionNames {
			for _, o := range c.section(section) {
				for key, text := range map[string]string{"title": o.Title, "about": o.About, "why": o.Why} {
					if kind := secret(text); kind != "" {
						c.report(o, o.Source.Position, "%s of %s %s holds %s", key, estate.Singular(section), o.ID, kind)
					}
				}
			}
		}
		tags := func(what string, o *estate.Object, list estate.Tags) {
			for _, t := range list {
				if kind := secretTag(t); kind != "" {
					c.report(o, o.Source.Position, "the tag %s of %s holds %s", t.Key, named(what, o), kind)
				}
			}
		}
		c.subjects(func(what string, s *estate.Subject) { tags(what, &s.Object, s.Tags) })
		for _, g := range estate.Sorted(c.about.Groups) {
			tags("group", &g.Object, g.Tags)
		}
		for _, s := range estate.Sorted(c.about.Systems) {
			tags("system", &s.Object, s.Tags)
		}
		told := map[string]bool{}
		tree := c.about.Tree
		for i, row := range tree.Rows {
			for _, t := range tree.Tags[row.Tags] {
				if kind := secretTag(t); kind != "" && !told[t.Value] {
					told[t.Value] = true
					if entry := tree.Entry(i); entry != nil {
						c.report(&entry.Object, entry.Source.Position, "the tag %s of %s holds %s", t.Key, tree.Address(i), kind)
					}
				}
			}
		}
	},
}

var (
	keyBlock = regexp.MustCompile(`-----BEGIN [A-Z ]*PRIVATE KEY-----`)
	assigned = regexp.MustCompile(`(?i)\b(password|passwd|passphrase|secret|token|api[ -]?key)` +
		`(\s*[=:]\s*["']?[^\s"']{6,}|\s+is\s+["']?[^\s"']*\d[^\s"']*)`)
	inAddress  = regexp.MustCompile(`[a-z][a-z0-9+.-]*://[^/\s:@]+:[^/\s:@]{3,}@`)
	word       = regexp.MustCompile(`[A-Za-z0-9+/_=-]{24,}`)
	secretKeys = regexp.MustCompile(`(?i)^(.*[-_.])?(password|passwd|passphrase|secret|token|api-?key|private-?key)$`)
)

// secret says what secret a text seems to hold; "" if none.
func secret(text string) string {
	switch {
	case text == "":
		return ""
	case keyBlock.MatchString(text):
		return "a private key"
	case inAddress.MatchString(text):
		return "a password in an address"
	case assigned.MatchString(text):
		return "what looks like a password"
	}
	for _, w := range word.FindAllString(text, -1) {
		if random(w) {
			return "what looks like a key or token"
		}
	}
	return ""
}

// sayings are values that say whether there is a secret, and are none.
var sayings = map[string]bool{"": true, "yes": true, "no": true, "true": true, "false": true, "on": true, "off": true,
	"none": true, "some": true, "required": true, "optional": true}

func secretTag(t estate.Tag) string {
	if !sayings[strings.ToLower(t.Value)] && secretKeys.MatchString(t.Key) {
		return "what its name says is secret"
	}
	return secret(t.Value)
}

// random says whether a word has letters of both sizes and digits, as evenly as no word of a language: more than 3.9
// bits for each character.
func random(w string) bool {
	var lower, upper, digit bool
	counts := map[rune]int{}
	for _, c := range w {
		lower = lower || c >= 'a' && c <= 'z'
		upper = upper || c >= 'A' && c <= 'Z'
		digit = digit || c >= '0' && c <= '9'
		counts[c]++
	}
	bits := 0.0
	for _, n := range counts {
		p := float64(n) / float64(len(w))
		bits -= p * math.Log2(p)
	}
	return lower && upper && digit && bits > 3.9
}
