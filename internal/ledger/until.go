package ledger

import (
	"encoding/json"

	"hiddengate/internal/clock"
)

// Until gives the instant from which a request, by the events about it, in order, matters no more to what is in force
// or waits to be decided, as far as the events alone tell; clock.End, if it waits to be signed off. It takes every
// event for one that counts: the policy may say that less of it is so, never more.
func Until(events []Event) clock.Instant {
	var until clock.Instant
	var body RequestBody
	for _, e := range events {
		at := clock.Instant(e.Time)
		switch e.Kind {
		case Requested, Wanted:
			if json.Unmarshal(e.Body, &body) != nil {
				return until
			}
			if until = body.over(at); body.Emergency {
				until = clock.End
			} else {
				until = max(until, clock.Instant(body.DecideBy))
			}
		case Approved:
			if body.Emergency {
				return max(body.over(clock.Instant(events[0].Time)), body.over(at))
			}
			until = max(until, body.over(at))
		case Issued:
			var issued IssuedBody
			if json.Unmarshal(e.Body, &issued) == nil {
				until = max(until, clock.Instant(issued.Ends))
			}
		case Refused, Finished:
			if body.Credential != nil && until > at {
				continue // what was issued before is there to its end
			}
			if body.Emergency && e.Kind == Finished && until == clock.End {
				continue // it still waits to be signed off
			}
			return at
		}
	}
	return until
}

// over is when a loan is over that begins at an instant, or when it is wished.
func (b *RequestBody) over(begins clock.Instant) clock.Instant {
	if b.Starts != nil {
		begins = max(begins, clock.Instant(*b.Starts))
	}
	return begins + clock.Instant(b.Seconds)*clock.Second
}
