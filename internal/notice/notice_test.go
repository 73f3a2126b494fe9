package notice

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"hiddengate/internal/clock"
)

// The pauses grow from seconds to an hour and a half at most, and all tries together last more than a day.
func TestPausesGrow(t *testing.T) {
	all := clock.Instant(0)
	for tries := 1; !GivenUp(tries); tries++ {
		pause := Next(tries, all) - all
		least := firstPause << min(tries-1, 20)
		assert.GreaterOrEqual(t, pause, clock.Instant(min(least, mostPause).Microseconds()), tries)
		assert.LessOrEqual(t, pause, clock.Instant((mostPause + mostPause/2).Microseconds()), tries)
		all += pause
	}
	assert.Greater(t, all, clock.Instant(clock.Day))
	assert.Less(t, Next(1, 0), clock.Instant((10 * time.Second).Microseconds()))
}

// A signature is of the body and of the time, and of nothing that reads like another body at another time.
func TestASignatureIsOfBodyAndTime(t *testing.T) {
	one := Sign("Jefe", 28, []byte("what do ya want for nothing?"))
	assert.Len(t, one, 64)
	assert.NotEqual(t, one, Sign("Jefe", 29, []byte("what do ya want for nothing?")))
	assert.NotEqual(t, one, Sign("Jeff", 28, []byte("what do ya want for nothing?")))
	assert.NotEqual(t, one, Sign("Jefe", 28, []byte("what do ya want for nothing!")))
	assert.NotEqual(t, Sign("k", 1, []byte("2.x")), Sign("k", 12, []byte(".x")))
}
