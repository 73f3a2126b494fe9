package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/starter"
)

// at is the clock of these tests.
func at() time.Time { return time.Date(2027, 12, 1, 10, 0, 0, 0, time.UTC) }

func demo(t *testing.T) (dir string, g *gate.Gate) {
	dir = filepath.Join(t.TempDir(), "demo")
	require.NoError(t, starter.Write(starter.Demo(), dir))
	g, err := (&app{ctx: t.Context(), dir: dir}).compiled()
	require.NoError(t, err)
	return dir, g
}

func hgate(dir, in string, args ...string) (out, problems string, code int) {
	var o, e bytes.Buffer
	code = Run(context.Background(), append([]string{"-C", dir}, args...),
		Streams{In: strings.NewReader(in), Out: &o, Err: &e}, at)
	return o.String(), e.String(), code
}

// What a failing test prints to paste is the same request: for every test, try with those flags says what it expects.
func TestATestsFlagsAskTheSame(t *testing.T) {
	dir, g := demo(t)
	tried := 0
	for _, test := range estate.Sorted(g.Estate().Tests) {
		for want, selections := range map[int][]estate.Selection{exitYes: test.Allowed, exitNo: test.Denied} {
			for _, s := range selections {
				if s.Operation.Kind != estate.ByName || s.Place.In == nil || !s.Place.In.Plain() {
					continue
				}
				r := g.Estate().Listed(s.Place.In.Address())
				if g.Estate().Offer(r.System.Kind.ID).Valid(s.Operation.Name, r.Type) == nil {
					continue
				}
				for _, who := range g.Members(test.Who) {
					args := []string{"try", who.String(), s.Operation.Name, s.Place.String()}
					for _, word := range strings.Fields(askFlags(g.Estate().Zone, &test.Given)) {
						args = append(args, strings.Trim(word, "'"))
					}
					_, problems, code := hgate(dir, "", args...)
					assert.Equal(t, want, code, "%v %s", args, problems)
					tried++
				}
			}
		}
	}
	assert.Greater(t, tried, 25)
}

// A batch of requests and the same requests one by one get the same answers.
func TestBatchAndTryAgree(t *testing.T) {
	dir, g := demo(t)
	d := rand.New(rand.NewPCG(1, 2))
	var lines []string
	var single [][]string
	for len(lines) < 60 {
		r := g.Estate().Tree.At(d.IntN(g.Estate().Tree.Len()))
		ops := g.Estate().Offer(r.System.Kind.ID).On(r.Type)
		people := g.Subjects()
		who := people[d.IntN(len(people))]
		context := map[string]any{}
		args := []string{"try", who.String(), ops[d.IntN(len(ops))].Name, r.Address.String(), "--format", "json"}
		say := func(key, flag string, value any, text string) {
			if d.IntN(2) == 0 {
				context[key] = value
				args = append(args, flag, text)
			}
		}
		hour := fmt.Sprintf("2027-12-01T%02d:30", d.IntN(24))
		say("time", "--at", hour, hour)
		say("network", "--network", "10.40.3.7", "10.40.3.7")
		say("mfa", "--mfa", true, "yes")
		say("sign-in", "--sign-in", "key", "key")
		say("reason", "--reason", "because", "because")
		say("ticket", "--ticket", false, "")
		say("device", "--context", 7, "device=7")
		kind := map[estate.PrincipalKind]string{estate.IsPerson: "person", estate.IsService: "service",
			estate.IsAnonymous: "anonymous"}[who.Kind]
		line, err := json.Marshal(map[string]any{"subject": map[string]string{"type": kind, "id": who.ID},
			"action":   map[string]string{"name": args[2]},
			"resource": map[string]string{"type": r.Type, "id": args[3]}, "context": context})
		require.NoError(t, err)
		lines, single = append(lines, string(line)), append(single, args)
	}
	out, problems, code := hgate(dir, strings.Join(lines, "\n"), "try", "--batch", "-", "--why")
	require.Equal(t, exitYes, code, problems)
	answers := strings.Split(strings.TrimSpace(out), "\n")
	require.Len(t, answers, len(lines))
	for i, args := range single {
		var many struct {
			Decision bool
			Context  struct {
				Outcome        string
				Grants, Blocks []string
			}
		}
		require.NoError(t, json.Unmarshal([]byte(answers[i]), &many))
		text, problems, _ := hgate(dir, "", args...)
		var one struct {
			Decision       string
			Grants, Blocks []string
		}
		require.NoError(t, json.Unmarshal([]byte(text), &one), "%v: %s", args, problems)
		assert.Equal(t, one.Decision, many.Context.Outcome, "%v", args)
		assert.Equal(t, one.Decision == "allow", many.Decision)
		assert.Equal(t, one.Grants, many.Context.Grants)
		assert.Equal(t, one.Blocks, many.Context.Blocks)
	}
}

// Whatever can be listed can be shown, as text and as JSON, and no text is wider than the page but for long words.
func TestEverythingListedCanBeShown(t *testing.T) {
	dir, g := demo(t)
	for _, l := range listings {
		out, problems, code := hgate(dir, "", "list", l.many, "--format", "json")
		require.Equal(t, exitYes, code, problems)
		var list struct{ Rows []map[string]any }
		require.NoError(t, json.Unmarshal([]byte(out), &list))
		require.Len(t, list.Rows, len(l.ids(g)), l.many)
		text, _, code := hgate(dir, "", "list", l.many)
		require.Equal(t, exitYes, code)
		for i, row := range list.Rows {
			id := row["id"].(string)
			assert.Contains(t, text, id)
			if i > 5 {
				continue
			}
			shown, problems, code := hgate(dir, "", "show", l.one, id)
			require.Equal(t, exitYes, code, problems)
			for line := range strings.Lines(shown) {
				assert.LessOrEqual(t, len([]rune(line)), 101, "show %s %s: %s", l.one, id, line)
			}
			shown, _, _ = hgate(dir, "", "show", l.one, id, "--format", "json")
			var one map[string]any
			require.NoError(t, json.Unmarshal([]byte(shown), &one))
			assert.Equal(t, id, one["id"])
		}
	}
}

// Every section of the files can be listed, and completion offers the words that the table of fields knows.
func TestCompletionKnowsTheTableOfFields(t *testing.T) {
	dir, _ := demo(t)
	offered, _, _ := hgate(dir, "", "__complete", "list", "")
	for _, p := range policyfile.Pages() {
		if slices.Contains(estate.SectionNames, p.Name) && p.Name != "catalogs" { // which are kinds
			assert.Contains(t, offered, p.Name+"\n")
		}
	}
	offered, _, _ = hgate(dir, "", "__complete", "try", "--sign-in", "")
	for _, how := range estate.SignIns {
		assert.Contains(t, offered, how+"\n")
	}
}

func TestColourIsForTerminalsOrOnDemand(t *testing.T) {
	dir, _ := demo(t)
	plain, _, _ := hgate(dir, "", "test")
	assert.NotContains(t, plain, "\x1b[")
	painted, _, _ := hgate(dir, "", "test", "--color", "always")
	assert.Contains(t, painted, "\x1b[")
	t.Setenv("COLUMNS", "60")
	narrow, _, _ := hgate(dir, "", "reach", "lucas.amarel")
	wide, _, _ := hgate(dir, "", "reach", "lucas.amarel", "--color", "never")
	assert.Equal(t, narrow, wide)
	for line := range strings.Lines(narrow) {
		assert.LessOrEqual(t, len([]rune(line)), 75, line) // the longest words stand out
	}
}

func TestNothingButAFolderWithSettingsIsAWorkspace(t *testing.T) {
	dir := t.TempDir()
	_, problems, code := hgate(dir, "", "check")
	assert.Equal(t, exitWrong, code)
	assert.Contains(t, problems, "hgate new")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "hidden-gate.yaml"), []byte("hidden-gate: 2\n"), 0o600))
	_, problems, code = hgate(dir, "", "check")
	assert.Equal(t, exitWrong, code)
	assert.Contains(t, problems, `hidden-gate.yaml:1:14: error: "2" is no number from 1 to 1`)
}
