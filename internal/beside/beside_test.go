package beside

import (
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAFaultReachesWhoeverWaits(t *testing.T) {
	var done atomic.Int32
	var g Group
	for i := range 8 {
		g.Go(func() {
			if i == 3 {
				panic("here")
			}
			done.Add(1)
		})
	}
	assert.PanicsWithValue(t, "here", g.Wait)
	assert.EqualValues(t, 7, done.Load())
}
