package policyfile

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
	"golang.org/x/crypto/ssh"

	"hiddengate/internal/estate"
)

// actorsForm keeps where those are named who act by a user of the operating system; they are looked for once all people
// are read.
var actorsForm = form[map[string]estate.SubjectTerm]{
	name:   "people by user",
	schema: object{"type": "object", "additionalProperties": ownerForm.schema},
	read: func(r *reader, n *yaml.Node) (map[string]estate.SubjectTerm, bool) {
		out := map[string]estate.SubjectTerm{}
		ok := r.pairs(n, "people by user, as in {root: hana.kobari}", func(key, value *yaml.Node) {
			p, ok := ownerForm.read(r, value)
			if ok && p.Kind == estate.IsGroup {
				r.wrong(value, "name a person, or service:ID", "a group does not act; one of its members does")
				return
			}
			if ok {
				out[key.Value] = estate.SubjectTerm{Principal: *p, Position: r.at(value)}
			}
		})
		return out, ok
	},
	names: subjectSections,
	naming: func(actors map[string]estate.SubjectTerm, visit func(Naming)) {
		var list estate.Subjects
		for _, user := range slices.Sorted(maps.Keys(actors)) {
			list = append(list, actors[user])
		}
		visit(Naming{Subjects: list})
	},
	sites: func(n *yaml.Node, path []string, visit func(Site)) {
		eachPair(n, func(user, who *yaml.Node) {
			visit(Site{Path: inside(path, user.Value), Node: who, Words: subjectWords(who)})
		})
	},
}

// keyForm reads a public key as OpenSSH writes it: a type, the key in base64 and a comment.
var keyForm = scalarForm(
	"public SSH key",
	pattern(`(ssh-|ecdsa-|sk-)\S+ \S+.*`),
	func(_ *reader, text string) (string, error) {
		key, comment, options, rest, err := ssh.ParseAuthorizedKey([]byte(text))
		if err != nil || len(options) > 0 || len(rest) > 0 {
			return "", fmt.Errorf("%q is no public SSH key: write one line of a file that ends in .pub", text)
		}
		if err := weak(key); err != nil {
			return "", err
		}
		return strings.TrimSpace(strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))) + " " + comment), nil
	},
)

// leastRSA is how many bits an RSA key needs (NIST SP 800-57 part 1, table 2: 112 bits of strength).
const leastRSA = 2048

// weak says what is wrong with a key that no signature should count by.
func weak(key ssh.PublicKey) error {
	switch key.Type() {
	case ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoSKED25519,
		ssh.KeyAlgoSKECDSA256:
		return nil
	case ssh.KeyAlgoRSA:
		if bits := rsaBits(key); bits < leastRSA {
			return fmt.Errorf("an RSA key of %d bits is too weak: use one of at least %d, or ssh-ed25519", bits, leastRSA)
		}
		return nil
	}
	return fmt.Errorf("keys of the type %s do not sign here: use ssh-ed25519", key.Type())
}

func rsaBits(key ssh.PublicKey) int {
	if k, ok := key.(ssh.CryptoPublicKey); ok {
		if size, ok := k.CryptoPublicKey().(interface{ Size() int }); ok {
			return 8 * size.Size()
		}
	}
	return 0
}

var absenceFields = []field{
	of("starts", momentForm, "from when: a whole local day, or an instant, which is included",
		func(a *estate.Absence) **estate.Moment { return &a.Starts }).must(),
	of("ends", momentForm, "until when: a whole local day, which is included, or an instant, which is not",
		func(a *estate.Absence) **estate.Moment { return &a.Ends }).must(),
	of("why", textForm, "why", func(a *estate.Absence) *string { return &a.Why }),
}

var absenceForm = record[estate.Absence]("absence", "an absence", absenceFields)
