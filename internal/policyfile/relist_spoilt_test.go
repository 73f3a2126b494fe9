package policyfile

import (
	"math/rand/v2"
	"slices"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
)

// spoil changes a text somewhere: a byte, or some that go or stand twice.
func spoil(d *rand.Rand, text []byte) []byte {
	at := d.IntN(len(text))
	to := min(len(text), at+d.IntN(60))
	switch d.IntN(3) {
	case 0:
		const some = "abk{}:\"\n 019,/"
		out := slices.Clone(text)
		out[at] = some[d.IntN(len(some))]
		return out
	case 1:
		return slices.Concat(text[:at], text[to:])
	}
	return slices.Concat(text[:to], text[at:])
}

// Files that somebody spoils are read again as they are read anew: with the same errors, or to the same end.
func TestSpoiltFilesAreReadAgainAsAnew(t *testing.T) {
	text := map[string]string{
		"hidden-gate.yaml": "hidden-gate: 1\nedition: 2\ninventories: [{resources: list.ndjson}]\n",
		"systems.yaml": `people: {boss: {}}
groups: {crew: {}}
systems:
  db: {kind: database, tags: {x: "0"}, resources: {b/C/b: {tags: {y: "9"}}, k: {title: K, rows: {owner: who}}}}
  box: {kind: server, owner: boss, unlisted: judge}
  ca: {kind: authority, makes: ssh}
`,
		"list.ndjson": `{"at": "db:first"}
{"at": "db:a/b", "owner": "boss"}
{"at": "box:k/l", "tags": {"x": "1"}, "type": "area"}
{"at": "db:b/C"}
`}
	was := fstest.MapFS{}
	for name := range text {
		was[name] = &fstest.MapFile{Data: []byte(text[name])}
	}
	before, err := Load(was)
	require.NoError(t, err)
	part, wrong := 0, 0
	for seed := range uint64(1500) {
		d := rand.New(rand.NewPCG(seed, 7))
		is := fstest.MapFS{"hidden-gate.yaml": was["hidden-gate.yaml"]}
		var changed []string
		for _, name := range []string{"systems.yaml", "list.ndjson"} {
			if is[name] = was[name]; d.IntN(3) > 0 {
				is[name] = &fstest.MapFile{Data: spoil(d, was[name].Data)}
				changed = append(changed, name)
			}
		}
		want, errWant := Load(is)
		got, err := Reload(was, is, before, changed)
		require.Equal(t, errWant, err, "seed %d", seed)
		switch {
		case err != nil:
			wrong++
		case want.Groups["crew"] != nil:
			require.Equal(t, describe(want), describe(got), "seed %d", seed)
			if reload(was, is, before, changed) != nil {
				part++
			}
		}
	}
	require.Greater(t, part, 100)
	require.Greater(t, wrong, 100)
}
