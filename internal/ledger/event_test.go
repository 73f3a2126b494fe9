package ledger_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/ledger"
)

func chain(t *testing.T, n int) (out []ledger.Event) {
	var head ledger.Head
	for i := range n {
		e, text, err := head.After(
			ledger.Event{Statement: ledger.Statement{Ledger: "here", Time: ledger.Time(i), Actor: "ana",
				Kind: ledger.Approved, Body: json.RawMessage(fmt.Sprintf(`{ "why": ",\"host\":\"body\":", "request":"%d"}`, i))},
				User: "ana", Host: "summit"},
		)
		require.NoError(t, err)
		again, err := ledger.Decode(text)
		require.NoError(t, err)
		require.Equal(t, e, again)
		head = ledger.Head{Number: e.Number, Hash: e.Hash}
		out = append(out, e)
	}
	return out
}

func faults(events [][]byte) (out []string) {
	var c ledger.Chain
	for i, text := range events {
		e, err := ledger.Decode(text)
		if err == nil {
			err = c.Next(int64(i+1), e)
		}
		if err != nil {
			out = append(out, err.Error())
		}
	}
	return out
}

// Any byte of an event that becomes another, any event that goes, comes, or stands elsewhere is found.
func TestEveryChangeOfALedgerIsFound(t *testing.T) {
	var texts [][]byte
	for _, e := range chain(t, 6) {
		text, err := e.Encode()
		require.NoError(t, err)
		texts = append(texts, text)
	}
	require.Empty(t, faults(texts))
	for n, text := range texts {
		for at := range text {
			for _, bit := range []byte{1, 0x20, 0x80} {
				changed := slices.Clone(texts)
				changed[n] = slices.Clone(text)
				changed[n][at] ^= bit
				require.NotEmpty(t, faults(changed), "event %d, byte %d: %s", n+1, at, changed[n])
			}
		}
	}
	for n := range texts[:5] {
		assert.NotEmpty(t, faults(slices.Delete(slices.Clone(texts), n, n+1)), "without event %d", n+1)
		assert.NotEmpty(t, faults(slices.Insert(slices.Clone(texts), n, texts[n])), "event %d twice", n+1)
		swapped := slices.Clone(texts)
		swapped[n], swapped[n+1] = swapped[n+1], swapped[n]
		assert.NotEmpty(t, faults(swapped), "events %d and %d in another order", n+1, n+2)
	}
	// A cut-off end is found by a head that was kept.
	assert.Empty(t, faults(texts[:4]))
}

// What is written again with a right hash does not fit to what follows, whoever worked the hash out.
func TestARewrittenEventBreaksTheChain(t *testing.T) {
	events := chain(t, 3)
	forged, _, err := ledger.Head{
		Number: 1,
		Hash:   events[0].Hash,
	}.After(
		ledger.Event{Statement: ledger.Statement{Ledger: "here",
			Actor: "bo", Kind: ledger.Approved, Body: json.RawMessage(`{}`)}},
	)
	require.NoError(t, err)
	var c ledger.Chain
	require.NoError(t, c.Next(1, events[0]))
	require.NoError(t, c.Next(2, forged))
	require.ErrorContains(t, c.Next(3, events[2]), "does not follow")
}

func TestHeadsAreReadAsTheyAreWritten(t *testing.T) {
	head := ledger.Head{Number: 12, Hash: chain(t, 1)[0].Hash}
	again, err := ledger.ParseHead(head.String())
	require.NoError(t, err)
	assert.Equal(t, head, again)
	for _, text := range []string{"", "12", "12:", ":" + head.Hash, "x:" + head.Hash, "012:" + head.Hash,
		"-1:" + head.Hash,
		"12:" + head.Hash[:63] + "Z", "12:" + head.Hash + "00", "12 :" + head.Hash} {
		_, err := ledger.ParseHead(text)
		assert.Error(t, err, text)
	}
}

// A request matters as long as it may wait, be in force, or has to be signed off.
func TestUntilWhenARequestMatters(t *testing.T) {
	at := func(minute int64) ledger.Time { return ledger.Time(minute * int64(clock.Minute)) }
	event := func(kind ledger.Kind, minute int64, body any) ledger.Event {
		text, err := json.Marshal(body)
		require.NoError(t, err)
		return ledger.Event{Statement: ledger.Statement{Time: at(minute), Kind: kind, Body: text}}
	}
	made := event(ledger.Requested, 0, ledger.RequestBody{Seconds: 3600, DecideBy: at(240)})
	wished := at(600)
	later := event(ledger.Requested, 0, ledger.RequestBody{Seconds: 3600, DecideBy: at(240), Starts: &wished})
	emergency := event(ledger.Requested, 0, ledger.RequestBody{Seconds: 3600, DecideBy: at(240), Emergency: true})
	yes, no, end := event(ledger.Approved, 200, nil), event(ledger.Refused, 100, nil), event(ledger.Finished, 30, nil)
	forever := int64(clock.End / clock.Minute)
	for _, c := range []struct {
		until  int64
		events []ledger.Event
	}{
		{240, []ledger.Event{made}}, {260, []ledger.Event{made, yes}}, {100, []ledger.Event{made, no}},
		{30, []ledger.Event{made, end}}, {660, []ledger.Event{later}}, {660, []ledger.Event{later, yes}},
		{forever, []ledger.Event{emergency}}, {forever, []ledger.Event{emergency, end}}, {100, []ledger.Event{emergency, no}},
		{260, []ledger.Event{emergency, yes}},
	} {
		assert.Equal(t, clock.Instant(c.until)*clock.Minute, ledger.Until(c.events), "%v", c.events)
	}
}
