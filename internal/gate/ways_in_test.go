package gate_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/cli"
	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/evaluation"
	"hiddengate/internal/gate"
)

// line writes a drawn request as a line of a batch; escaped, no text in it is plain.
func (a drawnRequest) line(escaped bool) string {
	text := func(s string) string {
		if !escaped {
			b, _ := json.Marshal(s)
			return string(b)
		}
		var b strings.Builder
		for _, r := range s {
			fmt.Fprintf(&b, `\u%04x`, r)
		}
		return `"` + b.String() + `"`
	}
	kind := map[estate.PrincipalKind]string{estate.IsPerson: "person", estate.IsService: "service",
		estate.IsAnonymous: "anonymous"}[a.who.Kind]
	var context []string
	say := func(key, value string) { context = append(context, fmt.Sprintf("%q:%s", key, value)) }
	if a.at != nil {
		say("time", text(time.UnixMicro(*a.at).UTC().Format(time.RFC3339Nano)))
	}
	if a.from != nil {
		say("network", text(a.from.String()))
	}
	for key, yes := range map[string]*bool{"mfa": a.mfa, "reason": a.reason, "ticket": a.ticket} {
		if yes != nil {
			say(key, fmt.Sprint(*yes))
		}
	}
	if a.signIn != nil {
		say("sign-in", text(*a.signIn))
	}
	if a.ago != nil {
		say("signed-in-within", text(estate.DurationText(*a.ago)))
	}
	if a.device != nil {
		say("device", text(*a.device))
	}
	if len(a.roles) > 0 {
		say("roles", "["+text(a.roles[0])+"]")
	}
	return fmt.Sprintf(`{"subject":{"type":%q,"id":%s},"action":{"name":%s},`+
		`"resource":{"type":"any","id":%s},"context":{%s}}`,
		kind, text(a.who.ID), text(a.operation), text(a.address.String()), strings.Join(context, ","))
}

// oneByOne gives each line in a read of its own, as somebody does who waits for each answer.
type oneByOne struct{ lines []string }

func (o *oneByOne) Read(p []byte) (int, error) {
	if len(o.lines) == 0 {
		return 0, io.EOF
	}
	n := copy(p, o.lines[0]+"\n")
	o.lines = o.lines[1:]
	return n, nil
}

// Whichever way a request comes in, the answer is the oracle's. Every other estate keeps roles apart in a session,
// and asks about no tags, so that the answers in sessions are remembered.
func TestEveryWayInGivesTheOraclesAnswer(t *testing.T) {
	estates := 60
	if testing.Short() {
		estates = 12
	}
	seen := map[string]int{}
	for seed := range estates {
		d := newDraw(uint64(90_000 + seed))
		d.plain = seed%4 < 2
		text := d.estate()
		if apart := strings.Contains(text, "separations:"); seed%2 == 0 && !apart {
			text += fmt.Sprintf("separations: {apart: {roles: %s, within: session}}\n", d.some(2, 3, drawnRoles...))
		}
		e := load(t, text)
		zone, err := time.LoadLocation(e.Zone.Name())
		require.NoError(t, err)
		o := &oracle{e: e, zone: zone}
		times := moments(o)
		var requests []drawnRequest
		var want []string
		for range 40 {
			a, ok := d.asked(e, times)
			if !ok {
				continue
			}
			ask := func(operation string) {
				a.operation = operation
				requests = append(requests, a)
				want = append(want, o.outcome(a.who, a.operation, a.spot, a.partial, times))
				seen[want[len(want)-1]]++
			}
			ask(a.operation)
			system := e.Systems[a.address.System]
			r := e.Listed(a.address)
			if r == nil {
				r = e.Unlisted(a.address)
			}
			// and what is as long to write there: in a buffer the one stands where the other stood
			for _, op := range e.Offer(system.Kind.ID).On(r.Type) {
				if len(op.Name) == len(requests[len(requests)-1].operation) && op.Name != a.operation {
					ask(op.Name)
					break
				}
			}
		}
		for range 12 * len(requests) { // what was asked once is asked again
			k := d.IntN(len(requests))
			requests, want = append(requests, requests[k]), append(want, want[k])
		}
		check := func(way string, k int, got string) {
			require.Equal(t, want[k], got, "seed %d, %s: %s\n%s", seed, way, requests[k].line(false), text)
		}
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		var asking sync.WaitGroup
		answers := [3][]string{}
		for n := range answers {
			fork := g.Fork()
			asking.Go(func() {
				for _, a := range requests {
					outcome, err := fork.Decide(gate.Request{Subject: a.who, Operation: a.operation, Resource: a.address.String(),
						Context: a.context(fork)})
					answer := outcome.String()
					if err != nil {
						answer = "error"
					}
					answers[n] = append(answers[n], answer)
				}
			})
		}
		asking.Wait()
		for _, way := range answers {
			for k, got := range way {
				check("beside others", k, got)
			}
		}
		outcome := func(answer []byte) string {
			var read evaluation.Answer
			require.NoError(t, json.Unmarshal(answer, &read))
			return read.Context.Outcome
		}
		for _, escaped := range []bool{false, true} {
			b := evaluation.New(g.Fork(), evaluation.Options{Now: clock.Of(time.Now()), Open: true})
			var buffer []byte
			for k, a := range requests {
				buffer = append(buffer[:0], a.line(escaped)...)
				answer, _ := b.Append(nil, buffer, nil)
				check(fmt.Sprintf("in one buffer, escaped: %v", escaped), k, outcome(answer))
			}
		}
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(dir+"/hidden-gate.yaml", []byte(text), 0o600))
		var lines []string
		for k, a := range requests {
			lines = append(lines, a.line(k%5 == 0))
		}
		for way, in := range map[string]io.Reader{"a file": strings.NewReader(strings.Join(lines, "\n")),
			"line by line": &oneByOne{lines}} {
			var out, problems bytes.Buffer
			cli.Run(t.Context(), []string{"-C", dir, "try", "--batch", "-", "--at", "any"},
				cli.Streams{In: in, Out: &out, Err: &problems}, time.Now)
			got := bytes.Split(bytes.TrimSpace(out.Bytes()), []byte("\n"))
			require.Len(t, got, len(requests), "%s", problems.String())
			for k := range got {
				check(way, k, outcome(got[k]))
			}
		}
	}
	for _, want := range []string{"allow", "deny", "depends", "error"} {
		require.Greater(t, seen[want], estates/4, "%v", seen)
	}
}
